"""Pages from Jinja templates."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import Request
from fastapi.templating import Jinja2Templates
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from starlette.responses import Response

from gefa import __version__
from gefa.web import template_filters

HERE = Path(__file__).parent
STATIC = HERE / "static"

_environment = Environment(
    loader=FileSystemLoader(HERE / "templates"),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
_environment.filters.update(template_filters.FILTERS)
_environment.globals.update(version=__version__, count=template_filters.count)
_macros = _environment.get_template("_bar.html").make_module()
_environment.globals["bar"] = vars(_macros)["bar"]


def _visitor(request: Request) -> dict[str, Any]:
    visitor = getattr(request.state, "visitor", None)
    return {
        "visitor": visitor,
        "may": visitor.may if visitor else _may_nothing,
        "site_folder": getattr(request.app.state, "site", None),
    }


def _may_nothing(permission: str) -> bool:
    return False


_templates = Jinja2Templates(env=_environment, context_processors=[_visitor])


def page(
    request: Request,
    template: str,
    *,
    status_code: int = 200,
    headers: dict[str, str] | None = None,
    **context: Any,
) -> Response:
    """A rendered template as the answer to ``request``; going back to it asks for it again."""
    fresh = {"Cache-Control": "no-store"} | (headers or {})
    return _templates.TemplateResponse(
        request, template, context, status_code=status_code, headers=fresh
    )


def fragment(template: str, **context: Any) -> str:
    """A rendered template as text, for events."""
    return _environment.get_template(template).render(**context)

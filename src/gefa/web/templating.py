"""Pages from Jinja templates."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import Request
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from starlette.responses import HTMLResponse, Response

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


def page(
    request: Request,
    template: str,
    *,
    status_code: int = 200,
    headers: dict[str, str] | None = None,
    **context: Any,
) -> Response:
    """A rendered template as the answer to ``request``; browsers request it again when
    going back."""
    fresh = {"Cache-Control": "no-store"} | (headers or {})
    shown = _visitor(request) | {"request": request} | context
    return HTMLResponse(fragment(template, **shown), status_code, fresh)


def fragment(template: str, **context: Any) -> str:
    """A rendered template as text, for events."""
    return template_filters.with_units(_environment.get_template(template).render(**context))

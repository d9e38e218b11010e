"""Errors as answers: ``application/problem+json`` (RFC 9457) for the API, a page for people."""

from __future__ import annotations

import logging
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException

from gefa.core.errors import GefaError
from gefa.core.files import lacks_room
from gefa.web.templating import page

log = logging.getLogger("gefa.web")
PROBLEM_JSON = "application/problem+json"


class Problem(HTTPException):
    """An answer that says what is wrong and what to do about it."""

    def __init__(
        self, status: int, title: str, detail: str, headers: dict[str, str] | None = None
    ) -> None:
        super().__init__(status, detail, headers)
        self.title = title


def problem_body(status: int, title: str, detail: str, **more: Any) -> dict[str, Any]:
    # It may quote what came, also halves of characters, which cannot be written.
    plain = detail.encode("utf-8", "replace").decode()
    return {"type": "about:blank", "title": title, "status": status, "detail": plain, **more}


def add_handlers(app: FastAPI) -> None:
    """Answer every error in the form its client can read."""
    app.add_exception_handler(HTTPException, _on_http_error)
    app.add_exception_handler(RequestValidationError, _on_invalid)
    app.add_exception_handler(GefaError, _on_trouble)
    app.add_exception_handler(OSError, _on_machine)
    app.add_exception_handler(OperationalError, _on_machine)
    app.add_exception_handler(OverflowError, _on_overflow)
    app.add_exception_handler(Exception, _on_crash)


def _answer(
    request: Request,
    status: int,
    title: str,
    detail: str,
    headers: dict[str, str] | None = None,
) -> Response:
    if _wants_json(request):
        body = problem_body(status, title, detail)
        return JSONResponse(body, status, headers=headers, media_type=PROBLEM_JSON)
    return page(
        request, "error.html", status_code=status, headers=headers, title=title, detail=detail
    )


def _wants_json(request: Request) -> bool:
    return "HX-Request" in request.headers or request.url.path.startswith(("/api/", "/m/"))


async def _on_http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    phrase = HTTPStatus(error.status_code).phrase
    title = error.title if isinstance(error, Problem) else phrase
    detail = error.detail if error.detail != phrase else _EXPLAINED.get(error.status_code, phrase)
    headers = dict(error.headers) if error.headers else None
    who_asks = getattr(request.app.state, "who_asks", None)
    if who_asks and not _wants_json(request) and not hasattr(request.state, "visitor"):
        await who_asks(request)  # an address that no route has: its page has the usual links
    return _answer(request, error.status_code, title, detail, headers)


_EXPLAINED = {
    404: "There is nothing at this address. It may have been removed, or the link has a typo.",
    405: "This address does not accept that kind of request.",
}


async def _on_trouble(request: Request, error: Exception) -> Response:
    """Errors about things that people gave us; screens that can say more handle them themselves."""
    return _answer(request, 409, "Not possible now", str(error))


async def _on_invalid(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    detail = "; ".join(
        f"{'.'.join(str(step) for step in problem['loc'][1:]) or 'body'}: {problem['msg']}"
        for problem in error.errors()
    )
    return _answer(request, 422, "The request is not valid", detail)


def no_room() -> Problem:
    return Problem(
        507,
        "The disk is full",
        "Gefa accepts nothing new until there is room again. What was accepted is kept, and"
        " continues then.",
        {"Retry-After": "60", "Connection": "close"},
    )


async def _on_machine(request: Request, error: Exception) -> Response:
    """Shortages of the machine, which are neither our mistake nor the client's."""
    if lacks_room(error):
        log.warning("the disk is full; nothing new is accepted until there is room")
        problem = no_room()
        headers = dict(problem.headers or {})
        return _answer(request, problem.status_code, problem.title, problem.detail, headers)
    if isinstance(error, OperationalError):
        log.warning("the database cannot be used: %s", error.orig)
        detail = "The database is not available. Try again in a moment."
        return _answer(request, 503, "Not now", detail, {"Retry-After": "10"})
    log.exception("%s %s", request.method, request.url.path, exc_info=error)
    return await _on_crash(request, error)


async def _on_overflow(request: Request, error: Exception) -> Response:
    """A number in an address that is too large for the database."""
    return _answer(request, 404, "Not Found", _EXPLAINED[404])


async def _on_crash(request: Request, error: Exception) -> Response:
    return _answer(
        request,
        500,
        "Gefa made a mistake",
        f"Gefa made a mistake ({type(error).__name__}). Nothing of yours is lost; see the server's"
        " log.",
    )

"""Limits of requests, before anything reads them: bytes, rates, and a key for the API."""

from __future__ import annotations

from math import ceil

import anyio.to_thread
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from gefa.store.actor import Actor, acting
from gefa.store.keys import name_of_key
from gefa.store.store import Store
from gefa.web.problems import PROBLEM_JSON, Problem, problem_body
from gefa.web.rates import API, CHANGES, WRONG_KEYS, Rates

JSON_BYTES = 64_000
FORM_BYTES = 4_000_000
"""of a page's form: thousands of ticked parts with their paths"""
_LIMIT = "gefa.body_limit"
_BEARER = "bearer"


class BodyLimit:
    """The number of bytes of a request's body to read; routes that take files raise it."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.come = 0

    def check(self, more: int) -> None:
        self.come += more
        if self.come > self.most:
            raise Problem(
                413,
                "Too large",
                f"The request has more than {self.most:,} bytes.",
                {"Connection": "close"},
            )


def expect(request: Request, most: int) -> None:
    """Allow this request's body so many bytes."""
    limit = request.scope.get(_LIMIT)
    if isinstance(limit, BodyLimit):
        limit.most = most


class Bodies:
    """ASGI middleware: limits the size and frequency of bodies, and refuses bodies to the API
    without a key."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._by_address, self._by_key = Rates(CHANGES), Rates(API)
        self._wrong = Rates(WRONG_KEYS)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD", "OPTIONS"):
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        in_api = scope["path"].startswith("/api/")
        who = await self._asker(scope, bearer(headers), in_api=in_api)
        if isinstance(who, Problem):
            await _refused(who)(scope, receive, send)
            return
        is_json = in_api or "json" in headers.get("content-type", "")
        limit = BodyLimit(JSON_BYTES if is_json else FORM_BYTES)
        scope[_LIMIT] = limit

        async def counted() -> Message:
            message = await receive()
            if message["type"] == "http.request":
                limit.check(len(message.get("body", b"")))
            return message

        with acting(who):
            await self._app(scope, counted, send)

    async def _asker(self, scope: Scope, key: str, *, in_api: bool) -> Actor | Problem:
        """The sender, as far as known: the key for the API. Or the reason to refuse the body
        unread."""
        address = address_of(scope)
        if not in_api:
            return _too_often(self._by_address.wait(address)) or Actor(address=address)
        # Looked at first: who guesses must not learn which guess was right.
        wait = self._wrong.look(address)
        too_often = _too_often(wait)
        if too_often is not None:
            return too_often
        store: Store = scope["app"].state.services.store
        name = await anyio.to_thread.run_sync(name_of_key, store, key)
        if name is None:
            self._wrong.wait(address)
            return no_key()
        return _too_often(self._by_key.wait(key)) or Actor(name, address=address)


def address_of(scope: Scope) -> str:
    """The address of the client; empty if unknown."""
    return str(scope["client"][0]) if scope.get("client") else ""


def _too_often(wait: float) -> Problem | None:
    if not wait:
        return None
    return Problem(
        429,
        "Too many requests",
        f"Wait {wait:.0f} s, then go on.",
        {"Retry-After": str(max(1, ceil(wait)))},
    )


def bearer(headers: Headers) -> str:
    """The key of a request; empty if there is none."""
    return bearer_in(headers.get("authorization", ""))


def bearer_in(authorization: str) -> str:
    """The key in an ``Authorization`` header (RFC 6750)."""
    scheme, _, key = authorization.partition(" ")
    return key.strip() if scheme.lower() == _BEARER else ""


def no_key() -> Problem:
    return Problem(
        401,
        "A key is needed",
        "Send a key as 'Authorization: Bearer KEY'. It may have been revoked.",
        {"WWW-Authenticate": "Bearer"},
    )


def _refused(problem: Problem) -> JSONResponse:
    return JSONResponse(
        problem_body(problem.status_code, problem.title, problem.detail),
        problem.status_code,
        headers={**(problem.headers or {}), "Connection": "close"},
        media_type=PROBLEM_JSON,
    )

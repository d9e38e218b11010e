"""Known hosts, changes only from our own pages, and the headers that protect a page."""

from __future__ import annotations

import re
from ipaddress import ip_address
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:;"
    " font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none';"
    " frame-src 'self'; frame-ancestors 'none'"
)
_ALWAYS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
_HOST = re.compile(r"(?:\[([0-9A-Fa-f:.]+)\]|([^\s@:\[\]/?#]+))(?::\d{1,5})?")
"""a name or an address and a port (RFC 9110, section 7.2), and nothing else that a URL may have"""
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})


class HostCheck:
    """ASGI middleware. Answers only to names that this server is known by: to ``localhost``, to
    ``names``, and to addresses in digits. Any other name may have been pointed at this machine by a
    page that wants to read what it answers."""

    def __init__(self, app: ASGIApp, names: frozenset[str]) -> None:
        self._app = app
        self._names = frozenset(name.lower().rstrip(".") for name in names)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            asked = Headers(scope=scope).get("host", "")
            if not self._is_known(asked):
                refusal = PlainTextResponse(
                    f"This server is not known as {asked[:100]!r}. If it should be, start it with"
                    " --host-name.",
                    status_code=421,
                )
                await refusal(scope, receive, send)
                return
        await self._app(scope, receive, send)

    def _is_known(self, asked: str) -> bool:
        found = _HOST.fullmatch(asked)
        if found is None:
            return False
        name = (found[1] or found[2]).lower().rstrip(".")
        if name == "localhost" or name.endswith(".localhost") or name in self._names:
            return True
        try:
            ip_address(name)
        except ValueError:
            return False
        return True


class Guard:
    """ASGI middleware. The API is exempt from the origin check: it requires a key instead."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        if scope["method"] not in _SAFE and not scope["path"].startswith("/api/"):
            headers = Headers(scope=scope)
            if not _from_here(headers):
                refusal = PlainTextResponse(
                    "Gefa accepts changes only from its own pages. Open the page and try again.",
                    status_code=403,
                )
                await refusal(scope, receive, send)
                return

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in _ALWAYS.items():
                    headers.setdefault(name, value)
            await send(message)

        await self._app(scope, receive, guarded)


def _from_here(headers: Headers) -> bool:
    """Browsers send an origin; other programs send none and are allowed."""
    site = headers.get("sec-fetch-site")
    if site is not None:
        return site in ("same-origin", "none")
    origin = headers.get("origin")
    return origin is None or urlsplit(origin).netloc == headers.get("host")

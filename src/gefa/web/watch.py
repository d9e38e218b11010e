"""Gives every request an id, counts and logs it."""

from __future__ import annotations

import logging
import time
from uuid import uuid4

from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from gefa.logs import request_id
from gefa.web.metrics import Metrics

log = logging.getLogger("gefa.access")
_AREAS = {"m": "delivery", "api": "api", "static": "static", "festival": "sample"}


def area_of(path: str) -> str:
    """The part of the application that answers a path: a few names, whatever the path."""
    return _AREAS.get(path[1:].partition("/")[0], "pages")


class Watch:
    """ASGI middleware, outside all others."""

    def __init__(self, app: ASGIApp, metrics: Metrics) -> None:
        self._app = app
        self._metrics = metrics

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        id = uuid4().hex[:16]
        token = request_id.set(id)
        started = time.perf_counter()
        status, sent = 500, 0

        async def watched(message: Message) -> None:
            nonlocal status, sent
            if message["type"] == "http.response.start":
                status = message["status"]
                MutableHeaders(scope=message)["X-Request-ID"] = id
            else:
                sent += len(message.get("body", b""))
            await send(message)

        try:
            await self._app(scope, receive, watched)
        finally:
            seconds = time.perf_counter() - started
            self._metrics.answered(area_of(scope["path"]), status, seconds, sent)
            if log.isEnabledFor(logging.INFO):
                self._log(scope, status, seconds, sent)
            request_id.reset(token)

    @staticmethod
    def _log(scope: Scope, status: int, seconds: float, sent: int) -> None:
        client = scope["client"][0] if scope.get("client") else ""
        path = scope["path"][:200].encode("unicode_escape").decode()
        fields = {
            "client": client,
            "method": scope["method"],
            "path": path,
            "status": status,
            "ms": round(seconds * 1000, 1),
            "bytes": sent,
        }
        log.info(
            "%s %s %s %d %.1f ms %d bytes",
            client, scope["method"], path, status, seconds * 1000, sent,
            extra={"fields": fields},
        )  # fmt: skip

"""Limits of connections: how many, how slow, how long a request's head may be.

uvicorn hands over whatever comes; what a connection may cost before anything of ours sees the
request is limited here.
"""

from __future__ import annotations

import asyncio
import resource
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

HEAD_BYTES = 64_000
"""of a request line and all headers; browsers send less than 8 kB, with cookies"""
URL_BYTES = 16_000
HEAD_SECONDS = 10.0
"""for a head to arrive, from the opening of the connection or its first byte"""
SILENT_SECONDS = 30.0
"""without a byte of a started body: longer than a phone takes between two cells"""
FILES_BESIDE = 200
"""file descriptors not available for connections: databases, blobs, logs, libraries"""
MOST_CONNECTIONS = 4_000

_TOO_LONG = b"HTTP/1.1 %s\r\ncontent-type: text/plain\r\nconnection: close\r\n\r\n%s"


def open_files() -> int:
    """Raise this process's limit of open files; returns the number of connections it allows."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_CONNECTIONS + FILES_BESIDE
    most = wanted if hard == resource.RLIM_INFINITY else min(hard, wanted)
    if soft < most:
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
    else:
        most = min(soft, wanted)
    return max(most - FILES_BESIDE, 16)


class LimitedConnection(HttpToolsProtocol):
    """A client's connection. At most ``most`` are open at once; one more closes the one that was
    silent for longest."""

    most = MOST_CONNECTIONS

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self._in_head = True
        self._head_bytes = self._raw_bytes = 0
        self._heard = self.loop.time()
        self._timer: asyncio.TimerHandle | None = None
        self._refusal = b""

    # -- times ---------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._await(HEAD_SECONDS)
        if len(self.connections) > self.most:
            self._make_room()

    def connection_lost(self, exc: Exception | None) -> None:
        self._await(None)
        super().connection_lost(exc)

    def _make_room(self) -> None:
        """Close the connection that was silent for longest; one waiting for our answer only if all
        are."""
        others = [one for one in self.connections if isinstance(one, LimitedConnection)]
        silent = min(others, key=lambda one: (one._is_answered, one._heard))
        silent.transport.abort()

    @property
    def _is_answered(self) -> bool:
        """Whether we are working on an answer."""
        return self.cycle is not None and not self.cycle.response_complete

    def _await(self, seconds: float | None) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer = None if seconds is None else self.loop.call_later(seconds, self._look)

    def _look(self) -> None:
        """The time is up, unless we were the ones who did not read."""
        self._timer = None
        silent = self.loop.time() - self._heard
        if self._in_head:
            self._refuse(b"408 Request Timeout", b"The request did not come in time.\n")
        elif self.flow is not None and self.flow.read_paused:
            self._heard = self.loop.time()
            self._await(SILENT_SECONDS)
        elif silent < SILENT_SECONDS:
            self._await(SILENT_SECONDS - silent + 0.1)
        else:
            self.transport.abort()  # its request ends as one that was broken off

    # -- bytes ---------------------------------------------------------------------------

    def data_received(self, data: bytes) -> None:
        self._heard = self.loop.time()
        if self._in_head and self.timeout_keep_alive_task is not None:
            self._await(HEAD_SECONDS)  # another request on a connection that was kept
        if self._in_head:
            self._raw_bytes += len(data)
        super().data_received(data)
        # The parser keeps an unfinished header to itself, and copies it with each piece that comes.
        if self._in_head and self._raw_bytes > HEAD_BYTES + URL_BYTES:
            self._refuse(b"431 Request Header Fields Too Large", b"The headers are too large.\n")

    def on_url(self, url: bytes) -> None:
        super().on_url(url)
        if len(self.url) > URL_BYTES:
            self._break_off(b"414 URI Too Long", b"The address is too long.\n")

    def on_header(self, name: bytes, value: bytes) -> None:
        self._head_bytes += len(name) + len(value)
        if self._head_bytes > HEAD_BYTES:
            self._break_off(b"431 Request Header Fields Too Large", b"The headers are too large.\n")
        super().on_header(name, value)

    def on_headers_complete(self) -> None:
        self._in_head = False
        self._head_bytes = self._raw_bytes = 0
        super().on_headers_complete()
        self._await(SILENT_SECONDS)

    def on_message_complete(self) -> None:
        super().on_message_complete()
        self._in_head = True
        self._await(None)

    def _break_off(self, status: bytes, words: bytes) -> None:
        """Stop the parser with an error, which is then sent as the answer."""
        self._refusal = _TOO_LONG % (status, words)
        raise ValueError(words)

    def _refuse(self, status: bytes, words: bytes) -> None:
        self.transport.write(_TOO_LONG % (status, words))
        self.transport.close()

    def send_400_response(self, msg: str) -> None:
        if self._refusal:
            self.transport.write(self._refusal)
            self.transport.close()
        else:
            super().send_400_response(msg)


def limited_connections(most: int) -> type[LimitedConnection]:
    """A protocol class for uvicorn with at most ``most`` open connections."""
    return type("Connection", (LimitedConnection,), {"most": most})

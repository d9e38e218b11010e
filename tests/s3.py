"""A small stand-in for an S3-compatible server: one bucket in memory, path-style addresses."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email.utils import formatdate, parsedate_to_datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

ACCESS_KEY = "stand-in"


@dataclass
class StandIn:
    """``objects`` by key: their bytes and headers. ``asked`` lists methods and keys."""

    url: str
    objects: dict[str, tuple[bytes, dict[str, str]]] = field(default_factory=dict)
    asked: list[tuple[str, str]] = field(default_factory=list)


@contextmanager
def standing_in() -> Iterator[StandIn]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Handler)
    state = StandIn(f"http://127.0.0.1:{server.server_port}")
    server.state = state  # type: ignore[attr-defined]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield state
    finally:
        server.shutdown()


def _time_of(headers: dict[str, str]) -> str:
    return parsedate_to_datetime(headers["Last-Modified"]).strftime("%Y-%m-%dT%H:%M:%S.000Z")


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def _begin(self) -> str | None:
        """The key asked for, if the request is signed."""
        self.state: StandIn = self.server.state  # type: ignore[attr-defined]
        signed = self.headers.get("Authorization", "")
        if (
            not signed.startswith(f"AWS4-HMAC-SHA256 Credential={ACCESS_KEY}/")
            or "Signature=" not in signed
        ):
            self._answer(403, b"<Error><Code>AccessDenied</Code></Error>")
            return None
        key = unquote(urlsplit(self.path).path).lstrip("/")
        self.state.asked.append((self.command, key))
        return key

    def _answer(
        self,
        status: int,
        body: bytes = b"",
        headers: dict[str, str] | None = None,
        length: int | None = None,
    ) -> None:
        self.send_response(status)
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body) if length is None else length))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def do_PUT(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        key = self._begin()
        if key is None:
            return
        source = self.headers.get("x-amz-copy-source")
        if source:
            body = self.state.objects[unquote(source).lstrip("/")][0]
        kept = {
            name: self.headers[name]
            for name in ("Content-Type", "Cache-Control")
            if name in self.headers
        }
        tag = f'"{hashlib.md5(body).hexdigest()}"'
        self.state.objects[key] = (
            body,
            {**kept, "ETag": tag, "Last-Modified": formatdate(usegmt=True)},
        )
        copied = (
            f"<CopyObjectResult><ETag>{tag}</ETag></CopyObjectResult>".encode() if source else b""
        )
        self._answer(200, copied, {"ETag": tag})

    def do_GET(self) -> None:
        key = self._begin()
        if key is None:
            return
        asked = parse_qs(urlsplit(self.path).query)
        if asked.get("list-type") == ["2"]:
            self._list(key.strip("/"), asked)
            return
        if key not in self.state.objects:
            self._answer(404, b"<Error><Code>NoSuchKey</Code></Error>")
            return
        body, headers = self.state.objects[key]
        self._answer(200, body, headers, len(body))

    def _list(self, bucket: str, asked: dict[str, list[str]]) -> None:
        """Two objects on a page, so that whoever lists has to go on."""
        begin = f"{bucket}/{asked.get('prefix', [''])[0]}"
        keys = sorted(key for key in self.state.objects if key.startswith(begin))
        first = int(asked.get("continuation-token", ["0"])[0])
        more = first + 2 < len(keys)
        found = "".join(
            f"<Contents><Key>{key.removeprefix(f'{bucket}/')}</Key>"
            f"<LastModified>{_time_of(self.state.objects[key][1])}</LastModified></Contents>"
            for key in keys[first : first + 2]
        )
        token = f"<NextContinuationToken>{first + 2}</NextContinuationToken>" if more else ""
        body = f"<ListBucketResult><IsTruncated>{str(more).lower()}</IsTruncated>{token}{found}</ListBucketResult>"
        self._answer(200, body.encode(), {"Content-Type": "application/xml"})

    def do_HEAD(self) -> None:
        self.do_GET()

    def do_DELETE(self) -> None:
        key = self._begin()
        if key is not None:
            self.state.objects.pop(key, None)
            self._answer(204)

    def log_message(self, *_: Any) -> None:
        pass

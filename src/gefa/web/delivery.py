"""``/m/``: serves variants to visitors, before pages and API.

What an address stands for is remembered until anything in the database changes, and small files
stay in memory. Nothing is ever made for a request.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qs

import anyio.to_thread
from cachetools import LRUCache
from starlette.datastructures import Headers
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

from gefa.core.deliver.negotiate import pick
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.keys import Right, found_key
from gefa.store.mending import mend_upload
from gefa.store.models import Upload, Variant
from gefa.store.store import Store
from gefa.store.upload_addresses import PREFIX, first_crop, matching, named_file, served_at
from gefa.store.variants import newest_variants, variants_of_upload
from gefa.web.bodies import bearer
from gefa.web.problems import PROBLEM_JSON, problem_body

FOREVER = "public, max-age=31536000, immutable"
A_WHILE = "public, max-age=300"
NOT_KEPT = "private, no-store"
HINTS = ("Sec-CH-Width", "Sec-CH-DPR")
MAX_W = 100_000
"""px; no screen needs more"""
MAX_PATH = 2_000
"""characters of an address: an id, a digest, and a path of names of at most 255"""
MAX_RANGES = 200
"""characters of a ``Range`` header"""
REMEMBERED = 20_000
"""addresses"""
HELD_BYTES = 64_000_000
"""of small files in memory: about 3,000 thumbnails, which busy pages request most"""
SMALL_BYTES = 1_000_000
"""bytes of a file to keep in memory"""


@dataclass(frozen=True, slots=True)
class Served:
    """A file that can be sent."""

    sha256: str
    format: str
    width: int
    bytes: int
    address: str
    crop: str
    moves: bool

    @property
    def etag(self) -> str:
        return f'"{self.sha256}"'


@dataclass(frozen=True, slots=True)
class ServedUpload:
    """The files of an upload's first crop, for addresses without a file name."""

    crop: str
    files: tuple[Served, ...]


def served(variant: Variant) -> Served:
    return Served(
        variant.sha256,
        variant.format,
        variant.width,
        variant.bytes,
        served_at(variant),
        variant.cut,
        variant.moves,
    )


class Delivery:
    """ASGI middleware that answers addresses under ``/m/`` itself."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._shelf: SmallFiles | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or not scope["path"].startswith(PREFIX):
            await self._app(scope, receive, send)
            return
        if self._shelf is None:
            services = scope["app"].state.services
            self._shelf = SmallFiles(services.store, services.foreman.wake)
        if scope["method"] not in ("GET", "HEAD"):
            answer = _refused(405, "Only to be looked at", "Ask for it with GET or HEAD.")
            answer.headers["Allow"] = "GET, HEAD"
            await answer(scope, receive, send)
            return
        await self._deliver(self._shelf, scope, receive, send)

    async def _deliver(self, shelf: SmallFiles, scope: Scope, receive: Receive, send: Send) -> None:
        headers = Headers(scope=scope)
        if len(scope["path"]) > MAX_PATH:
            await _refused(414, "Too long", "No address here is that long.")(scope, receive, send)
            return
        upload_id, _, rest = scope["path"][len(PREFIX) :].partition("/")
        digest, _, path = rest.partition("/")
        more = {"Cache-Control": FOREVER}
        found: Served | None
        if digest or path:
            found = await shelf.file(upload_id, digest, path)
        else:
            picture = await shelf.picture(upload_id)
            query = parse_qs(scope["query_string"].decode("latin-1"))
            wish = _wish(query, headers)
            if isinstance(wish, str):
                refusal = _refused(422, "The request is not valid", wish)
                await refusal(scope, receive, send)
                return
            found = _chosen(picture, query, headers.get("accept", ""), wish)
            more = _negotiated(found)
        if found is None:
            found = await shelf.for_reviewers(upload_id, digest, path, bearer(headers))
            more = {"Cache-Control": NOT_KEPT, "Vary": "Authorization"}
        if found is None:
            refusal = _refused(404, "No such file", "There is no live picture at this address.")
            await refusal(scope, receive, send)
            return
        await _send_file(shelf, upload_id, found, more, headers, scope, receive, send)


async def _send_file(
    shelf: SmallFiles,
    upload_id: str,
    found: Served,
    more: dict[str, str],
    headers: Headers,
    scope: Scope,
    receive: Receive,
    send: Send,
) -> None:
    if not is_range(headers.get("range", "")):
        # RFC 9110, 14.2: what is no range is as if it had not come; Starlette refuses it.
        scope = {**scope, "headers": [one for one in scope["headers"] if one[0] != b"range"]}
        headers = Headers(scope=scope)
    more = {**more, "ETag": found.etag, "X-Content-Type-Options": "nosniff"}
    media_type = FORMATS[Format(found.format)].media_type
    if _matches(headers.get("if-none-match", ""), found.etag):
        await Response(status_code=304, headers=more)(scope, receive, send)
        return
    held = shelf.bytes_of(found) if "range" not in headers else None
    if held is None:
        path = await anyio.to_thread.run_sync(shelf.path, found.sha256)
        if path is None:
            coming = await anyio.to_thread.run_sync(shelf.mend, upload_id, found.sha256)
            await (_coming() if coming else _gone())(scope, receive, send)
            return
        if found.bytes > SMALL_BYTES or "range" in headers:
            await FileResponse(path, media_type=media_type, headers=more)(scope, receive, send)
            return
        held = await anyio.to_thread.run_sync(path.read_bytes)
        shelf.hold(found, held)
    more |= {"Content-Type": media_type, "Content-Length": str(len(held)), "Accept-Ranges": "bytes"}
    raw = [(name.lower().encode(), value.encode("latin-1")) for name, value in more.items()]
    await send({"type": "http.response.start", "status": 200, "headers": raw})
    body = b"" if scope["method"] == "HEAD" else held
    await send({"type": "http.response.body", "body": body})


def is_range(value: str) -> bool:
    """Whether a header asks for valid byte ranges (RFC 9110, 14.1.1)."""
    unit, _, ranges = value.partition("=")
    if unit.strip().lower() != "bytes" or len(ranges) > MAX_RANGES:
        return False
    for one in ranges.split(","):
        first, dash, last = (part.strip() for part in one.partition("-"))
        if not dash or not (first or last):
            return False
        if not all(part == "" or (part.isascii() and part.isdecimal()) for part in (first, last)):
            return False
        if first and last and int(first) > int(last):
            return False
    return True


def _coming() -> Response:
    answer = _refused(
        503, "Being made again", "The file was lost or damaged. It is made again; try in a while."
    )
    answer.headers["Retry-After"] = "5"
    return answer


def _gone() -> Response:
    return _refused(
        404, "Lost", "The file was lost or damaged, and there is no original to make it from."
    )


def _negotiated(found: Served | None) -> dict[str, str]:
    return {
        "Cache-Control": A_WHILE,
        "Vary": ", ".join(("Accept", *HINTS)),
        "Accept-CH": ", ".join(HINTS),
        "Content-Location": found.address if found else "",
    }


def _chosen(
    picture: ServedUpload | None, query: dict[str, list[str]], accept: str, width: float | None
) -> Served | None:
    if picture is None:
        return None
    crop = query.get("crop", [picture.crop])[-1]
    return pick([file for file in picture.files if file.crop == crop], accept, width)


def _wish(query: dict[str, list[str]], headers: Headers) -> float | str | None:
    """The needed width in pixels: ``w`` times the given density, or the given width (Responsive
    Image Client Hints; both in the client's own pixels). A text says what is wrong."""
    width, density = (_hint(headers, name) for name in HINTS)
    if "w" not in query:
        return width
    text = query["w"][-1]
    if not text.isdecimal() or len(text) > 6 or not 1 <= int(text) <= MAX_W:
        return f"w is {text[:40]!r}; give a whole number of px, 1 to {MAX_W:,}."
    return int(text) * (density or 1.0)


def _hint(headers: Headers, name: str) -> float | None:
    try:
        value = float(headers.get(name, ""))
    except ValueError:
        return None
    return value if 0 < value < MAX_W else None


def _matches(condition: str, etag: str) -> bool:
    """RFC 9110, section 13.1.2: weak comparison against each listed tag, or ``*``."""
    if not condition:
        return False
    tags = [tag.strip().removeprefix("W/") for tag in condition.split(",")]
    return etag in tags or tags == ["*"]


def _refused(status: int, title: str, detail: str) -> Response:
    body = problem_body(status, title, detail)
    headers = {"X-Content-Type-Options": "nosniff", "Cache-Control": "no-store"}
    return JSONResponse(body, status, headers=headers, media_type=PROBLEM_JSON)


class SmallFiles:
    """Finds files by address, and caches them while the database is unchanged."""

    def __init__(self, store: Store, wake: Callable[[], None]) -> None:
        self._store = store
        self._wake = wake
        # A connection of its own: SQLite then tells of every change that any other one makes.
        self._watch = sqlite3.connect(store.database, check_same_thread=False)
        self._version = -1
        self._files: dict[tuple[str, str, str], Served] = {}
        self._pictures: dict[str, ServedUpload] = {}
        self._bytes: LRUCache[str, bytes] = LRUCache(HELD_BYTES, getsizeof=len)

    def _fresh(self) -> int:
        """Clear the cache if the database has changed; returns its version."""
        (version,) = self._watch.execute("PRAGMA data_version").fetchone()
        if version != self._version or len(self._files) + len(self._pictures) > REMEMBERED:
            self._files, self._pictures, self._version = {}, {}, version
        return int(version)

    async def file(self, upload_id: str, digest: str, path: str) -> Served | None:
        """The file of that address, if it is public."""
        version = self._fresh()
        key = (upload_id, digest, path)
        if key not in self._files:
            found = await anyio.to_thread.run_sync(self._find, upload_id, digest, path)
            # What is not there is not remembered: anybody can think of addresses without end.
            if found is None or version != self._version:
                return found
            self._files[key] = found
        return self._files[key]

    async def picture(self, upload_id: str) -> ServedUpload | None:
        """The public view of an upload."""
        version = self._fresh()
        if upload_id not in self._pictures:
            found = await anyio.to_thread.run_sync(self._find_all, upload_id)
            if found is None or version != self._version:
                return found
            self._pictures[upload_id] = found
        return self._pictures[upload_id]

    def _find(self, upload_id: str, digest: str, path: str) -> Served | None:
        with self._store.reading() as session:
            upload = session.get(Upload, upload_id)
            if upload is None or upload.removed is not None:
                return None
            found = named_file(session, upload_id, digest, path)
            return served(found) if found else None

    def _find_all(self, upload_id: str) -> ServedUpload | None:
        with self._store.reading() as session:
            upload = session.get(Upload, upload_id)
            if upload is None or upload.removed is not None:
                return None
            files = tuple(served(v) for v in variants_of_upload(session, upload_id))
            return ServedUpload(first_crop(session, upload, {f.crop for f in files}), files)

    async def for_reviewers(
        self, upload_id: str, digest: str, path: str, key: str
    ) -> Served | None:
        """The file of that address, if the key has the right to review it."""
        if not key or not digest:
            return None
        return await anyio.to_thread.run_sync(self._find_held, upload_id, digest, path, key)

    def _find_held(self, upload_id: str, digest: str, path: str, key: str) -> Served | None:
        with self._store.session() as session:
            upload = session.get(Upload, upload_id)
            found = found_key(session, key)
            if upload is None or found is None or found.slot_id != upload.slot_id:
                return None
            if Right.REVIEW not in found.rights or upload.removed is not None:
                return None
            newest = newest_variants(session, upload_id)
            variant = matching((v for v in newest if v.path == path), digest)
            return served(variant) if variant else None

    def path(self, sha256: str) -> Path | None:
        """The path of the file, if it is there and intact."""
        return self._store.blobs.checked(sha256)

    def mend(self, upload_id: str, sha256: str) -> bool:
        """Whether the lost file will be made again."""
        coming = mend_upload(self._store, upload_id, sha256)
        self._wake()
        return coming

    # -- small files in memory, the least used go first -----------------------------------

    def bytes_of(self, found: Served) -> bytes | None:
        return self._bytes.get(found.sha256)

    def hold(self, found: Served, data: bytes) -> None:
        self._bytes[found.sha256] = data

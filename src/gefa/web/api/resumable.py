"""``/api/v1``: large files piece by piece, by the tus 1.0.0 protocol (https://tus.io), with its
extensions creation, creation-with-upload, expiration and termination.

Bytes lie in a file of their own, whose length is the offset, until it is whole; then it is an
upload like any other.
"""

from __future__ import annotations

import os
import threading
from base64 import b64decode
from binascii import Error as Base64Error
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from email.utils import format_datetime
from pathlib import Path
from typing import Annotated, BinaryIO

import anyio
import anyio.to_thread
from fastapi import Header, Request, Response
from starlette.requests import ClientDisconnect

from gefa.core.read.sniff import HEAD_BYTES
from gefa.core.units import weight
from gefa.store.keys import Right
from gefa.store.models import Resumable, as_utc
from gefa.store.sweep import RESUMED_WITHIN
from gefa.web.api.access import Access, slot_opened
from gefa.web.api.slot_intake import SlotIntake, as_sent
from gefa.web.api.uploads import described_by, problems, take_in
from gefa.web.bodies import expect
from gefa.web.file_form import Received
from gefa.web.incoming import clean_name
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, public, with_key

router = guarded_router(prefix="/api/v1/slots/{slot}/resumable", tags=["resumable uploads"])

VERSION = "1.0.0"
EXTENSIONS = "creation,creation-with-upload,expiration,termination"
PIECE = "application/offset+octet-stream"
_SYNC_BYTES = 32_000_000
"""bytes between two flushes to disk, the most that a crash can cost"""
_busy: set[str] = set()
"""ids of files that a request is working on"""
_lock = threading.Lock()

Authorization = Annotated[str, Header()]


def _tus(more: dict[str, str] | None = None) -> dict[str, str]:
    return {"Tus-Resumable": VERSION, "Cache-Control": "no-store", **(more or {})}


def _problem(status: int, title: str, detail: str) -> Problem:
    return Problem(status, title, detail, _tus())


def _check_version(request: Request) -> None:
    if request.headers.get("tus-resumable") != VERSION:
        raise Problem(
            412,
            "Another version of the protocol",
            f"Send 'Tus-Resumable: {VERSION}'.",
            {"Tus-Version": VERSION, **_tus()},
        )


@router.options("", status_code=204)
@public
def options(slot: str, given: ServicesOf, authorization: Authorization = "") -> Response:
    """What this server supports; with a key, also the largest file that the slot accepts."""
    headers = {"Tus-Version": VERSION, "Tus-Extension": EXTENSIONS}
    if authorization:
        access = slot_opened(given, slot, authorization, Right.UPLOAD)
        headers["Tus-Max-Size"] = str(access.settings.max_bytes)
    return Response(status_code=204, headers=_tus(headers))


@router.post("", status_code=201, responses=problems(401, 403, 404, 413, 422))
@with_key
async def create(
    request: Request, slot: str, given: ServicesOf, authorization: Authorization = ""
) -> Response:
    """Start a file of ``Upload-Length`` bytes. ``Upload-Metadata`` has ``filename``, and may have
    the fields of a form: alt, decorative, tags, focal_x, focal_y, zoom."""
    _check_version(request)
    access = await anyio.to_thread.run_sync(slot_opened, given, slot, authorization, Right.UPLOAD)
    length = _number(request, "Upload-Length")
    if length > access.settings.max_bytes:
        raise _problem(
            413, "Too large", f"This slot takes files up to {weight(access.settings.max_bytes)}."
        )
    await anyio.to_thread.run_sync(given.check_room, length)
    told = _metadata(request.headers.get("upload-metadata", ""))
    described_by(told)
    begun = Resumable(
        slot_id=access.slot.id,
        key_id=access.key.id,
        who=access.key.name,
        length=length,
        described=told,
    )

    def note() -> None:
        given.store.pieces(begun.id).touch()
        with given.store.session() as session:
            session.add(begun)

    await anyio.to_thread.run_sync(note)
    headers = {"Location": str(request.url_for("piece", slot=slot, resumable_id=begun.id))}
    if request.headers.get("content-type") == PIECE or not length:
        headers |= await _append(request, given, access, begun, 0)
    return Response(status_code=201, headers=_tus(headers | _expires(begun)))


@router.head("/{resumable_id}", responses=problems(401, 403, 404))
@with_key
def offset(
    request: Request,
    slot: str,
    resumable_id: str,
    given: ServicesOf,
    authorization: Authorization = "",
) -> Response:
    """The number of bytes received."""
    _check_version(request)
    access = slot_opened(given, slot, authorization, Right.UPLOAD)
    begun = _begun(given, access, resumable_id)
    come = _come(given, begun)
    # The server ended just then; or another request is at it now, and will finish it.
    if come == begun.length and not begun.upload_id and begun.id not in _busy:
        with _alone(begun.id):
            _finish(given, access, begun, given.store.pieces(begun.id))
        given.foreman.wake()
    headers = {"Upload-Offset": str(come), "Upload-Length": str(begun.length)}
    return Response(status_code=200, headers=_tus(headers | _expires(begun) | _became(begun)))


@router.patch("/{resumable_id}", status_code=204, responses=problems(401, 403, 404, 409, 415))
@with_key
async def piece(
    request: Request,
    slot: str,
    resumable_id: str,
    given: ServicesOf,
    authorization: Authorization = "",
) -> Response:
    """Append bytes from ``Upload-Offset`` on. With the last of them the file becomes an upload, at
    the address in ``Gefa-Upload``."""
    _check_version(request)
    access = await anyio.to_thread.run_sync(slot_opened, given, slot, authorization, Right.UPLOAD)
    begun = await anyio.to_thread.run_sync(_begun, given, access, resumable_id)
    if request.headers.get("content-type") != PIECE:
        raise _problem(415, "Not a piece of a file", f"Send it as Content-Type: {PIECE}.")
    come = _number(request, "Upload-Offset")
    await anyio.to_thread.run_sync(_check_offset, given, begun, come)
    await anyio.to_thread.run_sync(given.check_room)
    headers = await _append(request, given, access, begun, come)
    return Response(status_code=204, headers=_tus(headers | _expires(begun)))


@router.post("/{resumable_id}", include_in_schema=False)
@with_key
async def overridden(
    request: Request,
    slot: str,
    resumable_id: str,
    given: ServicesOf,
    authorization: Authorization = "",
) -> Response:
    """For clients that cannot send every method (tus 1.0.0, X-HTTP-Method-Override)."""
    method = request.headers.get("x-http-method-override", "").upper()
    if method == "PATCH":
        return await piece(request, slot, resumable_id, given, authorization)
    if method in ("DELETE", "HEAD"):
        do = terminate if method == "DELETE" else offset
        return await anyio.to_thread.run_sync(do, request, slot, resumable_id, given, authorization)
    raise _problem(405, "Not that way", "Send the bytes with PATCH.")


@router.delete("/{resumable_id}", status_code=204, responses=problems(401, 403, 404))
@with_key
def terminate(
    request: Request,
    slot: str,
    resumable_id: str,
    given: ServicesOf,
    authorization: Authorization = "",
) -> Response:
    """Cancel; received bytes are deleted. An upload that the file has become stays."""
    _check_version(request)
    access = slot_opened(given, slot, authorization, Right.UPLOAD)
    with _alone(resumable_id):
        _forget(given, _begun(given, access, resumable_id))
    return Response(status_code=204, headers=_tus())


@contextmanager
def _alone(id: str) -> Iterator[None]:
    """Lock a file for one request. Problem if another one is working on it."""
    with _lock:
        if id in _busy:
            raise _problem(409, "Already on its way", "Another request is writing this file now.")
        _busy.add(id)
    try:
        yield
    finally:
        _busy.discard(id)


def _begun(given: Services, access: Access, resumable_id: str) -> Resumable:
    with given.store.session() as session:
        begun = session.get(Resumable, resumable_id)
        if begun is None or begun.slot_id != access.slot.id or begun.key_id != access.key.id:
            raise _problem(
                404, "No such file", "It was abandoned, or took too long. Start it again."
            )
        return begun


def _come(given: Services, begun: Resumable) -> int:
    if begun.upload_id:
        return begun.length
    try:
        return given.store.pieces(begun.id).stat().st_size
    except FileNotFoundError:
        return 0


def _check_offset(given: Services, begun: Resumable, offset: int) -> None:
    come = _come(given, begun)
    if offset != come:
        raise _problem(409, "Another offset", f"{come:,} bytes have arrived; continue from there.")


async def _append(
    request: Request, given: Services, access: Access, begun: Resumable, offset: int
) -> dict[str, str]:
    """Append the request's body, which begins at ``offset``; returns headers with the progress."""
    if begun.upload_id:
        return {"Upload-Offset": str(begun.length), **_became(begun)}
    with _alone(begun.id):
        # Another request may have written to it, or given it up, since it was looked for.
        begun = await anyio.to_thread.run_sync(_begun, given, access, begun.id)
        await anyio.to_thread.run_sync(_check_offset, given, begun, offset)
        if begun.upload_id:
            return {"Upload-Offset": str(begun.length), **_became(begun)}
        path = given.store.pieces(begun.id)
        # One byte more than may come, so that it is told what is wrong with it.
        expect(request, begun.length + 1)
        come = await _write(path, request.stream(), begun)
        if come == begun.length:
            await anyio.to_thread.run_sync(_finish, given, access, begun, path)
            given.foreman.wake()
    return {"Upload-Offset": str(come), **_became(begun)}


async def _write(path: Path, stream: AsyncIterator[bytes], begun: Resumable) -> int:
    """Keep everything received, even if the connection breaks in the middle."""
    file = await anyio.to_thread.run_sync(path.open, "ab")
    come, unsynced = file.tell(), 0
    try:
        async for chunk in stream:
            if come + len(chunk) > begun.length:
                raise _problem(
                    413, "More bytes than announced", f"The file has {begun.length:,} bytes."
                )
            await anyio.to_thread.run_sync(file.write, chunk)
            come += len(chunk)
            unsynced += len(chunk)
            if unsynced > _SYNC_BYTES:
                await anyio.to_thread.run_sync(_sync, file)
                unsynced = 0
    except ClientDisconnect:
        pass  # it will go on from here
    finally:
        with anyio.CancelScope(shield=True):
            await anyio.to_thread.run_sync(_sync_and_close, file)
    return come


def _sync(file: BinaryIO) -> None:
    file.flush()
    os.fsync(file.fileno())


def _sync_and_close(file: BinaryIO) -> None:
    with file:
        _sync(file)


def _finish(given: Services, access: Access, begun: Resumable, path: Path) -> None:
    """The file is complete: the upload, or the reason why not."""
    name = clean_name(begun.described.get("filename", ""))
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except FileNotFoundError:
        raise _problem(404, "No such file", "It was abandoned, or is already an upload.") from None
    problem = SlotIntake(access.settings).refusal(name, begun.length, head)
    if problem is not None:
        _forget(given, begun)
        raise _problem(problem.status_code, problem.title, problem.detail)
    # The request is named after the file, so that a crash here makes no second upload of it.
    received = Received(name, head, given.store.blobs.put_file(path))
    upload = take_in(
        given,
        access,
        as_sent(received),
        described_by(begun.described),
        request=f"resumable {begun.id}",
    )
    with given.store.changing() as session:
        begun.upload_id = upload.id
        noted = session.get(Resumable, begun.id)
        if noted is not None:  # not given up meanwhile
            noted.upload_id = upload.id
            session.add(noted)
    path.unlink(missing_ok=True)


def _forget(given: Services, begun: Resumable) -> None:
    with given.store.changing() as session:
        noted = session.get(Resumable, begun.id)
        if noted is not None:
            session.delete(noted)
    given.store.pieces(begun.id).unlink(missing_ok=True)


def _became(begun: Resumable) -> dict[str, str]:
    return {"Gefa-Upload": f"/api/v1/uploads/{begun.upload_id}"} if begun.upload_id else {}


def _expires(begun: Resumable) -> dict[str, str]:
    if begun.upload_id:
        return {}
    end = as_utc(begun.created) + RESUMED_WITHIN
    return {"Upload-Expires": format_datetime(end, usegmt=True)}


def _number(request: Request, header: str) -> int:
    text = request.headers.get(header, "")
    if not text.isdecimal() or len(text) > 15:
        raise _problem(422, "A header is missing", f"Send {header} with a number of bytes.")
    return int(text)


def _metadata(header: str) -> dict[str, str]:
    """Upload-Metadata: pairs of a name and a base64 value, separated by commas."""
    found: dict[str, str] = {}
    for pair in filter(None, (part.strip() for part in header.split(","))):
        name, _, value = pair.partition(" ")
        try:
            found[name] = b64decode(value, validate=True).decode("utf-8")
        except (Base64Error, UnicodeDecodeError) as error:
            raise _problem(
                422, "Metadata that cannot be read", f"{name!r} in Upload-Metadata is not base64."
            ) from error
    if sum(map(len, found.values())) > 10_000:
        raise _problem(413, "Too much metadata", "Upload-Metadata has more than 10,000 characters.")
    return found

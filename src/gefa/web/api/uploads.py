"""``/api/v1``: pictures uploaded to a slot, and what became of them."""

from __future__ import annotations

import asyncio
import re
from typing import Annotated, Any

import anyio.to_thread
from fastapi import APIRouter, Header, Query, Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel
from starlette.datastructures import UploadFile
from starlette.exceptions import HTTPException
from starlette.types import Message

from gefa.core.deliver.markup import Offer, picture
from gefa.core.geometry import Size
from gefa.core.read.sniff import FLAT_KINDS, HEAD_BYTES, FileKind, sniff
from gefa.core.treat.formats import Format
from gefa.store.blobs import Blob, TooManyBytes
from gefa.store.models import Slot, Upload, UploadState, Variant
from gefa.store.slots import accept, slot_named, slots_of_key, variants_of_upload
from gefa.web.api.media import address
from gefa.web.incoming import chunks, clean_name
from gefa.web.problems import PROBLEM_JSON, Problem, problem_body
from gefa.web.services import Given, Services

router = APIRouter(prefix="/api/v1", tags=["uploads"])

FORM_BYTES = 64_000
"""bytes that a form may have besides its file"""
MAX_WAIT = 60.0
FLAT_IN_WORDS = "PNG, JPEG, WebP, AVIF, GIF and TIFF"
_SETTLED = frozenset({UploadState.HELD, UploadState.LIVE, UploadState.REJECTED, UploadState.FAILED})
_SIZES = re.compile(r"[\w\s(),.:%<>=/*+-]{1,400}")


class Original(BaseModel):
    """The picture as it was uploaded; sizes in px, null until it was read."""

    name: str
    format: str
    bytes: int
    width: int | None
    height: int | None


class ServedVariant(BaseModel):
    """A variant as it is served; sizes in px."""

    url: str
    format: Format
    width: int
    height: int
    bytes: int


class UploadAnswer(BaseModel):
    """An upload: ``problem`` says why it is rejected or failed, ``markup`` is ready to use."""

    id: str
    slot: str
    state: UploadState
    problem: str
    alt: str
    original: Original
    variants: list[ServedVariant]
    markup: str
    placeholder: str


@router.post(
    "/slots/{slot}/uploads",
    status_code=202,
    response_model=UploadAnswer,
    responses={
        201: {"model": UploadAnswer, "description": "Live: its variants are served."},
        202: {"description": "Accepted: ask at Location how it goes."},
        **{
            code: {"description": text, "content": {PROBLEM_JSON: {}}}
            for code, text in {
                401: "No key, or a wrong one.",
                403: "The key is for another slot.",
                404: "No such slot.",
                413: "Larger than the slot takes.",
                415: "Not a picture, or not a form.",
                422: "Not readable, or a field is wrong.",
            }.items()
        },
    },
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                "multipart/form-data": {
                    "schema": {
                        "type": "object",
                        "required": ["file"],
                        "properties": {
                            "file": {"type": "string", "format": "binary"},
                            "alt": {"type": "string"},
                            "focal_x": {"type": "number", "minimum": 0, "maximum": 1},
                            "focal_y": {"type": "number", "minimum": 0, "maximum": 1},
                        },
                    }
                }
            },
        }
    },
)
async def upload(
    request: Request,
    slot: str,
    given: Given,
    authorization: Annotated[str, Header()] = "",
    prefer: Annotated[str, Header()] = "",
) -> JSONResponse:
    """Upload a picture. With ``Prefer: wait=N`` (RFC 7240) the answer waits up to N seconds."""
    opened = await anyio.to_thread.run_sync(_open_slot, given, slot, authorization)
    fields, name, blob, kind = await _received(request, given, opened)
    received = await anyio.to_thread.run_sync(_accepted, given, opened, name, blob, kind, fields)
    given.foreman.wake()
    seconds = _wait_wanted(prefer)
    if seconds:
        received = await _settled(given, received, seconds)
    return _answer(given, received, opened.name, seconds)


def _open_slot(given: Services, name: str, authorization: str) -> Slot:
    """The slot, if the key opens it."""
    scheme, _, key = authorization.partition(" ")
    with given.store.session() as session:
        allowed = slots_of_key(session, key.strip()) if scheme.lower() == "bearer" else set()
        slot = slot_named(session, name)
    if not allowed:
        raise Problem(
            401,
            "A key is needed",
            "Send the slot's key as 'Authorization: Bearer KEY'.",
            {"WWW-Authenticate": "Bearer"},
        )
    if slot is None:
        raise Problem(404, "No such slot", f"There is no slot named {name!r}.")
    if slot.id not in allowed:
        raise Problem(403, "Wrong slot", f"This key does not open the slot {name!r}.")
    return slot


async def _received(
    request: Request, given: Services, slot: Slot
) -> tuple[dict[str, str], str, Blob, FileKind]:
    """The form's fields, and its file in the blob store."""
    if not request.headers.get("content-type", "").startswith("multipart/form-data"):
        raise Problem(
            415, "Not a form", "Send multipart/form-data with the picture in the field 'file'."
        )
    _limit_body(request, slot)
    try:
        form = await request.form(max_files=1, max_fields=20)
    except Problem:
        raise
    except HTTPException as error:
        raise Problem(400, "Not a form that can be read", _sentence(error.detail)) from error
    try:
        file = form.get("file")
        if not isinstance(file, UploadFile):
            raise Problem(422, "No file", "Put the picture into the form field 'file'.")
        name = clean_name(file.filename or "")
        kind = _kind(name, await file.read(HEAD_BYTES))
        await file.seek(0)
        blob = await given.store.blobs.receive(chunks(file), slot.max_bytes)
        fields = {key: value for key, value in form.items() if isinstance(value, str)}
    except TooManyBytes:
        raise _too_large(slot) from None
    finally:
        await form.close()
    return fields, name, blob, kind


def _sentence(detail: str) -> str:
    return f"{detail.rstrip('.')}. Send one picture in the field 'file' of a multipart form."


def _limit_body(request: Request, slot: Slot) -> None:
    """Refuse a body past the slot's limit, by what it announces and by what comes."""
    limit = slot.max_bytes + FORM_BYTES
    announced = request.headers.get("content-length", "")
    if announced.isdigit() and int(announced) > limit:
        raise _too_large(slot)
    receive, come = request.receive, 0

    async def counted() -> Message:
        nonlocal come
        message = await receive()
        come += len(message.get("body", b""))
        if come > limit:
            raise _too_large(slot)
        return message

    request._receive = counted


def _too_large(slot: Slot) -> Problem:
    return Problem(
        413,
        "Too large",
        f"The slot {slot.name!r} takes files up to {slot.max_bytes / 1e6:g} MB."
        " Save the picture smaller and upload it again.",
        {"Connection": "close"},
    )


def _kind(name: str, head: bytes) -> FileKind:
    if not head:
        raise Problem(422, "Empty file", f"{name} is empty. Check the file and upload it again.")
    kind = sniff(head)
    if kind not in FLAT_KINDS:
        raise Problem(
            415,
            "Not a picture",
            f"{name} is not a picture that a slot takes: {FLAT_IN_WORDS}.",
        )
    return kind


def _accepted(
    given: Services, slot: Slot, name: str, blob: Blob, kind: FileKind, fields: dict[str, str]
) -> Upload:
    focal = _focal(fields)
    with given.store.session() as session:
        return accept(
            session,
            slot,
            name=name,
            blob=blob,
            format=kind.value,
            alt=fields.get("alt", "")[:2000],
            focal=focal,
        )


def _focal(fields: dict[str, str]) -> tuple[float, float] | None:
    if "focal_x" not in fields and "focal_y" not in fields:
        return None
    try:
        point = float(fields["focal_x"]), float(fields["focal_y"])
    except (KeyError, ValueError):
        point = (-1.0, -1.0)
    if not all(0 <= value <= 1 for value in point):
        raise Problem(
            422, "No such focal point", "Give both focal_x and focal_y, each from 0 to 1."
        )
    return point


def _wait_wanted(prefer: str) -> float:
    """Seconds from ``wait=N``; 0 without."""
    match = re.search(r"(?:^|[,;\s])wait\s*=\s*\"?(\d{1,6})", prefer)
    return min(MAX_WAIT, float(match[1])) if match else 0.0


async def _settled(given: Services, upload: Upload, seconds: float) -> Upload:
    """The upload once nothing more happens to it, or when the time is up."""
    deadline = asyncio.get_running_loop().time() + seconds
    while upload.state not in _SETTLED and asyncio.get_running_loop().time() < deadline:
        await asyncio.sleep(0.1)
        upload = await anyio.to_thread.run_sync(_again, given, upload.id)
    return upload


def _again(given: Services, upload_id: str) -> Upload:
    with given.store.session() as session:
        return session.get_one(Upload, upload_id)


def _answer(given: Services, upload: Upload, slot: str, seconds: float) -> JSONResponse:
    location = f"/api/v1/uploads/{upload.id}"
    headers = {"Location": location}
    if seconds:
        headers["Preference-Applied"] = f"wait={seconds:.0f}"
    if upload.state in (UploadState.REJECTED, UploadState.FAILED):
        body = problem_body(422, "Not usable", upload.problem, upload=location)
        return JSONResponse(body, 422, headers=headers, media_type=PROBLEM_JSON)
    done = upload.state in _SETTLED
    return JSONResponse(
        _described(given, upload, slot).model_dump(mode="json"),
        201 if done else 202,
        headers=headers,
    )


@router.get(
    "/uploads/{upload_id}",
    response_model=UploadAnswer,
    responses={404: {"description": "No such upload.", "content": {PROBLEM_JSON: {}}}},
)
def show(
    upload_id: str,
    given: Given,
    sizes: Annotated[str, Query(description="The sizes attribute for the markup.")] = "",
) -> Any:
    """What became of an upload. Its id cannot be guessed, so no key is asked for."""
    with given.store.session() as session:
        upload = session.get(Upload, upload_id)
        slot = session.get(Slot, upload.slot_id) if upload else None
    if upload is None or slot is None:
        raise Problem(404, "No such upload", "It may have been removed.")
    if sizes and not _SIZES.fullmatch(sizes):
        raise Problem(422, "Not a sizes attribute", "Use lengths and media conditions only.")
    return _described(given, upload, slot.name, sizes)


def _described(given: Services, upload: Upload, slot: str, sizes: str = "") -> UploadAnswer:
    with given.store.session() as session:
        variants = variants_of_upload(session, upload.id)
    served = [_served(variant) for variant in variants]
    offers = [Offer(v.url, v.format, v.width, v.height) for v in served]
    shown = Size(upload.width or 0, upload.height or 0)
    return UploadAnswer(
        id=upload.id,
        slot=slot,
        state=upload.state,
        problem=upload.problem,
        alt=upload.alt,
        original=Original(
            name=upload.name,
            format=upload.format,
            bytes=upload.bytes,
            width=upload.width,
            height=upload.height,
        ),
        variants=served,
        markup=picture(offers, shown, upload.alt, sizes=sizes),
        placeholder=upload.placeholder,
    )


def _served(variant: Variant) -> ServedVariant:
    return ServedVariant(
        url=address(variant),
        format=Format(variant.format),
        width=variant.width,
        height=variant.height,
        bytes=variant.bytes,
    )

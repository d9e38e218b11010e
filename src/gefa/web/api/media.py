"""``/m/``: variants, served as they will always be."""

from __future__ import annotations

from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import FileResponse

from gefa.core.deliver.negotiate import pick
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.models import Upload, UploadState, Variant
from gefa.store.slots import variant_at, variants_of_upload
from gefa.web.problems import Problem
from gefa.web.services import Given, Services

router = APIRouter(prefix="/m", tags=["delivery"])

FOREVER = "public, max-age=31536000, immutable"
A_WHILE = "public, max-age=300"
HINTS = ("Sec-CH-Width", "Sec-CH-DPR")


@router.api_route("/{upload_id}", methods=["GET", "HEAD"])
def negotiated(
    request: Request,
    upload_id: str,
    given: Given,
    w: Annotated[int | None, Query(ge=1, le=100_000, description="px that are needed")] = None,
) -> Response:
    """The variant that suits the client best: by ``Accept``, ``w``, and the client hints
    ``Sec-CH-Width`` and ``Sec-CH-DPR``. One that exists: nothing is ever made for a request."""
    with given.store.session() as session:
        upload = session.get(Upload, upload_id)
        live = upload is not None and upload.state is UploadState.LIVE
        variants = list(variants_of_upload(session, upload_id)) if live else []
    found = pick(variants, request.headers.get("accept", ""), _needed(request, w))
    if found is None:
        raise Problem(404, "No such picture", "There is no live upload at this address.")
    headers = {
        "Cache-Control": A_WHILE,
        "Vary": ", ".join(("Accept", *HINTS)),
        "Accept-CH": ", ".join(HINTS),
        "Content-Location": address(found),
    }
    return _sent(request, given, found, headers)


def _needed(request: Request, w: int | None) -> float | None:
    """Pixels that are needed across: ``w`` times the density that was told, or the width that was
    (Responsive Image Client Hints; both in the client's own pixels)."""
    width, density = (_hint(request, name) for name in HINTS)
    if w is not None:
        return w * (density or 1.0)
    return width


def _hint(request: Request, name: str) -> float | None:
    try:
        value = float(request.headers.get(name, ""))
    except ValueError:
        return None
    return value if 0 < value < 100_000 else None


@router.api_route("/{upload_id}/{digest}/{path:path}", methods=["GET", "HEAD"])
def variant(request: Request, upload_id: str, digest: str, path: str, given: Given) -> Response:
    """One variant of a live upload. The address names its content, so it never changes."""
    found = _live(given, upload_id, path)
    if found is None or not found.sha256.startswith(digest) or len(digest) < 8:
        raise Problem(404, "No such file", "There is no variant at this address.")
    return _sent(request, given, found, {"Cache-Control": FOREVER})


def _sent(request: Request, given: Services, found: Variant, headers: dict[str, str]) -> Response:
    etag = f'"{found.sha256}"'
    headers = headers | {"ETag": etag}
    if _matches(request.headers.get("if-none-match", ""), etag):
        return Response(status_code=304, headers=headers)
    return FileResponse(
        given.store.blobs.path(found.sha256),
        media_type=FORMATS[Format(found.format)].media_type,
        headers=headers,
    )


def address(variant: Variant) -> str:
    """Where a variant is served, for ever."""
    return f"/m/{variant.upload_id}/{variant.sha256[:12]}/{quote(variant.path)}"


def _live(given: Services, upload_id: str, path: str) -> Variant | None:
    with given.store.session() as session:
        upload = session.get(Upload, upload_id)
        if upload is None or upload.state is not UploadState.LIVE:
            return None
        return variant_at(session, upload_id, path)


def _matches(condition: str, etag: str) -> bool:
    """RFC 9110, section 13.1.2: weak comparison against each listed tag, or ``*``."""
    tags = [tag.strip().removeprefix("W/") for tag in condition.split(",")]
    return etag in tags or tags == ["*"]

"""``/m/``: variants, served as they will always be."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from gefa.core.treat.formats import FORMATS, Format
from gefa.store.models import Upload, UploadState, Variant
from gefa.store.slots import variant_at
from gefa.web.problems import Problem
from gefa.web.services import Given, Services

router = APIRouter(prefix="/m", tags=["delivery"])

FOREVER = "public, max-age=31536000, immutable"


@router.api_route("/{upload_id}/{digest}/{path:path}", methods=["GET", "HEAD"])
def variant(request: Request, upload_id: str, digest: str, path: str, given: Given) -> Response:
    """One variant of a live upload. The address names its content, so it never changes."""
    found = _live(given, upload_id, path)
    if found is None or not found.sha256.startswith(digest) or len(digest) < 8:
        raise Problem(404, "No such file", "There is no variant at this address.")
    etag = f'"{found.sha256}"'
    headers = {"Cache-Control": FOREVER, "ETag": etag}
    if _matches(request.headers.get("if-none-match", ""), etag):
        return Response(status_code=304, headers=headers)
    return FileResponse(
        given.store.blobs.path(found.sha256),
        media_type=FORMATS[Format(found.format)].media_type,
        headers=headers,
    )


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

"""Sends files from the blob store."""

from __future__ import annotations

from fastapi import Response
from fastapi.responses import FileResponse

from gefa.core.deliver.manifest import File
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.blobs import BlobStore
from gefa.web.problems import Problem

FOREVER = "private, max-age=31536000, immutable"
"""for addresses whose content never changes"""

DRAWING_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src data:"
"""for SVG files: some properties have no attribute, and small pictures are inside"""


def send_blob(
    blobs: BlobStore, sha256: str, media_type: str, cached: str = "", save_as: str = ""
) -> Response:
    """Send a blob; Problem if it was swept, lost or damaged. ``save_as`` makes browsers save it
    under that name instead of showing it."""
    path = blobs.checked(sha256) if sha256 else None
    if path is None:
        raise Problem(
            404,
            "Not here any more",
            "It was deleted because nobody used it, or it was lost. Make it again.",
            {"Cache-Control": "no-store"},
        )
    headers = {"ETag": f'"{sha256}"'}
    if media_type == FORMATS[Format.SVG].media_type:
        headers["Content-Security-Policy"] = DRAWING_POLICY
    if cached:
        headers["Cache-Control"] = cached
    if save_as:
        headers["Content-Disposition"] = save_as
    return FileResponse(path, media_type=media_type, headers=headers)


def send_made(blobs: BlobStore, sha256: str, format: Format | str, cached: str = "") -> Response:
    """Send a variant to look at."""
    return send_blob(blobs, sha256, FORMATS[Format(format)].media_type, cached)


def send_from(blobs: BlobStore, files: list[File], path: str) -> Response:
    """Send the file at that path of a job's report."""
    found = next((file for file in files if file.path == path), None)
    if found is None:
        raise Problem(404, "No such file", f"{path} was not made here.")
    return send_made(blobs, found.sha256, found.format)

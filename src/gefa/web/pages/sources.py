"""Sources: bring files in, and the wall of what was brought in."""

from __future__ import annotations

from typing import Any

import anyio.to_thread
from fastapi import APIRouter, HTTPException, Request, Response
from fastapi.responses import JSONResponse, RedirectResponse
from sqlmodel import select

from gefa.store.models import Revision
from gefa.store.sources import WallRow, wall
from gefa.web.file_form import receive_form
from gefa.web.pages.source_intake import SourceIntake, brought_in
from gefa.web.sending import FOREVER, send_blob
from gefa.web.services import ServicesOf
from gefa.web.templating import page

router = APIRouter()

PICTURES = {"picture": "image/webp", "small": "image/webp", "pick": "image/png"}


@router.get("/")
def show(request: Request, given: ServicesOf) -> Response:
    """Everything that was brought in."""
    with given.store.reading() as session:
        tiles = [_tile(row) for row in wall(session)]
    reading = any(tile["state"] in ("reading", "drawing") for tile in tiles)
    part = "sources/_wall.html" if request.headers.get("HX-Request") else "sources/index.html"
    return page(request, part, tiles=tiles, reading=reading)


def _tile(row: WallRow) -> dict[str, Any]:
    state = row.state.value
    if state == "ready" and not row.drawn:
        state = "drawing"
    return {
        "id": row.id,
        "name": row.name,
        "revision": row.number,
        "state": state,
        "has_picture": row.has_picture,
        "news": ", ".join(f"{count} {what}" for what, count in row.changes.items()),
        "problem": row.problem,
        "format": row.format,
        "bytes": row.bytes,
        "width": row.width,
        "height": row.height,
        "parts": row.parts,
    }


@router.post("/sources")
async def receive(request: Request, given: ServicesOf) -> Response:
    """Take files in, each by itself: a bad one costs no other.

    A script that asks for JSON gets a result for each file; a plain form goes to the wall.
    """
    form = await receive_form(request, given, SourceIntake(given.limits.source_bytes))
    results = await anyio.to_thread.run_sync(brought_in, given, form.files)
    given.foreman.wake()
    wants_json = "application/json" in request.headers.get("accept", "")
    if wants_json:
        good = any(result["source"] for result in results)
        return JSONResponse({"results": results}, 201 if good else 422)
    refused = [result for result in results if result["problem"]]
    if refused or not results:
        reasons = " ".join(f"{r['name']}: {r['problem']}" for r in refused)
        return page(
            request,
            "error.html",
            status_code=422,
            title="Not every file could be brought in" if results else "No file was chosen",
            detail=reasons or "Choose one or more files and send them again.",
        )
    return RedirectResponse("/", 303)


@router.get("/sources/{source_id}/{number:int}/{which}")
def preview(
    source_id: str,
    number: int,
    which: str,
    given: ServicesOf,
) -> Response:
    """A picture of a revision; a revision never changes, so it may be kept for ever."""
    if which not in PICTURES:
        raise HTTPException(404)
    with given.store.reading() as session:
        revision = session.exec(
            select(Revision).where(Revision.source_id == source_id, Revision.number == number)
        ).first()
    sha256 = revision.preview.get(which) if revision else None
    if sha256 is None:
        raise HTTPException(404)
    return send_blob(given.store.blobs, sha256, PICTURES[which], FOREVER)

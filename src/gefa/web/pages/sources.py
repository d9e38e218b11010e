"""Sources: bring files in, and the wall of what was brought in."""

from __future__ import annotations

import zlib
from typing import Any
from zipfile import BadZipFile

import anyio.to_thread
from fastapi import APIRouter, HTTPException, Request, Response
from fastapi.responses import JSONResponse, RedirectResponse
from sqlmodel import select
from starlette.datastructures import UploadFile

from gefa.core.cut.revisions import Changes
from gefa.core.errors import GefaError
from gefa.core.read import kind_of
from gefa.core.read.sniff import HEAD_BYTES, KINDS_IN_WORDS, sniff
from gefa.core.read.zips import Member, is_pack, is_zip, members
from gefa.store.blobs import Blob
from gefa.store.models import Revision
from gefa.store.sources import all_sources, bring_in
from gefa.web.incoming import clean_name
from gefa.web.sending import FOREVER, send_blob
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page

router = APIRouter()

MAX_FILES = 5_000
"""brought in at once: a site of 3,000 sources fits, and the form is still read in seconds"""
PICTURES = {"picture": "image/webp", "small": "image/webp", "pick": "image/png"}


@router.get("/")
def wall(request: Request, given: ServicesOf) -> Response:
    """Everything that was brought in."""
    with given.store.reading() as session:
        tiles = [
            _tile(source.id, source.name, revision) for source, revision in all_sources(session)
        ]
    reading = any(tile["state"] in ("reading", "drawing") for tile in tiles)
    part = "sources/_wall.html" if request.headers.get("HX-Request") else "sources/index.html"
    return page(request, part, tiles=tiles, reading=reading)


def _tile(source_id: str, name: str, revision: Revision) -> dict[str, Any]:
    survey = revision.survey
    state = revision.state.value
    if state == "ready" and not revision.preview:
        state = "drawing"
    changes = Changes.model_validate(revision.changes)
    return {
        "id": source_id,
        "name": name,
        "revision": revision.number,
        "state": state,
        "has_picture": bool(revision.preview.get("small")),
        "news": _news(changes),
        "problem": revision.problem,
        "format": revision.format,
        "bytes": revision.bytes,
        "width": survey.get("width"),
        "height": survey.get("height"),
        "parts": max(0, len(survey.get("parts", [])) - 1),
    }


def _news(changes: Changes) -> str:
    """What changed since the last revision, in a few words."""
    counted = {
        "added": changes.added,
        "changed": changes.changed,
        "moved": changes.moved,
        "gone": changes.gone,
    }
    return ", ".join(f"{len(paths)} {word}" for word, paths in counted.items() if paths)


@router.post("/sources")
async def receive(request: Request, given: ServicesOf) -> Response:
    """Take files in, each by itself: a bad one costs no other.

    A script that asks for JSON gets a result for each file; a plain form goes to the wall.
    """
    async with request.form(max_files=MAX_FILES) as form:
        files = [item for item in form.getlist("file") if isinstance(item, UploadFile)]
        results = [
            result for file in files if file.filename for result in await _receive_one(file, given)
        ]
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


async def _receive_one(file: UploadFile, given: ServicesOf) -> list[dict[str, str]]:
    """What became of a file: one result, or one for each file in a zip."""
    name = clean_name(file.filename or "")
    return await anyio.to_thread.run_sync(_take_in, name, file, given)


def _take_in(name: str, file: UploadFile, given: Services) -> list[dict[str, str]]:
    """Store a file that came and bring it in, or each file of a zip."""
    head = file.file.read(HEAD_BYTES)
    if sniff(head) is None and not is_zip(head):
        problem = (
            f"is not a picture or design that Gefa reads. It reads {KINDS_IN_WORDS}."
            if file.size
            else "is empty. Save it again, and check its size."
        )
        return [_result(name, problem=problem)]
    file.file.seek(0)
    blob = given.store.blobs.take(file.file)
    path = given.store.blobs.path(blob.sha256)
    if is_pack(path):
        return _receive_pack(name, blob, given)
    try:
        kind = kind_of(path, name)
    except GefaError as error:
        return [_result(name, problem=f"{error.reason} {error.advice}")]
    with given.store.changing() as session:
        source, _ = bring_in(session, name, blob, kind.value)
        return [_result(name, source.id)]


def _result(name: str, source: str = "", problem: str = "") -> dict[str, str]:
    return {"name": name, "source": source, "problem": problem}


def _receive_pack(name: str, pack: Blob, given: Services) -> list[dict[str, str]]:
    """Bring in every file of a zip; one that cannot be read costs no other."""
    results = []
    try:
        for member in members(given.store.blobs.path(pack.sha256), name):
            results.append(_receive_member(member, given))
    except GefaError as error:
        results.append(_result(name, problem=f"{error.reason} {error.advice}"))
    return results


def _receive_member(member: Member, given: Services) -> dict[str, str]:
    try:
        with member.open() as packed:
            head = packed.read(HEAD_BYTES)
        if sniff(head) is None and not is_zip(head):
            return _result(member.name, problem="is not a picture or design that Gefa reads.")
        with member.open() as packed:
            blob = given.store.blobs.take(packed)
        kind = kind_of(given.store.blobs.path(blob.sha256), member.name)
    except (GefaError, OSError, zlib.error, BadZipFile) as error:
        return _result(member.name, problem=f"cannot be unpacked: {error}")
    with given.store.changing() as session:
        source, _ = bring_in(session, member.name, blob, kind.value)
        return _result(member.name, source.id)


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

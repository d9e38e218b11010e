"""Runs: live progress, then the sheet, the bundle, the manifest and the markup."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator
from typing import Any
from urllib.parse import quote

import anyio.to_thread
from fastapi import APIRouter, HTTPException, Request, Response
from fastapi.responses import FileResponse, StreamingResponse
from sqlmodel import Session, select

from gefa.core.deliver.bundle import bundle
from gefa.core.deliver.manifest import MANIFEST, Manifest, Totals
from gefa.core.deliver.names import safe
from gefa.core.plan import Plan
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.models import Run, Source, Variant
from gefa.store.runs import manifest_of, recent_runs
from gefa.web.pages.run_view import Progress, progress_of, seconds_taken, sheet_of
from gefa.web.problems import Problem
from gefa.web.services import Given, Services
from gefa.web.templating import fragment, page

router = APIRouter(prefix="/runs")

LOOK_SECONDS = 0.3


@router.get("")
def index(request: Request, given: Given) -> Response:
    """All runs, the newest first."""
    with given.store.session() as session:
        rows = [
            {
                "run": run,
                "source": source,
                "seconds": seconds_taken(run),
                "totals": Totals.model_validate(run.totals),
            }
            for run, source in recent_runs(session)
        ]
    return page(request, "runs/list.html", rows=rows)


def _found(session: Session, run_id: str) -> tuple[Run, Source]:
    run = session.get(Run, run_id)
    if run is None:
        raise HTTPException(404)
    return run, session.get_one(Source, run.source_id)


def _context(session: Session, given: Services, run: Run, source: Source) -> dict[str, Any]:
    manifest = manifest_of(session, run)
    return {
        "run": run,
        "source": source,
        "progress": progress_of(session, given.queue, run),
        "seconds": seconds_taken(run),
        "manifest": manifest,
        "totals": manifest.totals(),
        "groups": sheet_of(manifest, Plan.model_validate(run.plan)),
    }


@router.get("/{run_id}")
def show(request: Request, run_id: str, given: Given) -> Response:
    """One run; for a script's request, only its sheet."""
    with given.store.session() as session:
        run, source = _found(session, run_id)
        context = _context(session, given, run, source)
    template = "runs/_sheet.html" if request.headers.get("HX-Request") else "runs/index.html"
    return page(request, template, **context)


@router.get("/{run_id}/events")
async def events(run_id: str, given: Given) -> StreamingResponse:
    """Progress as server-sent events until the run is finished."""
    if await anyio.to_thread.run_sync(_progress, given, run_id) is None:
        raise HTTPException(404)
    return StreamingResponse(
        _stream(given, run_id),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


def _progress(given: Services, run_id: str) -> Progress | None:
    with given.store.session() as session:
        run = session.get(Run, run_id)
        return progress_of(session, given.queue, run) if run else None


async def _stream(given: Services, run_id: str) -> AsyncIterator[str]:
    told = ""
    while True:
        progress = await anyio.to_thread.run_sync(_progress, given, run_id)
        if progress is None:
            return
        text = fragment("runs/_progress.html", progress=progress, run_id=run_id)
        if text != told:
            told = text
            yield _event("progress", text)
        if progress.finished:
            yield _event("finished", "")
            return
        await asyncio.sleep(LOOK_SECONDS)


def _event(name: str, text: str) -> str:
    lines = "".join(f"data: {line}\n" for line in text.splitlines() or [""])
    return f"event: {name}\n{lines}\n"


@router.get("/{run_id}/manifest.json")
def manifest(run_id: str, given: Given) -> Response:
    """The manifest by itself."""
    with given.store.session() as session:
        run, _ = _found(session, run_id)
        text = manifest_of(session, run).to_json()
    return Response(text, media_type="application/json")


@router.get("/{run_id}/bundle.zip")
def bundled(run_id: str, given: Given) -> Response:
    """Variants, manifest and markup in one zip, written while it is sent."""
    with given.store.session() as session:
        run, source = _found(session, run_id)
        if run.finished is None:
            raise Problem(409, "Not finished", "The bundle is ready when the run is finished.")
        made: Manifest = manifest_of(session, run)
    stream: Iterator[bytes] = bundle(made, given.store.blobs.path)
    name = f"{safe(source.name.rpartition('.')[0] or source.name)}.zip"
    return StreamingResponse(
        stream,
        media_type="application/zip",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"},
    )


@router.get("/{run_id}/files/{path:path}")
def file(run_id: str, path: str, given: Given) -> Response:
    """One variant of the run, to look at."""
    with given.store.session() as session:
        found = session.exec(
            select(Variant).where(Variant.run_id == run_id, Variant.path == path)
        ).first()
    if found is None:
        raise HTTPException(404, f"This run has no file {path!r}; see its {MANIFEST}.")
    media_type = FORMATS[Format(found.format)].media_type
    return FileResponse(given.store.blobs.path(found.sha256), media_type=media_type)

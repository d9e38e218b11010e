"""Runs: live progress, then the sheet, the bundle, the manifest and the markup."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator
from pathlib import Path
from typing import Annotated, Any, Literal
from urllib.parse import quote

import anyio.to_thread
from fastapi import APIRouter, Depends, HTTPException, Query, Request, Response
from fastapi.responses import RedirectResponse, StreamingResponse
from sqlmodel import Session, select

from gefa.core.deliver.bundle import bundle
from gefa.core.deliver.compare import counted, paired
from gefa.core.deliver.layout import Layout, Piece, lay_out, pieces
from gefa.core.deliver.manifest import MANIFEST, Manifest, OriginalFile, Totals
from gefa.core.deliver.names import safe
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.geometry import Size
from gefa.core.plan.plan import Plan
from gefa.store.contracts import PdfReport
from gefa.store.models import Revision, Run, Source, TaskState, Variant
from gefa.store.removal import remove_run
from gefa.store.runs import (
    ask_for_pdf,
    manifest_of,
    pdf_task,
    recent_runs,
    run_again,
    runs_beside,
)
from gefa.store.sources import survey_of
from gefa.web.pages.proof_view import ask_for_scores
from gefa.web.pages.run_view import (
    SORTS,
    RunProgress,
    SheetQuery,
    progress_of,
    seconds_taken,
    sheet_of,
)
from gefa.web.problems import Problem
from gefa.web.sending import send_blob, send_made
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import fragment, page

router = APIRouter(prefix="/runs")

LOOK_SECONDS = 0.3
"""between two looks at a run that somebody watches: a bar that moves smoothly enough"""
FRAME = Size(600, 560)
"""px that a layout is shown in"""
FRAMED = (
    "default-src 'none'; img-src 'self'; style-src 'self' 'unsafe-inline'; base-uri 'self';"
    " frame-ancestors 'self'"
)
"""for the page of a layout, which is shown inside ours and has a style of its own; no scripts"""


def _asked(format: str = "", sort: str = "order", warned: bool = False) -> SheetQuery:
    return SheetQuery(format, sort if sort in SORTS else "order", warned)


SheetAsked = Annotated[SheetQuery, Depends(_asked)]


@router.get("")
def index(request: Request, given: ServicesOf) -> Response:
    """All runs, the newest first."""
    with given.store.reading() as session:
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


def _context(
    session: Session, given: Services, run: Run, source: Source, asked: SheetQuery
) -> dict[str, Any]:
    manifest = manifest_of(session, run)
    sent = map(sent_to_large_screens, manifest.files_by_cut().values())
    unseen = sum(file is not None and file.score is None and not file.moves for file in sent)
    return {
        "open_looks": unseen if asked.sort == "look" else 0,
        "run": run,
        "source": source,
        "progress": progress_of(session, given.queue, run),
        "seconds": seconds_taken(run),
        "manifest": manifest,
        "totals": manifest.totals(),
        "sheet": sheet_of(manifest, Plan.model_validate(run.plan), asked),
        "others": runs_beside(session, run),
    }


@router.get("/{run_id}")
def show(
    request: Request,
    run_id: str,
    given: ServicesOf,
    asked: SheetAsked,
) -> Response:
    """One run; for a script's request, only its sheet."""
    with given.store.reading() as session:
        run, source = _found(session, run_id)
        context = _context(session, given, run, source, asked)
    template = "runs/_sheet.html" if request.headers.get("HX-Request") else "runs/index.html"
    return page(request, template, **context)


@router.post("/{run_id}/looks")
def measure_looks(
    request: Request,
    run_id: str,
    given: ServicesOf,
    asked: SheetAsked,
) -> Response:
    """Have the files looked at that stand for their cuts and were not; the sheet as far as that
    is."""
    with given.store.session() as session:
        run, source = _found(session, run_id)
        context = _context(session, given, run, source, asked)
        context["open_looks"] = ask_for_scores(session, run)
    given.foreman.wake()
    return page(request, "runs/_sheet.html", **context)


@router.post("/{run_id}/again")
def again(run_id: str, given: ServicesOf) -> Response:
    """Have what failed made once more."""
    with given.store.changing() as session:
        run, _ = _found(session, run_id)
        if run.finished is None:
            raise Problem(409, "Not finished", "Wait until the run is finished, then try again.")
        run_again(session, run)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{run_id}", 303)


@router.post("/{run_id}/remove")
def remove(run_id: str, given: ServicesOf) -> Response:
    """Take a run and what it made away for good."""
    with given.store.changing() as session:
        run, _ = _found(session, run_id)
        remove_run(session, run)
    return RedirectResponse("/runs", 303)


@router.get("/{run_id}/compare")
def compare(request: Request, run_id: str, given: ServicesOf, against: str = "") -> Response:
    """A run beside another one of the same source: better, worse, the same."""
    with given.store.reading() as session:
        run, source = _found(session, run_id)
        others = runs_beside(session, run)
        before = next((other for other in others if other.id == against), None)
        if before is None:
            raise Problem(404, "No such run", "Choose another run of the same source.")
        pairs = paired(manifest_of(session, before), manifest_of(session, run))
    most = max((f.bytes for pair in pairs for f in (pair.before, pair.after) if f), default=1)
    return page(
        request,
        "runs/compare.html",
        run=run,
        before=before,
        source=source,
        others=others,
        pairs=pairs,
        counts=counted(pairs),
        heavier=sum(pair.heavier for pair in pairs),
        most=most,
    )


@router.get("/{run_id}/events")
async def events(run_id: str, given: ServicesOf) -> StreamingResponse:
    """Progress as server-sent events until the run is finished."""
    if await anyio.to_thread.run_sync(_progress, given, run_id) is None:
        raise HTTPException(404)
    return StreamingResponse(
        _stream(given, run_id),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


def _progress(given: Services, run_id: str) -> RunProgress | None:
    with given.store.reading() as session:
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
def manifest(run_id: str, given: ServicesOf) -> Response:
    """The manifest by itself."""
    with given.store.reading() as session:
        run, _ = _found(session, run_id)
        text = manifest_of(session, run).to_json()
    return Response(text, media_type="application/json")


@router.get("/{run_id}/bundle.zip")
def bundled(run_id: str, given: ServicesOf) -> Response:
    """Variants, manifest and markup in one zip, written while it is sent."""
    with given.store.reading() as session:
        run, source = _found(session, run_id)
        if run.finished is None:
            raise Problem(409, "Not finished", "The bundle is ready when the run is finished.")
        made: Manifest = manifest_of(session, run)
        *_, laid = _layout(session, run_id, [])
    stream: Iterator[bytes] = bundle(made, given.store.blobs.path, laid)
    name = f"{safe(source.name.rpartition('.')[0] or source.name)}.zip"
    return StreamingResponse(
        stream,
        media_type="application/zip",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"},
    )


# -- layout and PDF ----------------------------------------------------------------------


def _layout(
    session: Session, run_id: str, chosen: list[str]
) -> tuple[Run, Source, Manifest, list[Piece], Layout]:
    run, source = _found(session, run_id)
    made = manifest_of(session, run)
    survey = survey_of(session.get_one(Revision, run.revision_id))
    cuts = [cut for cut in made.cuts if cut.name in chosen] if chosen else made.cuts
    laid = pieces(cuts, made.files_by_cut())
    return run, source, made, laid, lay_out(laid, survey.size, source.name)


@router.get("/{run_id}/layout/")
def layout(
    request: Request,
    run_id: str,
    given: ServicesOf,
    cut: Annotated[list[str] | None, Query()] = None,
) -> Response:
    """The files laid out as in the design, for all cuts or some."""
    with given.store.reading() as session:
        run, source, made, laid, found = _layout(session, run_id, cut or [])
    share = min(FRAME.width / found.canvas.width, FRAME.height / found.canvas.height)
    return page(
        request,
        "runs/layout.html",
        run=run,
        source=source,
        cuts=made.cuts,
        chosen={piece.record.name for piece in laid},
        query=f"?{request.url.query}" if request.url.query else "",
        css=found.css,
        frame=Size(round(found.canvas.width * share), round(found.canvas.height * share)),
    )


@router.get("/{run_id}/layout/layout.{kind}")
def layout_file(
    run_id: str,
    kind: Literal["html", "css", "json"],
    given: ServicesOf,
    cut: Annotated[list[str] | None, Query()] = None,
) -> Response:
    """The page, style sheet or positions of a layout, as they are in the bundle."""
    with given.store.reading() as session:
        *_, found = _layout(session, run_id, cut or [])
    if kind == "html":
        query = "&".join(f"cut={quote(name)}" for name in cut or [])
        base = found.html.replace('href="layout.css"', f'href="layout.css?{query}"')
        base = base.replace("<head>", f'<head>\n<base href="/runs/{run_id}/files/">', 1)
        base = base.replace('href="layout.css', f'href="/runs/{run_id}/layout/layout.css')
        return Response(base, media_type="text/html", headers={"Content-Security-Policy": FRAMED})
    types = {"css": "text/css", "json": "application/json"}
    return Response(found.css if kind == "css" else found.json, media_type=types[kind])


@router.post("/{run_id}/pdf")
def ask_pdf(run_id: str, given: ServicesOf) -> Response:
    """Have a PDF written, with a page for each cut."""
    with given.store.changing() as session:
        run, _ = _found(session, run_id)
        ask_for_pdf(session, run)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{run_id}/pdf", 303)


@router.get("/{run_id}/pdf")
def pdf(request: Request, run_id: str, given: ServicesOf) -> Response:
    """The PDF, or where it stands."""
    with given.store.reading() as session:
        run, source = _found(session, run_id)
        job = pdf_task(session, run)
    if job is None:
        raise Problem(404, "No PDF yet", "Ask for one with the button on the run.")
    asks_again = bool(request.headers.get("HX-Request"))
    if job.state is not TaskState.DONE:
        waits = asks_again and job.state is TaskState.QUEUED
        if waits:
            return Response(status_code=204)
        if asks_again:
            return Response(headers={"HX-Refresh": "true"})
        return page(request, "runs/pdf.html", run=run, source=source, job=job)
    if asks_again:
        return Response(headers={"HX-Refresh": "true"})
    name = quote(f"{Path(source.name).stem}-cuts.pdf")
    return send_blob(
        given.store.blobs,
        PdfReport.model_validate(job.report).blob,
        "application/pdf",
        save_as=f"inline; filename*=UTF-8''{name}",
    )


@router.get("/{run_id}/files/{path:path}")
def file(run_id: str, path: str, given: ServicesOf) -> Response:
    """One variant of the run, to look at."""
    with given.store.reading() as session:
        found = session.exec(
            select(Variant).where(Variant.run_id == run_id, Variant.path == path)
        ).first()
        original = _original(session, run_id, path) if found is None else None
    if original is not None:
        # Stored by somebody else's program: shown as a file to save, never as a page of ours.
        return send_blob(
            given.store.blobs, original.sha256, original.media_type, save_as="attachment"
        )
    if found is None:
        raise HTTPException(404, f"This run has no file {path!r}; see its {MANIFEST}.")
    return send_made(given.store.blobs, found.sha256, found.format)


def _original(session: Session, run_id: str, path: str) -> OriginalFile | None:
    run = session.get(Run, run_id)
    originals = manifest_of(session, run).originals if run else []
    return next((file for file in originals if file.path == path), None)

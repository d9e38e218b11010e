"""Downloads of a run: the bundle, layouts, the PDF."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import quote, urlencode

from fastapi import Query, Request, Response
from fastapi.responses import RedirectResponse, StreamingResponse
from sqlmodel import Session

from gefa.core.deliver.bundle import bundle
from gefa.core.deliver.layout import Layout, Piece, lay_out, pieces
from gefa.core.deliver.manifest import Manifest
from gefa.core.deliver.names import safe
from gefa.core.geometry import Size
from gefa.store.contracts import PdfReport
from gefa.store.models import Revision, Run, TaskState
from gefa.store.roles import Permission
from gefa.store.run_manifest import manifest_of, sources_of
from gefa.store.runs import ask_for_pdf, pdf_task
from gefa.store.sources import survey_of
from gefa.web.pages.runs import found_run
from gefa.web.problems import Problem
from gefa.web.sending import send_blob
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/runs")

FRAME = Size(600, 560)
"""px in which a layout is shown"""
FRAMED = (
    "default-src 'none'; img-src 'self'; style-src 'self' 'unsafe-inline'; base-uri 'self';"
    " frame-ancestors 'self'"
)
"""for the page of a layout, which is shown inside ours and has its own style sheet; no scripts"""


@router.get("/{run_id}/bundle.zip")
@needs(Permission.LOOK)
def bundled(run_id: str, given: ServicesOf) -> Response:
    """Variants, manifest and markup in one zip, streamed."""
    return bundle_of(given, run_id)


def bundle_of(given: Services, run_id: str) -> Response:
    """The bundle of a run; 404 if there is none, 409 until it is finished."""
    with given.store.reading() as session:
        run, name = found_run(session, run_id)
        if run.finished is None:
            raise Problem(409, "Not finished", "Wait until the run has finished.")
        made: Manifest = manifest_of(session, run)
        layouts = _layouts(session, run, made)
    stream: Iterator[bytes] = bundle(made, given.store.blobs.path, layouts)
    name = f"{safe(name.rpartition('.')[0] or name)}.zip"
    return StreamingResponse(
        stream,
        media_type="application/zip",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"},
    )


def _layouts(session: Session, run: Run, made: Manifest) -> dict[str, Layout]:
    """The pages of a bundle: of the source, or of each design if there are several."""
    sources = sources_of(session, run)
    grouped = made.files_by_cut()
    found = {}
    for _, own in sources:
        cuts = [cut for cut in made.cuts if cut.source == own.name]
        survey = survey_of(session.get_one(Revision, own.revision_id))
        if not cuts or (len(sources) > 1 and not survey.layered):
            continue
        name = "layout"
        if len(sources) > 1:
            name = f"{safe(own.name.rpartition('.')[0] or own.name)}-layout"
        found[name] = lay_out(pieces(cuts, grouped), survey.size, own.name, f"{name}.css")
    return found


def _layout(
    session: Session, run_id: str, chosen: list[str], of: str = ""
) -> tuple[Run, str, Manifest, list[Piece], Layout]:
    """The layout of one source of a run: of the source named ``of``, or of the one with the most
    cuts."""
    run, _ = found_run(session, run_id)
    made = manifest_of(session, run)
    sources = {own.name: own for _, own in sources_of(session, run)}
    counts = Counter(cut.source for cut in made.cuts if cut.source in sources)
    name = (
        of if of in sources else max(counts, key=lambda n: counts[n], default=next(iter(sources)))
    )
    survey = survey_of(session.get_one(Revision, sources[name].revision_id))
    ours = [cut for cut in made.cuts if cut.source == name]
    cuts = [cut for cut in ours if cut.name in chosen] if chosen else ours
    laid = pieces(cuts, made.files_by_cut())
    return run, name, made, laid, lay_out(laid, survey.size, name)


@router.get("/{run_id}/layout/")
@needs(Permission.LOOK)
def layout(
    request: Request,
    run_id: str,
    given: ServicesOf,
    cut: Annotated[list[str] | None, Query()] = None,
    of: str = "",
) -> Response:
    """The files laid out as in the design, for all cuts or some."""
    with given.store.reading() as session:
        run, name, made, laid, found = _layout(session, run_id, cut or [], of)
        sources = [own.name for _, own in sources_of(session, run)]
    share = min(FRAME.width / found.canvas.width, FRAME.height / found.canvas.height)
    return page(
        request,
        "runs/layout.html",
        run=run,
        name=name,
        sources=sources,
        cuts=[record for record in made.cuts if record.source == name],
        chosen={piece.record.name for piece in laid},
        query=f"?{request.url.query}" if request.url.query else "",
        css=found.css,
        frame=Size(round(found.canvas.width * share), round(found.canvas.height * share)),
    )


@router.get("/{run_id}/layout/layout.{kind}")
@needs(Permission.LOOK)
def layout_file(
    run_id: str,
    kind: Literal["html", "css", "json"],
    given: ServicesOf,
    cut: Annotated[list[str] | None, Query()] = None,
    of: str = "",
) -> Response:
    """The page, style sheet or positions of a layout, as in the bundle."""
    with given.store.reading() as session:
        *_, found = _layout(session, run_id, cut or [], of)
    if kind == "html":
        query = urlencode([("of", of), *(("cut", name) for name in cut or [])])
        base = found.html.replace('href="layout.css"', f'href="layout.css?{query}"')
        base = base.replace("<head>", f'<head>\n<base href="/runs/{run_id}/files/">', 1)
        base = base.replace('href="layout.css', f'href="/runs/{run_id}/layout/layout.css')
        return Response(base, media_type="text/html", headers={"Content-Security-Policy": FRAMED})
    types = {"css": "text/css", "json": "application/json"}
    return Response(found.css if kind == "css" else found.json, media_type=types[kind])


@router.post("/{run_id}/pdf")
@needs(Permission.LOOK)
def ask_pdf(run_id: str, given: ServicesOf) -> Response:
    """Request a PDF with a page for each cut."""
    with given.store.changing() as session:
        run, _ = found_run(session, run_id)
        ask_for_pdf(session, run)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{run_id}/pdf", 303)


@router.get("/{run_id}/pdf")
@needs(Permission.LOOK)
def pdf(request: Request, run_id: str, given: ServicesOf) -> Response:
    """The PDF, or its progress."""
    with given.store.reading() as session:
        run, name = found_run(session, run_id)
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
        return page(request, "runs/pdf.html", run=run, name=name, job=job)
    if asks_again:
        return Response(headers={"HX-Refresh": "true"})
    called = quote(f"{Path(name).stem}-cuts.pdf")
    return send_blob(
        given.store.blobs,
        PdfReport.model_validate(job.report).blob,
        "application/pdf",
        save_as=f"inline; filename*=UTF-8''{called}",
    )

"""Runs: live progress, then the sheet, the bundle, the manifest and the markup."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Annotated, Any

import anyio.to_thread
from fastapi import Depends, HTTPException, Query, Request, Response
from fastapi.responses import RedirectResponse, StreamingResponse
from sqlmodel import Session, select

from gefa.core.deliver.compare import counted, paired
from gefa.core.deliver.manifest import MANIFEST, File, Manifest, OriginalFile, Totals
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.deliver.savings import savings
from gefa.core.deliver.sprite import sprite_files, use_line
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.models import Run, Variant
from gefa.store.removal import remove_run
from gefa.store.roles import Permission
from gefa.store.run_choice import choose, plan_in, plan_run
from gefa.store.run_manifest import manifest_of, sources_of
from gefa.store.runs import name_of, recent_runs, run_again, runs_beside, start_run, stop_run
from gefa.store.standing import changed_sources
from gefa.store.waiting_runs import wait_for
from gefa.web.fields import Fields, FormOf
from gefa.web.pages.desk_view import chosen_of
from gefa.web.pages.plan import plan_now
from gefa.web.pages.proof_view import ask_for_scores
from gefa.web.pages.run_view import (
    SORTS,
    RunProgress,
    SheetQuery,
    progress_of,
    seconds_taken,
    sheet_of,
)
from gefa.web.pages.weight_view import Desk, PageChange
from gefa.web.problems import Problem
from gefa.web.sending import DRAWING_POLICY, send_blob, send_made
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import fragment, page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/runs")

LOOK_SECONDS = 0.3
"""between two checks of a run that somebody watches: the bar moves smoothly enough"""


def _asked(
    format: str = "",
    sort: str = "order",
    warned: bool = False,
    q: Annotated[str, Query(max_length=200)] = "",
) -> SheetQuery:
    return SheetQuery(format, sort if sort in SORTS else "order", warned, q)


SheetAsked = Annotated[SheetQuery, Depends(_asked)]


@router.get("")
@needs(Permission.LOOK)
def index(request: Request, given: ServicesOf) -> Response:
    """All runs, newest first."""
    with given.store.reading() as session:
        rows = [
            {
                "run": run,
                "name": listed_names(names),
                "sources": names,
                "seconds": seconds_taken(run),
                "totals": Totals.model_validate(run.totals),
            }
            for run, names in recent_runs(session)
        ]
    return page(request, "runs/list.html", rows=rows)


def listed_names(names: list[str]) -> str:
    """A run's name for people, from the names of its sources."""
    return names[0] if len(names) == 1 else f"{len(names):,} sources"


def found_run(session: Session, run_id: str) -> tuple[Run, str]:
    """The run, and its name for people."""
    run = session.get(Run, run_id)
    if run is None:
        raise HTTPException(404)
    return run, name_of(session, run)


def _context(
    session: Session, given: Services, run: Run, name: str, asked: SheetQuery
) -> dict[str, Any]:
    manifest = manifest_of(session, run)
    sources = sources_of(session, run)
    plans = {own.name: plan_in(run, own) for _, own in sources}
    sent = map(sent_to_large_screens, manifest.files_by_cut().values())
    unseen = sum(file is not None and file.score is None and not file.moves for file in sent)
    return {
        "open_looks": unseen if asked.sort == "look" else 0,
        "run": run,
        "name": name,
        "source": sources[0][0] if len(sources) == 1 else None,
        "out": given.site.out if given.site else None,
        "progress": progress_of(session, given.queue, run),
        "seconds": seconds_taken(run),
        "manifest": manifest,
        "totals": manifest.totals(),
        "savings": savings(manifest),
        "page_changes": _page_changes(session, given, run),
        "drawings": {f.cut: f.path for f in manifest.files if FORMATS[f.format].drawn},
        "uses": {
            cut.name: use_line(sprite, cut)
            for sprite in manifest.sprites
            for cut in manifest.cuts
            if cut.name in sprite.symbols
        },
        "sheet": sheet_of(manifest, plans, asked),
        "others": runs_beside(session, run),
    }


def _page_changes(session: Session, given: Services, run: Run) -> list[PageChange]:
    """The pages of the site that a finished run changed."""
    if run.finished is None:
        return []
    try:
        return Desk.of(session, given, plan_now(session), "").changes(session, run)
    except Problem:  # a plan that cannot be read is told on its own page
        return []


@router.post("")
@needs(Permission.DEVELOP)
def begin(request: Request, given: ServicesOf, form: FormOf) -> Response:
    """Run all sources, those that changed since their last run, or the chosen ones, of all or of
    those that match filters; asks first about very large files. Everything is computed before the
    database is locked."""
    fields = Fields(form)
    large = fields.text("large")
    with given.store.reading() as session:
        choice = choose(session, _wanted(session, fields))
        planned = plan_run(session, choice.chosen)
    if choice.empty:
        raise Problem(409, "Nothing to run", "No source is selected, or none has changed.")
    jobs = planned.large
    if jobs and large not in ("make", "leave"):
        return page(
            request,
            "cut/ask.html",
            status_code=409,
            name="This run",
            jobs=jobs,
            target="/runs",
            back="/",
            fields={name: fields.texts(name) for name in form if name != "large"},
        )
    if large == "leave":
        planned.without({job.cut.name for job in jobs})
    with given.store.changing() as session:
        if choice.reading:
            started = wait_for(session, choice, large)
        else:
            started = start_run(session, planned, choice.refused)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{started.id}", 303)


def _wanted(session: Session, fields: Fields) -> set[str] | None:
    """Ids of the sources that a form asks for; None for all."""
    what = fields.text("what") or "all"
    if what not in ("all", "changed", "chosen"):
        raise Problem(422, "Invalid choice", f"There is nothing called {what[:40]!r} to run.")
    some = what == "chosen" or fields.on("matching")
    wanted = {source.id for source in chosen_of(session, fields)} if some else None
    if what == "changed":
        changed = changed_sources(session)
        wanted = changed if wanted is None else changed & wanted
    return wanted


@router.get("/{run_id}")
@needs(Permission.LOOK)
def show(
    request: Request,
    run_id: str,
    given: ServicesOf,
    asked: SheetAsked,
) -> Response:
    """One run; for a script's request, only its sheet."""
    with given.store.reading() as session:
        run, name = found_run(session, run_id)
        context = _context(session, given, run, name, asked)
    template = "runs/_sheet.html" if request.headers.get("HX-Request") else "runs/index.html"
    return page(request, template, **context)


@router.post("/{run_id}/looks")
@needs(Permission.LOOK)
def measure_looks(
    request: Request,
    run_id: str,
    given: ServicesOf,
    asked: SheetAsked,
) -> Response:
    """Have the files scored that represent their cuts and have no score; answers with the sheet so
    far."""
    with given.store.session() as session:
        run, name = found_run(session, run_id)
        context = _context(session, given, run, name, asked)
        context["open_looks"] = ask_for_scores(session, run)
    given.foreman.wake()
    return page(request, "runs/_sheet.html", **context)


@router.post("/{run_id}/again")
@needs(Permission.DEVELOP)
def again(run_id: str, given: ServicesOf) -> Response:
    """Queue failed cuts again."""
    with given.store.changing() as session:
        run, _ = found_run(session, run_id)
        if run.finished is None:
            raise Problem(409, "Not finished", "Wait until the run is finished, then try again.")
        run_again(session, run)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{run_id}", 303)


@router.post("/{run_id}/stop")
@needs(Permission.DEVELOP)
def stop(run_id: str, given: ServicesOf) -> Response:
    """Stop the run; finished files stay."""
    with given.store.changing() as session:
        run, _ = found_run(session, run_id)
        stop_run(session, run)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{run_id}", 303)


@router.post("/{run_id}/remove")
@needs(Permission.DEVELOP)
def remove(run_id: str, given: ServicesOf) -> Response:
    """Delete a run and its files."""
    with given.store.changing() as session:
        run, _ = found_run(session, run_id)
        remove_run(session, run)
    return RedirectResponse("/runs", 303)


@router.get("/{run_id}/compare")
@needs(Permission.LOOK)
def compare(request: Request, run_id: str, given: ServicesOf, against: str = "") -> Response:
    """A run beside another run of the same source: better, worse, the same."""
    with given.store.reading() as session:
        run, name = found_run(session, run_id)
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
        name=name,
        others=others,
        pairs=pairs,
        counts=counted(pairs),
        heavier=sum(pair.heavier for pair in pairs),
        most=most,
    )


@router.get("/{run_id}/events")
@needs(Permission.LOOK)
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
@needs(Permission.LOOK)
def manifest(run_id: str, given: ServicesOf) -> Response:
    """The manifest alone."""
    with given.store.reading() as session:
        run, _ = found_run(session, run_id)
        text = manifest_of(session, run).to_json()
    return Response(text, media_type="application/json")


@router.get("/{run_id}/files/{path:path}")
@needs(Permission.LOOK)
def file(run_id: str, path: str, given: ServicesOf) -> Response:
    """A variant of the run, to look at."""
    with given.store.reading() as session:
        found = session.exec(
            select(Variant).where(Variant.run_id == run_id, Variant.path == path)
        ).first()
        original = _original(session, run_id, path) if found is None else None
        sprite = _sprite(session, given, run_id, path) if found is None else None
    if sprite is not None:
        policy = {"Content-Security-Policy": DRAWING_POLICY}
        return Response(sprite, media_type=FORMATS[Format.SVG].media_type, headers=policy)
    if original is not None:
        # Stored by somebody else's program: shown as a file to save, never as a page of ours.
        return send_blob(
            given.store.blobs, original.sha256, original.media_type, save_as="attachment"
        )
    if found is None:
        raise HTTPException(404, f"This run has no file {path!r}; see its {MANIFEST}.")
    return send_made(given.store.blobs, found.sha256, found.format)


def _sprite(session: Session, given: Services, run_id: str, path: str) -> bytes | None:
    """The sprite at that path, built from the run's drawings."""
    run = session.get(Run, run_id)
    manifest = manifest_of(session, run) if run else Manifest(sources=[])
    wanted = [sprite for sprite in manifest.sprites if sprite.path == path]
    if not wanted:
        return None
    manifest.sprites = wanted
    return sprite_files(manifest, lambda file: _bytes_of(given, file))[path]


def _bytes_of(given: Services, file: File) -> bytes:
    """The bytes of a made file; Problem if they are lost or damaged."""
    blob = given.store.blobs.checked(file.sha256)
    if blob is None:
        raise Problem(
            404, "Not here any more", f"{file.path}, a part of the sprite, is lost. Run it again."
        )
    return blob.read_bytes()


def _original(session: Session, run_id: str, path: str) -> OriginalFile | None:
    run = session.get(Run, run_id)
    originals = manifest_of(session, run).originals if run else []
    return next((file for file in originals if file.path == path), None)

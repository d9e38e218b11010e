"""*Cut*: one source, its picture beside the list of parts and files."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Literal
from zipfile import ZipFile

from fastapi import Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session, select

from gefa.core.cut.glob import escaped
from gefa.core.errors import GefaError, PartMissing, PlanError
from gefa.core.plan.plan import OriginalsEntry, Plan
from gefa.core.read.document import Kind
from gefa.store.contracts import Preview
from gefa.store.desk import remove as remove_from_desk
from gefa.store.models import Revision, RevisionState, Source
from gefa.store.plans import (
    PlanUnreadable,
    editor_of,
    keep_edit,
    redo,
    step_id,
    undo,
    whole_plan,
)
from gefa.store.roles import Permission
from gefa.store.run_choice import Chosen, plan_run
from gefa.store.runs import start_run
from gefa.store.sources import latest_revision
from gefa.web.fields import FormOf
from gefa.web.pages.cut_view import CutRow, CutView, view_of
from gefa.web.pages.edits import EditForm, edit
from gefa.web.pages.stale import is_stale
from gefa.web.problems import Problem
from gefa.web.sending import FOREVER, send_blob
from gefa.web.services import Services, ServicesOf
from gefa.web.site_mode import keep_to_files
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router()

MAX_PLAN_BYTES = 2_000_000
"""a plan that names 20,000 parts has about as many"""
TILE_TYPES = {"jpg": "image/jpeg", "webp": "image/webp"}


def _found(session: Session, source_id: str) -> tuple[Source, Revision]:
    source = session.get(Source, source_id)
    revision = latest_revision(session, source_id) if source else None
    if source is None or revision is None:
        raise HTTPException(404)
    if source.removed is not None:
        detail = f"{source.name} can be restored on the page Removed sources (/removed)."
        raise Problem(404, "It was removed", detail)
    return source, revision


def _ready(session: Session, source_id: str) -> tuple[Source, Revision]:
    source, revision = _found(session, source_id)
    if revision.state is not RevisionState.READY:
        raise Problem(409, "Not read yet", "Wait until the source has been read, then try again.")
    return source, revision


@router.get("/sources/{source_id}")
@needs(Permission.LOOK)
def show(request: Request, source_id: str, given: ServicesOf) -> Response:
    """The working screen, or the progress of reading."""
    with given.store.reading() as session:
        source, revision = _found(session, source_id)
        if request.headers.get("HX-Request"):
            return _still_waiting(revision)
        if revision.state is not RevisionState.READY:
            return page(request, "cut/waiting.html", source=source, revision=revision)
        try:
            view = view_of(session, source, revision)
        except PlanUnreadable as error:
            problem = str(error)
            return page(
                request, "cut/unreadable.html", status_code=409, source=source, problem=problem
            )
    given.outlooks.wake()  # what nobody has estimated yet is estimated now
    return page(request, "cut/index.html", view=view)


@router.get("/sources/{source_id}/sum")
@needs(Permission.LOOK)
def sum_now(request: Request, source_id: str, given: ServicesOf) -> Response:
    """The sum and the weights of the cuts, while they are being estimated."""
    with given.store.reading() as session:
        view = view_of(session, *_ready(session, source_id))
    given.outlooks.wake()
    return page(request, "cut/_sum_now.html", view=view)


def _still_waiting(revision: Revision) -> Response:
    """For the polling of the waiting page: nothing yet, or reload."""
    if revision.state is RevisionState.READING:
        return Response(status_code=204)
    return Response(headers={"HX-Refresh": "true"})


@router.get("/sources/{source_id}/board")
@needs(Permission.LOOK)
def board(request: Request, source_id: str, given: ServicesOf) -> Response:
    """The picture of the newest revision once it is drawn; empty before."""
    with given.store.reading() as session:
        source, revision = _ready(session, source_id)
        if not revision.preview:
            return Response(status_code=204)
        view = view_of(session, source, revision)
    return page(request, "cut/_board.html", view=view)


@router.post("/sources/{source_id}/plan")
@needs(Permission.DEVELOP)
def change(request: Request, source_id: str, given: ServicesOf, form: FormOf) -> Response:
    """Change the plan by the form's ``do``; answers with what looks different now."""

    def apply(session: Session, source: Source, revision: Revision) -> None:
        asked = EditForm(form, Preview.model_validate(revision.preview).objects)
        if is_stale(session, source, asked):
            raise _Stale
        editor = editor_of(session, source, revision)
        try:
            plan, said = edit(editor, asked)
        except PartMissing as error:
            raise Problem(404, "No such part", str(error)) from error
        except GefaError as error:
            raise Problem(422, "Invalid change", str(error)) from error
        try:
            keep_edit(session, source, plan, said)
        except PlanError as error:
            raise Problem(422, "Invalid change", str(error)) from error

    return _changed(request, source_id, given, apply)


@router.post("/sources/{source_id}/undo")
@needs(Permission.DEVELOP)
def undo_step(
    request: Request, source_id: str, given: ServicesOf, step: Annotated[str | None, Form()] = None
) -> Response:
    """Undo the last change of the plan, even of one that cannot be read."""
    return _changed(request, source_id, given, _at(step, undo))


@router.post("/sources/{source_id}/redo")
@needs(Permission.DEVELOP)
def redo_step(
    request: Request, source_id: str, given: ServicesOf, step: Annotated[str | None, Form()] = None
) -> Response:
    """Redo the change undone last."""
    return _changed(request, source_id, given, _at(step, redo))


def _at(
    step: str | None, change: Callable[[Session, Source], object]
) -> Callable[[Session, Source, Revision], object]:
    """Change the plan only at the step that the form was drawn from, if it names one."""

    def apply(session: Session, source: Source, revision: Revision) -> None:
        if step is not None and step != step_id(session, source):
            raise _Stale
        change(session, source)

    return apply


class _Stale(Exception):
    """The plan has changed since the form was drawn."""


STALE = (
    "The plan was changed meanwhile, in another window or by somebody else. These are the cuts as"
    " they are now: look, and do it again if it is still wanted."
)


def _changed(
    request: Request,
    source_id: str,
    given: Services,
    apply: Callable[[Session, Source, Revision], object],
) -> Response:
    def view() -> CutView:
        with given.store.reading() as session:
            return view_of(session, *_ready(session, source_id))

    by_script = bool(request.headers.get("HX-Request"))
    before = view() if by_script else None
    try:
        with given.store.changing() as session:
            apply(session, *_ready(session, source_id))
    except _Stale:
        if not by_script:
            raise Problem(409, "The plan has changed", STALE) from None
        present = view()
        return page(
            request,
            "cut/_changed.html",
            status_code=409,
            view=present,
            rows=present.rows,
            problem=STALE,
        )
    if before is None:
        return RedirectResponse(f"/sources/{source_id}", 303)
    after = view()
    given.outlooks.wake()
    rows = _different(before, after)
    return page(request, "cut/_changed.html", view=after, rows=rows, problem="")


def _different(before: CutView, after: CutView) -> list[CutRow]:
    known = {row.id: row for row in before.rows}
    return [row for row in after.rows if known.get(row.id) != row]


@router.post("/sources/{source_id}/remove")
@needs(Permission.DEVELOP)
def remove(source_id: str, given: ServicesOf) -> Response:
    """Remove a source; it can be restored for 30 days."""
    keep_to_files(given)
    with given.store.changing() as session:
        source, _ = _found(session, source_id)
        remove_from_desk(session, [source])
    return RedirectResponse("/", 303)


@router.post("/sources/{source_id}/runs")
@needs(Permission.DEVELOP)
def run(
    request: Request, source_id: str, given: ServicesOf, large: Annotated[str, Form()] = ""
) -> Response:
    """Run everything that is ticked; asks first about very large files."""
    with given.store.changing() as session:
        source, revision = _ready(session, source_id)
        plan = whole_plan(session, source)
        planned = plan_run(session, [Chosen(source, revision, plan)])
        jobs = planned.large
        if jobs and large not in ("make", "leave"):
            target = f"/sources/{source.id}/runs"
            return page(
                request,
                "cut/ask.html",
                status_code=409,
                name=source.name,
                jobs=jobs,
                target=target,
                back=f"/sources/{source.id}",
                fields={},
            )
        if large == "leave":
            planned.without({job.cut.name for job in jobs})
        started = start_run(session, planned)
    given.foreman.wake()
    return RedirectResponse(f"/runs/{started.id}", 303)


# -- originals ---------------------------------------------------------------------------


@router.get("/sources/{source_id}/originals")
@needs(Permission.LOOK)
def originals(request: Request, source_id: str, given: ServicesOf, group: str = "") -> Response:
    """The bitmaps stored in a design, the most oversized first."""
    with given.store.reading() as session:
        source, revision = _ready(session, source_id)
        view = view_of(session, source, revision)
    groups = [part.path for part in view.survey.parts if part.kind is Kind.GROUP]
    found = [
        original
        for original in view.survey.originals
        if not group or original.part.startswith(f"{group}/") or original.part == group
    ]
    found.sort(key=lambda original: original.too_large or 0, reverse=True)
    return page(
        request, "cut/originals.html", view=view, originals=found, groups=groups, group=group
    )


@router.post("/sources/{source_id}/originals")
@needs(Permission.DEVELOP)
def take_originals(
    source_id: str,
    given: ServicesOf,
    part: Annotated[list[str] | None, Form()] = None,
    group: Annotated[str, Form()] = "",
) -> Response:
    """Run an export of the originals of these parts, of a group, or of all."""
    with given.store.changing() as session:
        source, revision = _ready(session, source_id)
        globs = [escaped(path) for path in part or []]
        if not globs:
            globs = [escaped(group), f"{escaped(group)}/**"] if group else ["*"]
        plan = Plan(originals=tuple(OriginalsEntry(parts=glob) for glob in globs))
        started = start_run(
            session, plan_run(session, [Chosen(source, revision, plan)]), whole=False
        )
    given.foreman.wake()
    return RedirectResponse(f"/runs/{started.id}", 303)


# -- pictures ----------------------------------------------------------------------------


def _preview(session: Session, source_id: str, number: int) -> Preview:
    revision = session.exec(
        select(Revision).where(Revision.source_id == source_id, Revision.number == number)
    ).first()
    if revision is None:
        raise HTTPException(404)
    return Preview.model_validate(revision.preview)


@router.get("/sources/{source_id}/{number:int}/tiles/{level:int}/{column:int}_{row:int}")
@needs(Permission.LOOK)
def tile(
    source_id: str, number: int, level: int, column: int, row: int, given: ServicesOf
) -> Response:
    """A tile of the picture of a revision; level 0 is the smallest."""
    with given.store.reading() as session:
        sha256 = _preview(session, source_id, number).tiles
    if not sha256:
        raise HTTPException(404)
    tiles = _tiles(given.store.blobs.path(sha256))
    found = tiles.get((level, column, row))
    if found is None:
        raise HTTPException(404)
    with ZipFile(given.store.blobs.path(sha256)) as archive:
        data = archive.read(found)
    media_type = TILE_TYPES[found.rpartition(".")[2]]
    return Response(data, media_type=media_type, headers={"Cache-Control": FOREVER})


@lru_cache(maxsize=8)
def _tiles(path: Path) -> dict[tuple[int, int, int], str]:
    """Members of a zip of tiles by level, column and row."""
    found = {}
    with ZipFile(path) as archive:
        for name in archive.namelist():
            match = re.search(r"(\d+)/(\d+)_(\d+)\.(?:jpg|webp)$", name)
            if match:
                found[int(match[1]), int(match[2]), int(match[3])] = name
    return found


@router.get("/sources/{source_id}/{number:int}/{which}/{index:int}")
@needs(Permission.LOOK)
def before_after(
    source_id: str, number: int, which: Literal["before", "after"], index: int, given: ServicesOf
) -> Response:
    """A picture of the ``index``-th changed part of a revision, before or after."""
    with given.store.reading() as session:
        pairs = list(_preview(session, source_id, number).before_after.values())
    sha256 = pairs[index][which == "after"] if index < len(pairs) else ""
    if not sha256:
        raise HTTPException(404)
    return send_blob(given.store.blobs, sha256, "image/webp", FOREVER)

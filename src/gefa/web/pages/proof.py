"""Proof: a file beside its reference, the curve of its qualities, and choosing one of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from fastapi import Depends, Form, HTTPException, Request, Response
from fastapi.responses import JSONResponse, RedirectResponse
from sqlmodel import Session

from gefa.core.errors import GefaError
from gefa.core.make.job import CutJob
from gefa.core.plan.plan import Plan
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import Aim, OwnQuality, Recipe
from gefa.store.contracts import ProofReport
from gefa.store.models import RevisionState, Run, Source, TaskState
from gefa.store.plans import editor_of, keep_edit
from gefa.store.recipes import library, save_recipe
from gefa.store.roles import Permission
from gefa.store.sources import latest_revision
from gefa.web.fields import whole_number
from gefa.web.pages.curve import HEIGHT, LEFT, RIGHT, WIDTH
from gefa.web.pages.proof_view import (
    ProofView,
    ask_for_reference,
    ask_for_scores,
    curves,
    entry_at,
    proof_of,
    quality_words,
    reference_task,
    strip_of,
)
from gefa.web.problems import Problem
from gefa.web.sending import FOREVER, send_blob, send_made
from gefa.web.services import ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/runs/{run_id}/proof")


@dataclass(frozen=True)
class ProofAddress:
    """The file of a cut to show: its width in px, format, and quality number; a value that does not
    exist gives the nearest one that does."""

    width: int | None = None
    format: str = ""
    quality: str = ""


AddressOf = Annotated[ProofAddress, Depends(ProofAddress)]


def _found(session: Session, run_id: str, cut: str, which: ProofAddress) -> ProofView:
    run = session.get(Run, run_id)
    number = whole_number(which.quality)
    view = run and proof_of(session, run, cut, which.width, which.format, number)
    if not view:
        raise HTTPException(404, f"The run has no file of the cut {cut!r} to look at.")
    return view


@router.get("")
@needs(Permission.LOOK)
def first(run_id: str, given: ServicesOf) -> Response:
    """The cut of a run with the lowest known score."""
    with given.store.reading() as session:
        run = session.get(Run, run_id)
        if run is None:
            raise HTTPException(404)
        strip = strip_of(session, run, "")
    if not strip:
        raise HTTPException(404, "The run made no file to look at.")
    return RedirectResponse(strip[0].href, 303)


@router.post("/{cut:path}/reference")
@needs(Permission.LOOK)
def ask(run_id: str, cut: str, given: ServicesOf, which: AddressOf) -> Response:
    """Have the reference drawn."""
    with given.store.session() as session:
        ask_for_reference(session, _found(session, run_id, cut, which))
    given.foreman.wake()
    return JSONResponse({"state": "drawing"}, 202, headers={"Retry-After": "1"})


@router.get("/{cut:path}/reference")
@needs(Permission.LOOK)
def reference(run_id: str, cut: str, given: ServicesOf, which: AddressOf) -> Response:
    """The reference, once it is drawn; 202 until then, and 404 before it was asked for."""
    with given.store.reading() as session:
        job = reference_task(session, _found(session, run_id, cut, which))
    if job is None:
        raise HTTPException(404, "The reference was not requested yet. Open the proof first.")
    if job.state is TaskState.FAILED:
        raise Problem(409, "It could not be drawn", job.problem)
    if job.state is TaskState.QUEUED:
        return JSONResponse({"state": "drawing"}, 202, headers={"Retry-After": "1"})
    sha256 = ProofReport.model_validate(job.report).reference
    return send_blob(given.store.blobs, sha256, "image/png", FOREVER)


@router.get("/{cut:path}/made")
@needs(Permission.LOOK)
def made(run_id: str, cut: str, given: ServicesOf, which: AddressOf) -> Response:
    """The file of a point of a curve."""
    with given.store.reading() as session:
        view = _found(session, run_id, cut, which)
        number = whole_number(which.quality)
        entry = entry_at(session, view.cut_job, view.size, view.format, number)
    if entry is None:
        raise HTTPException(404, "This cut has no such file.")
    return send_made(given.store.blobs, entry.sha256, view.format, FOREVER)


@router.post("/{cut:path}/curve")
@needs(Permission.LOOK)
def curve(request: Request, run_id: str, cut: str, given: ServicesOf, which: AddressOf) -> Response:
    """The curve as far as it is measured; requests the rest, then scores for the filmstrip."""
    open_scores = 0
    with given.store.session() as session:
        view = _found(session, run_id, cut, which)
        found = curves(session, view)
        if not found.waits:
            open_scores = ask_for_scores(session, view.run)
        if not (found.waits or open_scores):
            view.strip = strip_of(session, view.run, cut)
    given.foreman.wake()
    box = {"width": WIDTH, "height": HEIGHT, "left": LEFT, "right": WIDTH - RIGHT}
    return page(
        request, "proof/_curve.html", view=view, curve=found, box=box, open_scores=open_scores
    )


@router.post("/{cut:path}/keep")
@needs(Permission.DEVELOP)
def keep(
    run_id: str,
    cut: str,
    given: ServicesOf,
    whom: Annotated[Literal["cut", "recipe", "nobody"], Form()],
    format: Annotated[Format, Form()],
    width: Annotated[int, Form()],
    quality: Annotated[str, Form()] = "",
    as_look: Annotated[float | None, Form()] = None,
) -> Response:
    """Use a quality for this cut, or for its recipe; or remove the cut's own."""
    with given.store.changing() as session:
        view = _found(session, run_id, cut, ProofAddress(width, format.value, quality))
        try:
            chosen = None if whom == "nobody" else _quality(format, quality, as_look)
            said = _keep(session, view, whom, chosen)
        except (GefaError, ValueError) as error:
            raise Problem(422, "Invalid quality", str(error)) from error
    back = view.link(kept=said, quality=quality) if quality else view.link(kept=said)
    return RedirectResponse(back, 303)


# Last: a name may have folders in it, and would take in the addresses above.
@router.get("/{cut:path}")
@needs(Permission.LOOK)
def show(
    request: Request, run_id: str, cut: str, given: ServicesOf, which: AddressOf, kept: str = ""
) -> Response:
    """One file beside its reference."""
    with given.store.reading() as session:
        view = _found(session, run_id, cut, which)
        view.strip = strip_of(session, view.run, cut)
    return page(request, "proof/index.html", view=view, kept=kept)


def _quality(format: Format, quality: str, as_look: float | None) -> OwnQuality:
    if as_look is not None:
        return Aim(look=round(as_look, 1))
    number = whole_number(quality)
    if number is None:
        raise ValueError(f"{FORMATS[format].label} without loss has no quality to keep.")
    return {format: number}


def _keep(session: Session, view: ProofView, whom: str, quality: OwnQuality | None) -> str:
    if whom == "recipe" and quality is not None:
        return _for_recipe(session, view, quality)
    return _for_cut(session, view.source, view.cut_job, quality)


def _for_recipe(session: Session, view: ProofView, quality: OwnQuality) -> str:
    name = view.cut_job.cut.recipe
    recipe = Plan(recipes=library(session)).recipe(name)
    changed = recipe.model_copy(update={"quality": recipe.quality_with(quality)})
    changed = Recipe.model_validate(changed.model_dump())
    save_recipe(session, name, changed, f"Kept {quality_words(quality)}")
    return f"{quality_words(quality)} for the recipe {name}"


def _for_cut(session: Session, source: Source, cut_job: CutJob, quality: OwnQuality | None) -> str:
    revision = latest_revision(session, source.id)
    if revision is None or revision.state is not RevisionState.READY:
        raise Problem(409, "Not read yet", "Wait until the source has been read, then try again.")
    editor = editor_of(session, source, revision)
    cut = cut_job.cut
    plan: Plan
    if cut.rect is not None:
        plan = editor.judge_slice(cut.slice, quality)
    else:
        plan = editor.judge(cut.part, editor.line_of(cut), quality)
    words = f"{quality_words(quality)} for {cut.name}" if quality else f"{cut.name} as its recipe"
    keep_edit(session, source, plan, f"Kept {words}")
    return words

"""Cut: one source, its picture beside the list of its parts and files."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.plan import Plan
from gefa.store.models import Revision, RevisionState, Source
from gefa.store.runs import start_run
from gefa.store.sources import decide, latest_revision, plan_of, undecide
from gefa.web.pages.cut_view import view_of
from gefa.web.problems import Problem
from gefa.web.services import Given
from gefa.web.templating import page

router = APIRouter()


def _found(session: Session, source_id: str) -> tuple[Source, Revision]:
    source = session.get(Source, source_id)
    revision = latest_revision(session, source_id) if source else None
    if source is None or revision is None:
        raise HTTPException(404)
    return source, revision


@router.get("/sources/{source_id}")
def show(request: Request, source_id: str, given: Given) -> Response:
    """The working screen, or where reading stands."""
    with given.store.session() as session:
        source, revision = _found(session, source_id)
        if request.headers.get("HX-Request"):
            return _still_waiting(revision)
        if revision.state is not RevisionState.READY:
            return page(request, "cut/waiting.html", source=source, revision=revision)
        view = view_of(session, given.store.blobs, source, revision)
    return page(request, "cut/index.html", view=view)


def _still_waiting(revision: Revision) -> Response:
    """For the waiting page, which asks again and again: nothing yet, or load anew."""
    if revision.state is RevisionState.READING:
        return Response(status_code=204)
    return Response(headers={"HX-Refresh": "true"})


@router.post("/sources/{source_id}/parts")
def change(
    request: Request,
    source_id: str,
    given: Given,
    part: Annotated[str, Form()],
    ticked: Annotated[bool, Form()] = False,
    name: Annotated[str | None, Form(max_length=300)] = None,
    recipe: Annotated[str, Form()] = "",
    reset: Annotated[bool, Form()] = False,
) -> Response:
    """Tick a part, name it, choose its recipe, or take the decision back."""
    with given.store.session() as session:
        source, revision = _found(session, source_id)
        if revision.state is not RevisionState.READY:
            raise HTTPException(409)
        before = view_of(session, given.store.blobs, source, revision).row(part)
        if before is None:
            raise Problem(404, "No such part", f"This source has no part {part!r} any more.")
        for wanted in filter(None, recipe.split(",")):
            if wanted not in Plan().all_recipes:
                raise Problem(422, "No such recipe", f"There is no recipe {wanted!r}.")
        if reset:
            undecide(session, source_id, part)
        else:
            if name is not None:
                name = "" if name.strip() == before.part.display_name else name.strip()
            decide(session, source_id, part, cut=ticked, name=name, recipe=recipe or None)
        view = view_of(session, given.store.blobs, source, revision)
    if request.headers.get("HX-Request"):
        return page(request, "cut/_changed.html", view=view, row=view.row(part))
    return RedirectResponse(f"/sources/{source_id}", 303)


@router.post("/sources/{source_id}/runs")
def run(request: Request, source_id: str, given: Given) -> Response:
    """Start a run of everything that is ticked."""
    with given.store.session() as session:
        source, revision = _found(session, source_id)
        if revision.state is not RevisionState.READY:
            raise Problem(409, "Not read yet", "Wait until the source has been read, then run it.")
        started = start_run(session, source, revision, plan_of(session, source_id))
    given.foreman.wake()
    return RedirectResponse(f"/runs/{started.id}", 303)

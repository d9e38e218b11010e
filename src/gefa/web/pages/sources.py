"""Sources: bring files in, and the desk of everything that was brought in."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import anyio.to_thread
from fastapi import HTTPException, Query, Request, Response
from fastapi.responses import JSONResponse, RedirectResponse
from sqlmodel import Session, select

from gefa.store.desk import removed_sources, ways_of_desk
from gefa.store.desk_rows import desk_rows
from gefa.store.models import Revision
from gefa.store.recipes import shelf_of_recipes
from gefa.store.roles import Permission
from gefa.store.sources import bring_in
from gefa.store.watched import watched_folders
from gefa.web.file_form import receive_form
from gefa.web.pages.desk_view import PAGE, DeskQuery, DeskQueryOf, DeskView, view_of_desk
from gefa.web.pages.source_intake import Brought, SourceIntake, brought_in
from gefa.web.sending import FOREVER, send_blob
from gefa.web.services import Services, ServicesOf
from gefa.web.site_mode import keep_to_files
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router()

PICTURES = {"picture": "image/webp", "small": "image/webp", "pick": "image/png"}
MOST_FRESH = 200
"""rows that are refreshed at once"""
SAMPLE = Path(__file__).parents[1] / "samples" / "pennants.svg"


@router.get("/")
@needs(Permission.LOOK)
def show(
    request: Request,
    given: ServicesOf,
    query: DeskQueryOf,
    after: Annotated[int, Query(ge=0)] = 0,
) -> Response:
    """All sources, as a wall or a table; for a script, the rows from ``after`` on, or the whole
    desk."""
    with given.store.reading() as session:
        view = _view(session, query, start=after)
        removed = len(removed_sources(session))
        watching = given.site is not None or bool(watched_folders(session))
    if view.due:
        given.outlooks.wake()
    part = "sources/index.html"
    if "HX-Request" in request.headers:
        part = "sources/_more.html" if after else "sources/_desk.html"
    unread = len(given.watcher.problems)
    return page(request, part, view=view, removed=removed, unread=unread, watching=watching)


def _view(session: Session, query: DeskQuery, start: int = 0, count: int = PAGE) -> DeskView:
    recipes, ways = shelf_of_recipes(session), ways_of_desk(session)
    return view_of_desk(desk_rows(session), query, recipes, ways, start, count)


def desk_answer(
    request: Request, given: Services, query: DeskQuery, count: int, problem: str = ""
) -> Response:
    """The desk after a change."""
    with given.store.reading() as session:
        view = _view(session, query, count=max(PAGE, count))
        removed = len(removed_sources(session))
    given.outlooks.wake()
    return page(
        request,
        "sources/_desk.html",
        status_code=422 if problem else 200,
        view=view,
        removed=removed,
        problem=problem,
    )


@router.get("/desk/fresh")
@needs(Permission.LOOK)
def fresh(
    request: Request,
    given: ServicesOf,
    query: DeskQueryOf,
    row: Annotated[list[str] | None, Query()] = None,
) -> Response:
    """The current state of rows that were in progress."""
    with given.store.reading() as session:
        view = _view(session, query, count=0)
        wanted = set((row or [])[:MOST_FRESH])
        rows = [one for one in desk_rows(session) if one.id in wanted]
    if view.due:
        given.outlooks.wake()
    return page(request, "sources/_fresh_rows.html", view=view, rows=rows)


@router.post("/sources")
@needs(Permission.DEVELOP)
async def receive(request: Request, given: ServicesOf) -> Response:
    """Bring in files; a bad one costs no other.

    A script that asks for JSON gets a result for each file; a plain form redirects to the desk.
    """
    keep_to_files(given)
    form = await receive_form(request, given, SourceIntake(given.limits.source_bytes))
    results = await anyio.to_thread.run_sync(brought_in, given, form.files)
    given.foreman.wake()
    wants_json = "application/json" in request.headers.get("accept", "")
    if wants_json:
        good = any(result.source_id for result in results)
        return JSONResponse({"results": [_told(r) for r in results]}, 201 if good else 422)
    refused = [result for result in results if result.problem]
    if refused or not results:
        reasons = " ".join(f"{r.path}: {r.problem.detail}" for r in refused if r.problem)
        return page(
            request,
            "error.html",
            status_code=422,
            title="Not every file could be brought in" if results else "No file was chosen",
            detail=reasons or "Choose one or more files and send them again.",
        )
    return RedirectResponse("/", 303)


@router.post("/sources/sample")
@needs(Permission.DEVELOP)
def bring_sample(given: ServicesOf) -> Response:
    """Bring in a sample sheet of pennants that ships with the application, and open its cuts."""
    keep_to_files(given)
    given.check_room()
    blob = given.store.blobs.put_file(SAMPLE)
    with given.store.changing() as session:
        source, _ = bring_in(session, f"samples/{SAMPLE.name}", blob, SAMPLE.suffix[1:])
        address = f"/sources/{source.id}"
    given.foreman.wake()
    return RedirectResponse(address, 303)


def _told(result: Brought) -> dict[str, object]:
    problem = result.problem.detail if result.problem else ""
    told = {"name": result.path, "source": result.source_id, "problem": problem}
    return {**told, "same": result.same}


@router.get("/sources/{source_id}/{number:int}/{which}")
@needs(Permission.LOOK)
def preview(
    source_id: str,
    number: int,
    which: str,
    given: ServicesOf,
) -> Response:
    """A picture of a revision; revisions never change, so it can be cached for ever."""
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

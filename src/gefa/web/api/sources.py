"""``/api/v1/sources``: what the site is made of, brought in, found, treated, moved and removed."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import anyio.to_thread
from fastapi import Header, Query, Request, Response
from fastapi.responses import JSONResponse
from pydantic import BaseModel, ConfigDict, Field
from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.core.read.source_paths import clean_path
from gefa.store.desk import give_recipe, give_tags, move, remove, restore
from gefa.store.desk_rows import DeskRow, Standing, desk_rows
from gefa.store.keys import SiteRight
from gefa.store.models import RevisionState, Source
from gefa.store.sources import latest_revision
from gefa.web.api.site_access import RIGHTS_TO_READ, check_key, problems, site_opened
from gefa.web.file_form import receive_form
from gefa.web.pages.desk_view import SORTS, DeskQuery
from gefa.web.pages.source_intake import Brought, SourceIntake, brought_in
from gefa.web.problems import Problem, problem_body
from gefa.web.services import Services, ServicesOf
from gefa.web.site_mode import keep_to_files
from gefa.web.visitors import guarded_router, with_key

router = guarded_router(prefix="/api/v1/sources", tags=["sources"])

LISTED = 200
"""sources on a page of the list"""
Authorization = Annotated[str, Header()]
State = Literal["reading", "ready", "failed"]


class SourceAnswer(BaseModel):
    """A source in its newest revision. Weights in bytes: ``bytes`` of the source, ``out`` of its
    files, an estimate while ``expected`` is true. Sizes in px."""

    id: str
    path: str
    state: State
    standing: Standing
    problem: str
    format: str
    revision: int
    bytes: int
    width: int | None
    height: int | None
    parts: int
    recipe: str
    tags: list[str]
    cuts: int
    files: int
    out: int
    expected: bool
    saved: float | None


class SourceList(BaseModel):
    """Sources in the requested order; ``next`` is where the next page starts, null at the end."""

    sources: list[SourceAnswer]
    total: int
    next: str | None


class BroughtAnswer(BaseModel):
    """The result of one file: the source, or the problem (RFC 9457). ``same``: the source already
    had these bytes."""

    path: str
    id: str | None = None
    state: State | None = None
    same: bool = False
    problem: dict[str, Any] | None = None


class BroughtAnswers(BaseModel):
    """A result for each file, in the order they were sent; for a zip, one for each file in it."""

    results: list[BroughtAnswer]


class SourceChange(BaseModel):
    """Changes of a source; fields that are not sent stay. An empty recipe means the
    site's default."""

    model_config = ConfigDict(extra="forbid")

    path: str | None = Field(default=None, min_length=1, max_length=390)
    recipe: str | None = Field(default=None, max_length=60)
    tags: list[Annotated[str, Field(min_length=1, max_length=60)]] | None = Field(
        default=None, max_length=60
    )


@router.post(
    "",
    status_code=201,
    response_model=BroughtAnswers,
    responses={
        207: {"model": BroughtAnswers, "description": "Some files were refused."},
        **problems(400, 401, 403, 413),
    },
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                "multipart/form-data": {
                    "schema": {
                        "type": "object",
                        "required": ["file"],
                        "properties": {
                            "file": {
                                "type": "array",
                                "items": {"type": "string", "format": "binary"},
                            }
                        },
                    }
                }
            },
        }
    },
)
@with_key
async def bring_in(
    request: Request, given: ServicesOf, authorization: Authorization = ""
) -> JSONResponse:
    """Bring in files, with their paths as file names, or zips of them. An existing path gets a new
    revision."""
    await anyio.to_thread.run_sync(check_key, given, authorization, SiteRight.BUILD)
    keep_to_files(given)
    form = await receive_form(request, given, SourceIntake(given.limits.source_bytes))
    results = await anyio.to_thread.run_sync(brought_in, given, form.files)
    given.foreman.wake()
    if not results:
        raise Problem(422, "No file", "Send files in the form's field 'file'.")
    told = await anyio.to_thread.run_sync(_brought, given, results)
    status = 207 if any(result.problem for result in results) else 201
    return JSONResponse(told.model_dump(mode="json", exclude_none=True), status)


def _brought(given: Services, results: list[Brought]) -> BroughtAnswers:
    with given.store.reading() as session:
        return BroughtAnswers(results=[_brought_answer(session, result) for result in results])


def _brought_answer(session: Session, result: Brought) -> BroughtAnswer:
    if result.problem is not None:
        told = result.problem
        body = problem_body(told.status_code, told.title, f"{result.path} {told.detail}")
        return BroughtAnswer(path=result.path, problem=body)
    revision = latest_revision(session, result.source_id)
    state = revision.state if revision else RevisionState.READING
    return BroughtAnswer(path=result.path, id=result.source_id, state=state.value, same=result.same)


@router.get("", responses=problems(401, 403, 422))
@with_key
def index(
    given: ServicesOf,
    q: Annotated[str, Query(max_length=200)] = "",
    folder: Annotated[str, Query(max_length=400)] = "",
    tag: Annotated[str, Query(max_length=60)] = "",
    kind: Annotated[Literal["", "design", "picture"], Query()] = "",
    standing: Annotated[Standing | None, Query()] = None,
    sort: Annotated[str, Query()] = "name",
    after: Annotated[int, Query(ge=0)] = 0,
    authorization: Authorization = "",
) -> SourceList:
    """Sources, searched, filtered and sorted as on the screen."""
    if sort not in SORTS:
        raise Problem(422, "No such order", f"sort is one of {', '.join(SORTS)}.")
    query = DeskQuery("table", q, folder, tag, kind, standing.value if standing else "", sort)
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        found = query.found(desk_rows(session))
    given.outlooks.wake()
    end = after + LISTED
    return SourceList(
        sources=[_answer(row) for row in found[after:end]],
        total=len(found),
        next=str(end) if end < len(found) else None,
    )


_STATES: dict[Standing, State] = {Standing.READING: "reading"}


def _answer(row: DeskRow) -> SourceAnswer:
    unread = row.standing is Standing.FAILED and not row.width
    return SourceAnswer(
        path=row.name,
        state="failed" if unread else _STATES.get(row.standing, "ready"),
        tags=list(row.tags),
        revision=row.number,
        expected=not row.known,
        saved=row.saved,
        **{
            name: getattr(row, name)
            for name in (
                "id", "standing", "problem", "format", "bytes", "width", "height", "parts",
                "recipe", "cuts", "files", "out",
            )
        },
    )  # fmt: skip


@router.get("/{source_id}", responses=problems(401, 403, 404))
@with_key
def show(given: ServicesOf, source_id: str, authorization: Authorization = "") -> SourceAnswer:
    """The current state of a source."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        return _one(session, source_id)


def _one(session: Session, source_id: str) -> SourceAnswer:
    _source(session, source_id)
    row = next((row for row in desk_rows(session) if row.id == source_id), None)
    if row is None:
        raise _gone()
    return _answer(row)


def _source(session: Session, source_id: str, *, removed: bool = False) -> Source:
    source = session.get(Source, source_id)
    if source is None or (source.removed is not None and not removed):
        raise _gone()
    return source


def _gone() -> Problem:
    return Problem(404, "No such source", "It may have been removed: POST to its /restore.")


@router.patch("/{source_id}", responses=problems(401, 403, 404, 422))
@with_key
def change(
    given: ServicesOf, source_id: str, changes: SourceChange, authorization: Authorization = ""
) -> SourceAnswer:
    """Move or rename a source, or give it a recipe or tags."""
    try:
        with given.store.changing() as session:
            site_opened(session, authorization, SiteRight.BUILD)
            source = _source(session, source_id)
            if changes.path is not None:
                keep_to_files(given)
                move(session, {source_id: clean_path(changes.path)})
            if changes.recipe is not None:
                give_recipe(session, [source], changes.recipe)
            if changes.tags is not None:
                before = set(_one(session, source_id).tags)
                give_tags(session, [source], changes.tags, before - set(changes.tags))
    except PlanError as error:
        raise Problem(422, "Invalid change", str(error)) from error
    given.watcher.look_again()
    given.outlooks.wake()
    with given.store.reading() as session:
        return _one(session, source_id)


@router.delete("/{source_id}", status_code=204, responses=problems(401, 403, 404))
@with_key
def take_away(given: ServicesOf, source_id: str, authorization: Authorization = "") -> Response:
    """Remove a source. It can be restored for 30 days."""
    keep_to_files(given)
    with given.store.changing() as session:
        site_opened(session, authorization, SiteRight.BUILD)
        remove(session, [_source(session, source_id)])
    return Response(status_code=204)


@router.post("/{source_id}/restore", responses=problems(401, 403, 404))
@with_key
def have_back(given: ServicesOf, source_id: str, authorization: Authorization = "") -> SourceAnswer:
    """Restore a removed source."""
    keep_to_files(given)
    with given.store.changing() as session:
        site_opened(session, authorization, SiteRight.BUILD)
        restore(session, [_source(session, source_id, removed=True)])
    with given.store.reading() as session:
        return _one(session, source_id)

"""``/api/v1/runs``: runs over the site's sources, how far they are, and what they made."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from datetime import datetime
from enum import StrEnum
from typing import Annotated, Literal, NamedTuple

import anyio.to_thread
from fastapi import Header, Response
from fastapi.responses import JSONResponse, StreamingResponse
from pydantic import BaseModel, ConfigDict, Field
from sqlmodel import Session

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import Totals
from gefa.store.keys import SiteRight
from gefa.store.models import Run, as_utc
from gefa.store.run_choice import choose, plan_run
from gefa.store.run_manifest import manifest_of
from gefa.store.runs import recent_runs, start_run, stop_run, tally
from gefa.store.standing import changed_sources
from gefa.store.waiting_runs import wait_for
from gefa.web.api.preferences import until, wait_applied, wait_wanted
from gefa.web.api.site_access import RIGHTS_TO_READ, check_key, problems, site_opened
from gefa.web.pages.run_downloads import bundle_of
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, with_key

router = guarded_router(prefix="/api/v1/runs", tags=["runs"])

LOOK_SECONDS = 0.5
Authorization = Annotated[str, Header()]


class RunState(StrEnum):
    """The progress of a run."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    STOPPED = "stopped"


class RunAsked(BaseModel):
    """What to run. ``large`` decides on files above 40 megapixels; without it, a run with such
    files is refused."""

    model_config = ConfigDict(extra="forbid")

    sources: (
        Literal["all", "changed"]
        | Annotated[list[Annotated[str, Field(max_length=64)]], Field(max_length=5_000)]
    )
    large: Literal["", "make", "leave"] = ""


class RunCounts(BaseModel):
    """Counts of a run: all ``cuts``, and ``cuts_done``; ``files`` so far, how many were ``reused``,
    and their ``bytes``."""

    sources: int
    cuts: int
    cuts_done: int
    files: int
    reused: int
    bytes: int


class RunAnswer(BaseModel):
    """The state of a run."""

    id: str
    state: RunState
    counts: RunCounts
    left_out: list[Remark]
    dropped: list[Remark]
    failed: list[Remark]
    warnings: list[Remark]
    created: datetime
    finished: datetime | None


class RunListed(BaseModel):
    """A run in the list; ``counts`` once it has ended."""

    id: str
    state: RunState
    counts: RunCounts | None
    sources: list[str]
    created: datetime
    finished: datetime | None


class RunList(BaseModel):
    """The newest runs first."""

    runs: list[RunListed]


@router.get("", responses=problems(401, 403))
@with_key
def index(given: ServicesOf, authorization: Authorization = "") -> RunList:
    """The newest hundred runs."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        runs = [
            RunListed(
                id=run.id,
                state=_state(session, run),
                counts=_final_counts(run, len(names)),
                sources=names,
                created=as_utc(run.created),
                finished=as_utc(run.finished) if run.finished else None,
            )
            for run, names in recent_runs(session)
        ]
    return RunList(runs=runs)


@router.post(
    "",
    status_code=202,
    response_model=RunAnswer,
    responses={
        200: {"model": RunAnswer, "description": "Finished while the answer waited."},
        **problems(401, 403, 404, 409, 422),
    },
)
@with_key
async def begin(
    given: ServicesOf,
    asked: RunAsked,
    authorization: Authorization = "",
    prefer: Annotated[str, Header()] = "",
) -> JSONResponse:
    """Run all sources, those that changed since their last run, or some. With ``Prefer: wait=N``
    the answer waits up to N seconds for the run to finish."""
    run_id = await anyio.to_thread.run_sync(_begun, given, asked, authorization)
    given.foreman.wake()
    seconds = wait_wanted(prefer)
    answer = await _once_finished(given, run_id, seconds)
    headers = {"Location": f"/api/v1/runs/{run_id}", **wait_applied(seconds)}
    status = 200 if answer.finished else 202
    return JSONResponse(answer.model_dump(mode="json"), status, headers=headers)


def _begun(given: Services, asked: RunAsked, authorization: str) -> str:
    check_key(given, authorization, SiteRight.BUILD)
    with given.store.reading() as session:
        choice = choose(session, _wanted(session, asked))
        chosen, refused, reading = choice
        if isinstance(asked.sources, list):
            known = {one.source.id for one in chosen} | {source.id for source, _ in reading}
            missing = [id for id in asked.sources if id not in known]
            if len(missing) > len(refused):
                detail = f"There is no source {missing[0]!r}; nothing was run."
                raise Problem(404, "No such source", detail)
        if choice.empty:
            raise Problem(409, "Nothing to run", "No source has changed, or there is none.")
        planned = plan_run(session, chosen)
    if planned.large and not asked.large:
        names = ", ".join(job.cut.name for job in planned.large[:5])
        raise Problem(
            409,
            "Very large files",
            f"{names}: above 40 megapixels. Send large as 'make' or as 'leave'.",
        )
    if asked.large == "leave":
        planned.without({job.cut.name for job in planned.large})
    with given.store.changing() as session:
        if reading:
            return wait_for(session, choice, asked.large).id
        return start_run(session, planned, refused).id


def _wanted(session: Session, asked: RunAsked) -> set[str] | None:
    if asked.sources == "all":
        return None
    if asked.sources == "changed":
        return changed_sources(session)
    return set(asked.sources)


@router.get("/{run_id}", response_model=RunAnswer, responses=problems(401, 403, 404))
@with_key
async def show(
    given: ServicesOf,
    run_id: str,
    authorization: Authorization = "",
    prefer: Annotated[str, Header()] = "",
) -> JSONResponse:
    """The state of a run. With ``Prefer: wait=N`` the answer waits up to N seconds for it to
    finish."""
    await anyio.to_thread.run_sync(check_key, given, authorization, *RIGHTS_TO_READ)
    seconds = wait_wanted(prefer)
    answer = await _once_finished(given, run_id, seconds)
    return JSONResponse(answer.model_dump(mode="json"), headers=wait_applied(seconds))


async def _once_finished(given: Services, run_id: str, seconds: float) -> RunAnswer:
    """The answer about a run once it has finished, or after so many seconds. Its manifest is read
    once: of a large run that takes seconds."""
    await until(
        lambda counted: counted.finished is not None,
        lambda: anyio.to_thread.run_sync(_counted, given, run_id),
        seconds,
    )
    return await anyio.to_thread.run_sync(_looked_at, given, run_id)


def _looked_at(given: Services, run_id: str) -> RunAnswer:
    with given.store.reading() as session:
        return _answer(session, _run(session, run_id))


class _Counted(NamedTuple):
    state: RunState
    counts: RunCounts
    finished: datetime | None


def _counted(given: Services, run_id: str) -> _Counted:
    with given.store.reading() as session:
        run = _run(session, run_id)
        return _Counted(_state(session, run), _counts(session, run), run.finished)


def _counts(session: Session, run: Run) -> RunCounts:
    return RunCounts(**tally(session, run.id)._asdict())


def _run(session: Session, run_id: str) -> Run:
    run = session.get(Run, run_id)
    if run is None:
        raise Problem(404, "No such run", "It may have been removed.")
    return run


def _final_counts(run: Run, sources: int) -> RunCounts | None:
    if run.finished is None:
        return None
    totals = Totals.model_validate(run.totals)
    return RunCounts(
        sources=sources,
        cuts=totals.cuts,
        cuts_done=totals.cuts,
        files=totals.made + totals.reused,
        reused=totals.reused,
        bytes=totals.bytes,
    )


def _state(session: Session, run: Run) -> RunState:
    if run.stopped is not None:
        return RunState.STOPPED
    if run.finished is not None:
        return RunState.DONE
    return RunState.RUNNING if tally(session, run.id).cuts_done else RunState.WAITING


def _answer(session: Session, run: Run) -> RunAnswer:
    made = manifest_of(session, run)
    return RunAnswer(
        id=run.id,
        state=_state(session, run),
        counts=_counts(session, run),
        left_out=made.left_out,
        dropped=made.dropped,
        failed=made.failed,
        warnings=made.warnings,
        created=as_utc(run.created),
        finished=as_utc(run.finished) if run.finished else None,
    )


@router.delete("/{run_id}", responses=problems(401, 403, 404))
@with_key
def stop(given: ServicesOf, run_id: str, authorization: Authorization = "") -> RunAnswer:
    """Stop a run; finished files stay."""
    with given.store.changing() as session:
        site_opened(session, authorization, SiteRight.BUILD)
        run = _run(session, run_id)
        stop_run(session, run)
        answer = _answer(session, run)
    given.foreman.wake()
    return answer


@router.get("/{run_id}/manifest.json", responses=problems(401, 403, 404))
@with_key
def manifest(given: ServicesOf, run_id: str, authorization: Authorization = "") -> Response:
    """Everything the run has made so far; see docs/build.md."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        text = manifest_of(session, _run(session, run_id)).to_json()
    return Response(text, media_type="application/json")


@router.get(
    "/{run_id}/bundle.zip",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/zip": {}}}, **problems(401, 403, 404, 409)},
)
@with_key
def bundle(given: ServicesOf, run_id: str, authorization: Authorization = "") -> Response:
    """Variants, manifest and markup in one zip, streamed."""
    check_key(given, authorization, *RIGHTS_TO_READ)
    return bundle_of(given, run_id)


@router.get(
    "/{run_id}/events",
    responses={200: {"content": {"text/event-stream": {}}}, **problems(401, 403, 404)},
)
@with_key
async def events(
    given: ServicesOf, run_id: str, authorization: Authorization = ""
) -> StreamingResponse:
    """Server-sent events ``progress``, with state and counts as JSON, until the run ends; then one
    event ``finished``."""
    await anyio.to_thread.run_sync(check_key, given, authorization, *RIGHTS_TO_READ)
    await anyio.to_thread.run_sync(_counted, given, run_id)
    return StreamingResponse(
        _events(given, run_id),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


async def _events(given: Services, run_id: str) -> AsyncIterator[str]:
    told = ""
    while True:
        try:
            answer = await anyio.to_thread.run_sync(_counted, given, run_id)
        except Problem:
            return
        text = json.dumps({"state": answer.state, **answer.counts.model_dump()})
        if text != told:
            told = text
            yield f"event: progress\ndata: {text}\n\n"
        if answer.finished is not None:
            yield f"event: finished\ndata: {text}\n\n"
            return
        await asyncio.sleep(LOOK_SECONDS)

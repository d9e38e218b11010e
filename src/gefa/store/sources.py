"""Sources, their revisions, and what hands decided about their parts."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select as sql_select
from sqlmodel import Session, col, func, select

from gefa.core.cut.revisions import Changes
from gefa.core.errors import PlanError
from gefa.core.make.prepare import Prepared, prepare
from gefa.core.plan.carry_over import carried_over
from gefa.core.plan.plan import Plan, problems_in_words
from gefa.core.read.survey import Survey
from gefa.store import history
from gefa.store.blobs import Blob
from gefa.store.contracts import ReadBody, enqueue
from gefa.store.history import Ways
from gefa.store.models import Revision, RevisionState, Source, Step
from gefa.store.recipes import library


def bring_in(session: Session, name: str, blob: Blob, format: str) -> tuple[Source, Revision]:
    """A new source, or a new revision of the source of that name; its reading is queued.

    The same bytes again add nothing.
    """
    source = session.exec(select(Source).where(Source.name == name)).first()
    if source is None:
        source = Source(name=name)
        session.add(source)
        session.flush()
    newest = latest_revision(session, source.id)
    if newest and newest.blob == blob.sha256 and newest.state is not RevisionState.FAILED:
        return source, newest
    number = newest.number + 1 if newest else 1
    revision = Revision(
        source_id=source.id, number=number, blob=blob.sha256, bytes=blob.bytes, format=format
    )
    session.add(revision)
    session.flush()
    enqueue(session, ReadBody(blob=blob.sha256, name=name), revision_id=revision.id)
    return source, revision


def latest_revision(session: Session, source_id: str) -> Revision | None:
    return session.exec(
        select(Revision)
        .where(Revision.source_id == source_id)
        .order_by(col(Revision.number).desc())
        .limit(1)
    ).first()


def all_sources(session: Session) -> Sequence[tuple[Source, Revision]]:
    """Every source with its newest revision, the newest first."""
    newest = _newest()
    return session.exec(
        select(Source, Revision)
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .order_by(col(Revision.created).desc(), col(Source.name))
    ).all()


def _newest() -> Any:
    """The number of each source's newest revision."""
    return (
        select(Revision.source_id, func.max(Revision.number).label("number"))
        .group_by(col(Revision.source_id))
        .subquery()
    )


@dataclass(frozen=True, slots=True)
class WallRow:
    """What the wall shows of a source's newest revision. Sizes in px; ``parts`` without the canvas;
    ``changes`` counts parts by what happened to them."""

    id: str
    name: str
    number: int
    state: RevisionState
    problem: str
    format: str
    bytes: int
    width: int | None
    height: int | None
    parts: int
    drawn: bool
    has_picture: bool
    changes: dict[str, int]


def wall(session: Session) -> list[WallRow]:
    """Every source, the newest first. SQLite takes what is shown out of the surveys, which can have
    thousands of parts each."""
    happened = ("added", "changed", "moved", "gone")
    newest = _newest()
    found = session.execute(
        sql_select(
            col(Source.id), col(Source.name), col(Revision.number), col(Revision.state),
            col(Revision.problem), col(Revision.format), col(Revision.bytes),
            func.json_extract(Revision.survey, "$.width"),
            func.json_extract(Revision.survey, "$.height"),
            func.json_array_length(Revision.survey, "$.parts"),
            func.json_type(Revision.preview, "$.picture"),
            func.json_extract(Revision.preview, "$.small"),
            func.json_extract(Revision.preview, "$.problem"),
            *(func.json_array_length(Revision.changes, f"$.{what}") for what in happened),
        )
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .order_by(col(Revision.created).desc(), col(Source.name))
    )  # fmt: skip
    rows = []
    for id, name, number, state, problem, format, size, width, height, parts, *rest in found:
        picture, small, trouble, *counts = rest
        rows.append(
            WallRow(
                id, name, number, state, problem, format, size, width, height,
                max(0, (parts or 0) - 1), bool(picture or trouble), bool(small),
                {what: count for what, count in zip(happened, counts, strict=True) if count},
            )
        )  # fmt: skip
    return rows


def survey_of(revision: Revision) -> Survey:
    return Survey.model_validate(revision.survey)


# -- the plan of a source, with its history ----------------------------------------------


class PlanUnreadable(PlanError):
    """The plan of a source is not one that this version reads: what is wrong with it."""


def _subject(source: Source) -> str:
    return f"plan {source.id}"


def plan_of(session: Session, source: Source) -> Plan:
    """The plan as hands have made it; PlanUnreadable if it is none."""
    return _plan_in(history.current(session, _subject(source)), source)


def _plan_in(step: Step | None, source: Source) -> Plan:
    if step is None:
        return Plan()
    try:
        return Plan.model_validate(step.content)
    except ValidationError as error:
        raise PlanUnreadable(
            f"cannot be read: {'; '.join(problems_in_words(error))}.",
            file=f"the plan of {source.name}",
            advice="Undo the last change of it.",
        ) from error


def step_id(session: Session, source: Source) -> str:
    """Which step of the plan counts now; empty for the empty plan."""
    step = history.current(session, _subject(source))
    return step.id if step else ""


def plan_at(session: Session, source: Source, id: str) -> Plan | None:
    """The plan at a step; None if that is gone."""
    if not id:
        return Plan()
    step = history.step_with(session, _subject(source), id)
    return _plan_in(step, source) if step else None


def whole_plan(session: Session, source: Source) -> Plan:
    """The plan as hands have made it, with the recipes that all sources share."""
    return plan_of(session, source).among(library(session))


def marks_for(session: Session, plan: Plan) -> dict[str, str]:
    """The SHA-256 of the newest revisions of the sources that recipes lay over corners."""
    found = {}
    for name in plan.marks:
        source = session.exec(select(Source).where(Source.name == name)).first()
        revision = latest_revision(session, source.id) if source else None
        if revision is not None and revision.state is not RevisionState.FAILED:
            found[name] = revision.blob
    return found


def prepared_for(session: Session, source: Source, revision: Revision, plan: Plan) -> Prepared:
    """What a run of this revision by ``plan`` would do."""
    survey = survey_of(revision)
    marks = marks_for(session, plan)
    prepared = prepare(survey, plan, default=not survey.layered, marks=marks)
    prepared.warnings += prepared.unmatched
    return prepared


def change_plan(session: Session, source: Source, plan: Plan, said: str) -> None:
    """Take a new plan as the next step; what was undone before is forgotten. PlanError if it is
    none."""
    plan = plan.checked()
    with suppress(PlanUnreadable):
        if plan == plan_of(session, source):
            return
    content = plan.model_dump(mode="json", exclude_defaults=True)
    history.change(session, _subject(source), content, said)


def undo(session: Session, source: Source) -> str:
    """Go back a step of the plan; what was undone, empty if there was nothing."""
    return history.undo(session, _subject(source))


def redo(session: Session, source: Source) -> str:
    """Go forward again a step of the plan; what was redone, empty if there was nothing."""
    return history.redo(session, _subject(source))


def ways_of(session: Session, source: Source) -> Ways:
    """What of the plan can be undone and redone."""
    return history.ways(session, _subject(source))


def forget_plan(session: Session, source: Source) -> None:
    history.forget(session, _subject(source))


# -- revisions ---------------------------------------------------------------------------


def revision_before(session: Session, revision: Revision) -> Revision | None:
    """The newest revision before this one that could be read."""
    return session.exec(
        select(Revision)
        .where(
            Revision.source_id == revision.source_id,
            Revision.number < revision.number,
            Revision.state == RevisionState.READY,
        )
        .order_by(col(Revision.number).desc())
        .limit(1)
    ).first()


def follow(session: Session, revision: Revision, changes: Changes) -> None:
    """Let what hands chose follow its parts into a new revision."""
    source = session.get_one(Source, revision.source_id)
    plan, remarks = carried_over(plan_of(session, source), changes)
    if remarks:
        change_plan(session, source, plan, f"Followed parts into revision {revision.number}")

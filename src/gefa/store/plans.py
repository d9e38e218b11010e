"""The site's plan in pieces with a history each: one for each source, one that all share, the
recipes. And what a run by it would do."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from contextlib import suppress
from typing import Any

from pydantic import ValidationError
from sqlmodel import Session, col, select

from gefa.core.cut.revisions import Changes
from gefa.core.errors import PlanError
from gefa.core.make.prepare import Prepared, expand, give_names
from gefa.core.plan.carry_over import carried_over
from gefa.core.plan.editor import PlanEditor
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import problems_in_words
from gefa.core.plan.site_plan import Pieces, joined, own_piece
from gefa.store import history
from gefa.store.history import Ways
from gefa.store.models import History, Outlook, Revision, RevisionState, Source, Step
from gefa.store.recipes import library
from gefa.store.sources import latest_revision, present, source_stems, survey_of
from gefa.store.trail import Deed, note

SHARED = "sources"
"""the subject of the piece that all sources share"""


class PlanUnreadable(PlanError):
    """A stored plan of a source that this version cannot read, and why."""


def subject_of(source: Source) -> str:
    return f"plan {source.id}"


# -- reading -----------------------------------------------------------------------------


def own_plan(session: Session, source: Source) -> Plan:
    """The source's own piece of the plan; PlanUnreadable if it cannot be read."""
    return _plan_in(history.current(session, subject_of(source)), source)


def own_plans(session: Session, sources: Iterable[Source]) -> dict[str, Plan | PlanUnreadable]:
    """The same for many sources, by id; sources without a piece are left out."""
    steps = {
        step.subject.removeprefix("plan "): step
        for step in session.exec(
            select(Step)
            .join(
                History,
                (col(History.subject) == col(Step.subject))
                & (col(History.number) == col(Step.number)),
            )
            .where(col(Step.subject).startswith("plan "))
        )
    }
    found: dict[str, Plan | PlanUnreadable] = {}
    for source in sources:
        step = steps.get(source.id)
        if step is not None and step.content:
            try:
                found[source.id] = _plan_in(step, source)
            except PlanUnreadable as error:
                found[source.id] = error
    return found


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


def shared_plan(session: Session) -> Plan:
    """The piece for all or several sources; without recipes."""
    step = history.current(session, SHARED)
    return Plan.model_validate(step.content.get("plan", {})) if step else Plan()


def whole_plan(session: Session, source: Source) -> Plan:
    """The plan of a source: its own piece, the shared one, and the recipes."""
    own = own_plan(session, source)
    return joined(shared_plan(session), own, source.name).among(library(session))


def site_pieces(session: Session) -> Pieces:
    """The plan of the site in pieces; PlanUnreadable if one cannot be read."""
    sources = present(session)
    own: dict[str, Plan] = {}
    found = own_plans(session, sources)
    for source in sources:
        piece = found.get(source.id)
        if isinstance(piece, PlanUnreadable):
            raise piece
        if piece is not None:
            own[source.name] = piece
    return Pieces(shared_plan(session), own, library(session))


# -- the plan of a source ----------------------------------------------------------------


def step_id(session: Session, source: Source) -> str:
    """The current step of the source's own plan; empty for the empty plan."""
    step = history.current(session, subject_of(source))
    return step.id if step else ""


def plan_at(session: Session, source: Source, id: str) -> Plan | None:
    """The source's own plan at a step; None if the step is gone."""
    if not id:
        return Plan()
    step = history.step_with(session, subject_of(source), id)
    return _plan_in(step, source) if step else None


def editor_of(session: Session, source: Source, revision: Revision) -> PlanEditor:
    """An editor of a source's plan; see ``keep_edit``."""
    return PlanEditor(whole_plan(session, source), survey_of(revision).called(source.name))


def keep_edit(session: Session, source: Source, edited: Plan, said: str) -> None:
    """Store the source's piece of an edited plan. PlanError if that is impossible."""
    own = own_plan(session, source)
    before = joined(shared_plan(session), own, source.name)
    change_plan(session, source, own_piece(edited, before, own), said)


def change_plan(session: Session, source: Source, plan: Plan, said: str, batch: str = "") -> None:
    """Store a source's own plan as the next step; undone steps are deleted. PlanError if it is not
    a plan."""
    plan = plan.checked()
    with suppress(PlanUnreadable):
        if plan == own_plan(session, source):
            return
    history.change(session, subject_of(source), _content(plan), said, batch)
    note(session, Deed.PLAN_CHANGED, source.name, said)


def _content(plan: Plan) -> dict[str, Any]:
    return plan.model_dump(mode="json", exclude_defaults=True)


def undo(session: Session, source: Source) -> str:
    """Undo a step of the source's own plan; returns its description, empty if there was none."""
    undone = history.undo(session, subject_of(source))
    if undone:
        note(session, Deed.PLAN_CHANGED, source.name, f"Undone: {undone}")
    return undone


def redo(session: Session, source: Source) -> str:
    """Redo a step of the source's own plan; returns its description, empty if there was none."""
    redone = history.redo(session, subject_of(source))
    if redone:
        note(session, Deed.PLAN_CHANGED, source.name, f"Redone: {redone}")
    return redone


def ways_of(session: Session, source: Source) -> Ways:
    """The changes of the source's own plan that can be undone and redone."""
    return history.ways(session, subject_of(source))


def forget_plan(session: Session, source: Source) -> None:
    history.forget(session, subject_of(source))


def follow(session: Session, revision: Revision, changes: Changes) -> None:
    """Let choices by hand follow their parts into a new revision."""
    source = session.get_one(Source, revision.source_id)
    plan, remarks = carried_over(own_plan(session, source), changes)
    if remarks:
        change_plan(session, source, plan, f"Followed parts into revision {revision.number}")


# -- what all sources share --------------------------------------------------------------


def change_shared(session: Session, plan: Plan, said: str, batch: str = "", **done: object) -> None:
    """Store the shared piece as the next step. ``done`` records what else the step changed, for
    undoing it."""
    plan = plan.checked()
    if plan == shared_plan(session) and not done:
        return
    content = {"plan": _content(plan), **done}
    history.change(session, SHARED, content, said, batch)
    note(session, Deed.PLAN_CHANGED, "the site", said)


# -- what a run would do -----------------------------------------------------------------


def marks_for(session: Session, plan: Plan) -> dict[str, str]:
    """The SHA-256 of the newest revisions of sources that recipes lay over corners."""
    found = {}
    for name in plan.marks:
        source = session.exec(select(Source).where(Source.name == name)).first()
        revision = latest_revision(session, source.id) if source else None
        if revision is not None and revision.state is not RevisionState.FAILED:
            found[name] = revision.blob
    return found


def prepared_for(session: Session, source: Source, revision: Revision, plan: Plan) -> Prepared:
    """What a run of this revision by ``plan`` would make."""
    prepared = expanded_for(session, source, revision, plan, source_stems(session))
    give_names([prepared], wanted_by_others(session, {source.id}))
    return prepared


def wanted_by_others(session: Session, ids: Collection[str]) -> set[str]:
    """Paths of other sources' files, so that names do not depend on which sources run together."""
    found = session.exec(
        select(Outlook.source_id, Outlook.paths)
        .join(Source, col(Source.id) == col(Outlook.source_id))
        .where(col(Source.removed).is_(None))
    )
    return {path for source_id, paths in found if source_id not in ids for path in paths}


def expanded_for(
    session: Session, source: Source, revision: Revision, plan: Plan, stems: Mapping[str, str]
) -> Prepared:
    """What a run of this revision among others would make, before naming. ``stems`` are those of
    ``source_stems``."""
    survey = survey_of(revision).called(source.name, stems.get(source.name, ""))
    prepared = expand(
        survey,
        plan,
        default=not survey.layered,
        marks=marks_for(session, plan),
        folder=plan.folder_for(source.name),
        day=source.created.date(),
    )
    prepared.warnings += prepared.unmatched
    return prepared

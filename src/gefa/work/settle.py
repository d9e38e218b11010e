"""Settles a job: writes its outcome and everything that follows, in one transaction.

Each function is for kinds of tasks that ``gefa.work.kinds`` names. The caller commits.
"""

from __future__ import annotations

from sqlmodel import Session, select

from gefa.core.cut.revisions import Changes, compare
from gefa.core.make.estimate import Estimate
from gefa.core.make.report import JobReport
from gefa.core.read.survey import Survey
from gefa.store import ledger
from gefa.store.actor import Actor, acting
from gefa.store.contracts import (
    ChangedPart,
    EstimateBody,
    EstimateReport,
    MadeReport,
    ReadReport,
    ShowBody,
    TryReport,
)
from gefa.store.expiry import replace_waiting_runs
from gefa.store.models import (
    Outlook,
    Revision,
    RevisionState,
    Run,
    Source,
    Task,
    TaskState,
    Variant,
)
from gefa.store.plans import PlanUnreadable, follow, whole_plan
from gefa.store.run_choice import Chosen, plan_run
from gefa.store.runs import finish, start_run
from gefa.store.sources import revision_before, survey_of
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue
from gefa.work.queue import Outcome

WATCHER = "a watched folder"
"""who starts the runs of watched sources"""
MAX_PAIRS = 40
"""changed parts to show before and after"""


def keep_report(session: Session, task: Task, outcome: Outcome) -> None:
    """Keep the report; whoever asked reads it there."""
    task.state = TaskState.DONE if outcome.report is not None else TaskState.FAILED
    task.report = outcome.report or {}
    task.problem = outcome.problem
    session.add(task)


# -- sources -----------------------------------------------------------------------------


def settle_reading(session: Session, task: Task, outcome: Outcome) -> None:
    keep_report(session, task, outcome)
    task.report = {}
    revision = session.get_one(Revision, task.revision_id)
    if outcome.report is None:
        revision.state, revision.problem = RevisionState.FAILED, outcome.problem
    else:
        report = ReadReport.model_validate(outcome.report)
        revision.survey = report.survey.model_dump(mode="json")
        revision.state = RevisionState.READY
        _settle_changes(session, revision, report.survey)
    session.add(revision)


def _settle_changes(session: Session, revision: Revision, survey: Survey) -> None:
    """Compare with the previous revision, follow its parts, and request pictures; a watched source
    is run again at once."""
    source = session.get_one(Source, revision.source_id)
    before = revision_before(session, revision)
    readable = True
    shown = ShowBody(blob=revision.blob, name=source.name)
    if before is not None:
        changes = compare(survey_of(before), survey)
        revision.changes = changes.model_dump(mode="json")
        readable = _follow(session, revision, changes)
        shown.older = before.blob
        shown.pairs = [
            ChangedPart(before=changes.before.get(path, path), after=path)
            for path in changes.changed[:MAX_PAIRS]
        ]
    enqueue(session, shown, revision_id=revision.id)
    if source.watched and before is not None and readable:
        chosen = Chosen(source, revision, whole_plan(session, source))
        replace_waiting_runs(session, source, WATCHER)
        with acting(Actor(WATCHER)):
            start_run(session, plan_run(session, [chosen]))


def _follow(session: Session, revision: Revision, changes: Changes) -> bool:
    """Whether the plan could follow its parts: an unreadable plan is reported on its page."""
    try:
        follow(session, revision, changes)
    except PlanUnreadable:
        return False
    return True


def settle_preview(session: Session, task: Task, outcome: Outcome) -> None:
    keep_report(session, task, outcome)
    task.report = {}
    revision = session.get_one(Revision, task.revision_id)
    revision.preview = outcome.report or {"problem": outcome.problem}
    session.add(revision)


# -- runs --------------------------------------------------------------------------------


def settle_cut(session: Session, task: Task, outcome: Outcome) -> None:
    if outcome.report is not None:
        report = JobReport.model_validate(outcome.report)
        ledger.enter(session, report.made, report.facts)
        for file in report.files:
            fields = file.model_dump(mode="json", exclude={"limit", "budget", "source"})
            session.add(Variant(job_id=task.id, run_id=task.run_id, **fields))
        outcome = outcome.with_report(report.without_notes())
    settle_originals(session, task, outcome)


def settle_estimate(session: Session, task: Task, outcome: Outcome) -> None:
    """Enter estimates, or that there are none, and have the source's outlook worked out again."""
    if outcome.report is None:
        body = EstimateBody.model_validate(task.task)
        report = EstimateReport(estimates={job.estimate_key: Estimate() for job in body.jobs})
    else:
        report = EstimateReport.model_validate(outcome.report)
    ledger.enter(session, report.made, report.facts)
    ledger.enter_estimates(session, report.estimates)
    outlook = session.get(Outlook, task.source_id) if task.source_id else None
    if outlook is not None:
        outlook.basis = ""
        session.add(outlook)
    session.delete(task)


def settle_originals(session: Session, task: Task, outcome: Outcome) -> None:
    keep_report(session, task, outcome)
    session.flush()
    still_open = session.exec(
        select(Task.id)
        .where(
            Task.run_id == task.run_id, Task.state == TaskState.QUEUED, Task.kind != TaskKind.PDF
        )
        .limit(1)
    ).first()
    if still_open is None:
        finish(session, session.get_one(Run, task.run_id))


# -- trials and close looks ----------------------------------------------------------------


def settle_trial(session: Session, task: Task, outcome: Outcome) -> None:
    if outcome.report is not None:
        tried = TryReport.model_validate(outcome.report).report
        if tried is not None:
            ledger.enter(session, tried.made, tried.facts)
            outcome = outcome.with_report(TryReport(report=tried.without_notes()))
    keep_report(session, task, outcome)


def settle_made(session: Session, task: Task, outcome: Outcome) -> None:
    """Enter variants that were made or measured; ``more`` may follow."""
    if outcome.report is not None:
        ledger.enter(session, MadeReport.model_validate(outcome.report).made)
    if outcome.more:
        return
    keep_report(session, task, outcome)
    task.report = {}

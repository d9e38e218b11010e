"""Writing down what became of a job, in one transaction with everything that follows from it."""

from __future__ import annotations

from sqlmodel import Session, func, select

from gefa.core.cut.revisions import compare
from gefa.core.deliver.manifest import File
from gefa.core.make.make_cut import JobReport
from gefa.core.read.survey import Survey
from gefa.store.models import (
    Revision,
    RevisionState,
    Run,
    Source,
    Task,
    TaskKind,
    TaskState,
    Variant,
)
from gefa.store.runs import finish, start_run
from gefa.store.sources import follow, revision_before, survey_of, whole_plan
from gefa.work.queue import Outcome
from gefa.work.settle_upload import settle_upload
from gefa.work.tasks import ReadReport

MAX_PAIRS = 40
"""changed parts that are shown before and after"""


def settle(session: Session, job: Task, outcome: Outcome) -> None:
    """Take an outcome in. The caller commits."""
    job.state = TaskState.DONE if outcome.report is not None else TaskState.FAILED
    job.report = outcome.report or {}
    job.problem = outcome.problem
    session.add(job)
    if job.kind is TaskKind.READ:
        _settle_revision(session, job, outcome)
    elif job.kind is TaskKind.SHOW:
        _settle_preview(session, job, outcome)
    elif job.kind in (TaskKind.CUT, TaskKind.TAKE):
        _settle_cut(session, job, outcome)
    elif job.kind is TaskKind.UPLOAD:
        settle_upload(session, job, outcome)


def _settle_revision(session: Session, job: Task, outcome: Outcome) -> None:
    revision = session.get_one(Revision, job.revision_id)
    if outcome.report is None:
        revision.state, revision.problem = RevisionState.FAILED, outcome.problem
    else:
        report = ReadReport.model_validate(outcome.report)
        revision.survey = report.survey.model_dump(mode="json")
        revision.state = RevisionState.READY
        job.report = {}
        _settle_changes(session, revision, report.survey)
    session.add(revision)


def _settle_changes(session: Session, revision: Revision, survey: Survey) -> None:
    """Compare with the revision before, follow its parts, and have pictures of it made; a watched
    source is run again at once."""
    source = session.get_one(Source, revision.source_id)
    before = revision_before(session, revision)
    pairs: list[dict[str, str]] = []
    if before is not None:
        changes = compare(survey_of(before), survey)
        revision.changes = changes.model_dump(mode="json")
        follow(session, revision, changes)
        pairs = [
            {"before": changes.before.get(path, path), "after": path}
            for path in changes.changed[:MAX_PAIRS]
        ]
    session.add(
        Task(
            kind=TaskKind.SHOW,
            revision_id=revision.id,
            task={
                "blob": revision.blob,
                "name": source.name,
                "older": before.blob if before else "",
                "pairs": pairs,
            },
        )
    )
    if source.watched and before is not None:
        start_run(session, source, revision, whole_plan(session, source))


def _settle_preview(session: Session, job: Task, outcome: Outcome) -> None:
    revision = session.get_one(Revision, job.revision_id)
    if outcome.report is not None:
        revision.preview = outcome.report
        job.report = {}
    else:
        revision.preview = {"problem": outcome.problem}
    session.add(revision)


def _settle_cut(session: Session, job: Task, outcome: Outcome) -> None:
    if outcome.report is not None and job.kind is TaskKind.CUT:
        _add_variants(session, job, JobReport.model_validate(outcome.report).files)
    session.flush()
    still_open = session.exec(
        select(func.count())
        .select_from(Task)
        .where(Task.run_id == job.run_id, Task.state == TaskState.QUEUED, Task.kind != TaskKind.PDF)
    ).one()
    if still_open == 0:
        finish(session, session.get_one(Run, job.run_id))


def _add_variants(session: Session, job: Task, files: list[File]) -> None:
    for file in files:
        fields = file.model_dump(mode="json", exclude={"moves", "limit", "budget"})
        session.add(Variant(job_id=job.id, run_id=job.run_id, **fields))

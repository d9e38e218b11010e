"""Runs: started from a plan, and gathered up again into a manifest."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import Manifest
from gefa.core.export import Job as CutJob
from gefa.core.export import JobReport, prepare
from gefa.core.plan import Plan
from gefa.core.treat.formats import Format
from gefa.store.models import Job, JobKind, JobState, Revision, Run, Source, now
from gefa.store.sources import survey_of

COSTS = {Format.AVIF: 8.0, Format.WEBP: 2.0, Format.PNG: 1.5, Format.JPEG: 0.4}
"""how long a pixel of each format takes, roughly, against each other: only for the time left"""


def start_run(session: Session, source: Source, revision: Revision, plan: Plan) -> Run:
    """Queue a job for every cut of the plan. A plan with no cuts makes a finished run."""
    survey = survey_of(revision)
    prepared = prepare(survey, plan, default=not survey.layered)
    said = {
        "left_out": prepared.left_out,
        "failed": prepared.failed,
        "warnings": prepared.warnings,
    }
    run = Run(
        source_id=source.id,
        revision_id=revision.id,
        plan=plan.model_dump(mode="json"),
        said={key: [r.model_dump() for r in remarks] for key, remarks in said.items()},
    )
    session.add(run)
    session.flush()
    for position, cut_job in enumerate(prepared.jobs):
        session.add(_queued(run, revision, source, cut_job, position))
    if not prepared.jobs:
        finish(session, run)
    return run


def _queued(run: Run, revision: Revision, source: Source, cut_job: CutJob, position: int) -> Job:
    return Job(
        kind=JobKind.CUT,
        run_id=run.id,
        position=position,
        name=cut_job.cut.name,
        planned=len(cut_job.variants),
        cost=sum(v.size.megapixels * COSTS[v.format] for v in cut_job.variants),
        task={
            "blob": revision.blob,
            "name": source.name,
            "job": cut_job.model_dump(mode="json"),
        },
    )


def jobs_of(session: Session, run_id: str) -> Sequence[Job]:
    return session.exec(select(Job).where(Job.run_id == run_id).order_by(col(Job.position))).all()


class JobOutlook(NamedTuple):
    """A job without its task and report, which are large."""

    id: str
    state: JobState
    name: str
    planned: int
    cost: float


def outlook(session: Session, run_id: str) -> list[JobOutlook]:
    """All jobs of a run in their order, for looking at often."""
    columns = [col(c) for c in (Job.id, Job.state, Job.name, Job.planned, Job.cost)]
    found = session.execute(
        sql_select(*columns).where(col(Job.run_id) == run_id).order_by(col(Job.position))
    )
    return [JobOutlook(*row) for row in found]


def finish(session: Session, run: Run) -> None:
    """Note that a run has no open job any more, and its sums."""
    run.finished = now()
    run.totals = manifest_of(session, run).totals().model_dump()
    session.add(run)


def manifest_of(session: Session, run: Run) -> Manifest:
    """What the run has made so far, in the order of its cuts."""
    source = session.get_one(Source, run.source_id)
    manifest = Manifest(source=source.name, **run.said)
    for job in jobs_of(session, run.id):
        if job.state is JobState.FAILED:
            manifest.failed.append(Remark(cut=job.name, reason=job.problem))
        elif job.state is JobState.DONE:
            _take_in(manifest, JobReport.model_validate(job.report))
    return manifest


def _take_in(manifest: Manifest, report: JobReport) -> None:
    manifest.failed += report.failed
    manifest.warnings += report.warnings
    manifest.files += report.files
    if report.files:
        manifest.cuts.append(report.record)


def recent_runs(session: Session, limit: int = 100) -> Sequence[tuple[Run, Source]]:
    return session.exec(
        select(Run, Source)
        .join(Source, col(Source.id) == col(Run.source_id))
        .order_by(col(Run.created).desc())
        .limit(limit)
    ).all()

"""Runs: started from a plan, and gathered up again into a manifest."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File, Manifest, OriginalFile
from gefa.core.make.jobs import CutJob, Prepared
from gefa.core.make.make_cut import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.treat.formats import Format
from gefa.store.blobs import BlobStore
from gefa.store.models import Revision, Run, Source, Task, TaskKind, TaskState, Variant, now
from gefa.store.on_demand_jobs import requeue
from gefa.store.sources import prepared_for

COSTS = {Format.AVIF: 8.0, Format.WEBP: 2.0, Format.PNG: 1.5, Format.JPEG: 0.4}
"""how long a pixel of each format takes, roughly, against each other: only for the time left"""


def start_run(
    session: Session,
    source: Source,
    revision: Revision,
    plan: Plan,
    left: frozenset[str] = frozenset(),
) -> Run:
    """Queue a job for every cut of the plan, but for those whose names are in ``left``. A plan
    with no cuts makes a finished run."""
    prepared = prepared_for(session, source, revision, plan)
    for job in prepared.jobs:
        if job.cut.name in left:
            reason = f"it would be {job.megapixels:,.0f} megapixels"
            prepared.left_out.append(Remark(cut=job.cut.name, reason=reason))
    prepared.jobs = [job for job in prepared.jobs if job.cut.name not in left]
    said = {
        "left_out": prepared.left_out,
        "failed": prepared.failed,
        "warnings": prepared.warnings,
    }
    if prepared.gaps:
        said["warnings"] = [*prepared.warnings, Remark(cut="slices", reason=prepared.gaps)]
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
    if prepared.originals:
        session.add(_taking(run, revision, source, prepared))
    if not prepared.jobs and not prepared.originals:
        finish(session, run)
    return run


def _queued(run: Run, revision: Revision, source: Source, cut_job: CutJob, position: int) -> Task:
    return Task(
        kind=TaskKind.CUT,
        run_id=run.id,
        position=position,
        name=cut_job.cut.name,
        planned=len(cut_job.expected),
        cost=sum(v.size.megapixels * COSTS[v.format] for v in cut_job.expected),
        task={
            "blob": revision.blob,
            "name": source.name,
            "job": cut_job.model_dump(mode="json"),
        },
    )


def _taking(run: Run, revision: Revision, source: Source, prepared: Prepared) -> Task:
    return Task(
        kind=TaskKind.TAKE,
        run_id=run.id,
        position=len(prepared.jobs),
        name="originals",
        planned=len(prepared.originals),
        cost=len(prepared.originals) / 10,
        task={
            "blob": revision.blob,
            "name": source.name,
            "jobs": [job.model_dump(mode="json") for job in prepared.originals],
        },
    )


def ask_for_pdf(session: Session, run: Run) -> Task:
    """The job that writes a PDF with a page for each cut of the run; queued the first time."""
    known = session.exec(
        select(Task).where(Task.run_id == run.id, Task.kind == TaskKind.PDF)
    ).first()
    if known is not None and known.state is not TaskState.FAILED:
        return known
    cuts = [job.task for job in jobs_of(session, run.id) if job.kind is TaskKind.CUT]
    job = Task(
        kind=TaskKind.PDF,
        run_id=run.id,
        position=-1,
        name="PDF",
        task={
            "blob": session.get_one(Revision, run.revision_id).blob,
            "name": session.get_one(Source, run.source_id).name,
            "jobs": [task["job"] for task in cuts],
        },
    )
    session.add(job)
    session.flush()
    return job


def jobs_of(session: Session, run_id: str) -> Sequence[Task]:
    return session.exec(
        select(Task).where(Task.run_id == run_id).order_by(col(Task.position))
    ).all()


class JobOutlook(NamedTuple):
    """A job without its task and report, which are large."""

    id: str
    state: TaskState
    name: str
    planned: int
    cost: float


def outlook(session: Session, run_id: str) -> list[JobOutlook]:
    """All jobs of a run in their order, for looking at often."""
    columns = [col(c) for c in (Task.id, Task.state, Task.name, Task.planned, Task.cost)]
    found = session.execute(
        sql_select(*columns)
        .where(col(Task.run_id) == run_id, col(Task.kind) != TaskKind.PDF)
        .order_by(col(Task.position))
    )
    return [JobOutlook(*row) for row in found]


def finish(session: Session, run: Run) -> None:
    """Note that a run has no open job any more, and its sums."""
    run.finished = now()
    run.said = {**run.said, "dropped": _dropped(session, run)}
    run.totals = manifest_of(session, run).totals().model_dump()
    session.add(run)


def _dropped(session: Session, run: Run) -> list[dict[str, str]]:
    """What the run before made of the same source and this one does not make any more."""
    before = session.exec(
        select(Run)
        .where(
            Run.source_id == run.source_id,
            col(Run.finished).is_not(None),
            col(Run.created) < run.created,
        )
        .order_by(col(Run.created).desc())
        .limit(1)
    ).first()
    if before is None:
        return []
    now_made = manifest_of(session, run)
    failing = {remark.cut for remark in now_made.failed}
    present = {file.path for file in now_made.files}
    return [
        Remark(cut=file.cut, reason=f"{file.path} is not made any more").model_dump()
        for file in manifest_of(session, before).files
        if file.path not in present and file.cut not in failing
    ]


def newest_made(session: Session, source_id: str) -> tuple[str, set[str]]:
    """The newest finished run of a source that made files, and the cuts that it made them of."""
    run = session.exec(
        select(Run)
        .join(Variant, col(Variant.run_id) == col(Run.id))
        .where(Run.source_id == source_id, col(Run.finished).is_not(None))
        .order_by(col(Run.created).desc())
        .limit(1)
    ).first()
    if run is None:
        return "", set()
    cuts = session.exec(select(Variant.cut).where(Variant.run_id == run.id).distinct()).all()
    return run.id, set(cuts)


def run_again(session: Session, run: Run) -> int:
    """Queue again the jobs of a run that failed, wholly or in part; how many those are."""
    failed = [job for job in jobs_of(session, run.id) if _failed(job)]
    for job in failed:
        for variant in session.exec(select(Variant).where(Variant.job_id == job.id)):
            session.delete(variant)
        requeue(session, job)
    if failed:
        run.finished = None
        session.add(run)
        session.flush()
    return len(failed)


def _failed(job: Task) -> bool:
    if job.kind not in (TaskKind.CUT, TaskKind.TAKE):
        return False
    return job.state is TaskState.FAILED or bool(job.report.get("failed"))


def runs_beside(session: Session, run: Run, limit: int = 30) -> Sequence[Run]:
    """Other finished runs of the same source, the newest first."""
    return session.exec(
        select(Run)
        .where(Run.source_id == run.source_id, Run.id != run.id, col(Run.finished).is_not(None))
        .order_by(col(Run.created).desc())
        .limit(limit)
    ).all()


def manifest_of(session: Session, run: Run, blobs: BlobStore | None = None) -> Manifest:
    """What the run has made so far, in the order of its cuts; with ``blobs`` also how files look
    that were measured since."""
    source = session.get_one(Source, run.source_id)
    manifest = Manifest(source=source.name, **run.said)
    for job in jobs_of(session, run.id):
        if job.kind is TaskKind.PDF:
            continue
        if job.state is TaskState.FAILED:
            manifest.failed.append(Remark(cut=job.name, reason=job.problem))
        elif job.state is TaskState.DONE and job.kind is TaskKind.CUT:
            _take_in(manifest, JobReport.model_validate(job.report), blobs)
        elif job.state is TaskState.DONE and job.kind is TaskKind.TAKE:
            manifest.originals += [
                OriginalFile.model_validate(file) for file in job.report["originals"]
            ]
    return manifest


def _take_in(manifest: Manifest, report: JobReport, blobs: BlobStore | None) -> None:
    if blobs is not None:
        report.files = [_measured(file, report.keys[file.path], blobs) for file in report.files]
    manifest.failed += report.failed
    manifest.warnings += report.warnings
    manifest.left_out += report.left_out
    manifest.files += report.files
    if report.files or report.record.css:
        manifest.cuts.append(report.record)


def _measured(file: File, key: str, blobs: BlobStore) -> File:
    if file.score is not None:
        return file
    return file.model_copy(update={"score": (blobs.noted(key) or {}).get("score")})


def recent_runs(session: Session, limit: int = 100) -> Sequence[tuple[Run, Source]]:
    return session.exec(
        select(Run, Source)
        .join(Source, col(Source.id) == col(Run.source_id))
        .order_by(col(Run.created).desc())
        .limit(limit)
    ).all()

"""Runs: started from a plan, and gathered up again into a manifest."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File, Manifest
from gefa.core.make.job import CutJob
from gefa.core.make.made import MadeVariant
from gefa.core.make.prepare import Prepared
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.treat.formats import FORMATS
from gefa.store import ledger
from gefa.store.contracts import CutBody, PdfBody, SourceBody, TakeBody, TakeReport, enqueue
from gefa.store.models import Revision, Run, Source, Task, TaskKind, TaskState, Variant, now
from gefa.store.on_demand_jobs import requeue
from gefa.store.sources import prepared_for


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
    told = SourceBody(blob=revision.blob, name=source.name)
    for position, cut_job in enumerate(prepared.jobs):
        _queue_cut(session, run, told, cut_job, position)
    if prepared.originals:
        _queue_originals(session, run, told, prepared)
    if not prepared.jobs and not prepared.originals:
        finish(session, run)
    return run


def _queue_cut(
    session: Session, run: Run, told: SourceBody, cut_job: CutJob, position: int
) -> None:
    enqueue(
        session,
        CutBody(**told.model_dump(), job=cut_job),
        run_id=run.id,
        position=position,
        name=cut_job.cut.name,
        planned=len(cut_job.expected),
        cost=sum(v.size.megapixels * FORMATS[v.format].cost for v in cut_job.expected),
    )


def _queue_originals(session: Session, run: Run, told: SourceBody, prepared: Prepared) -> None:
    enqueue(
        session,
        TakeBody(**told.model_dump(), jobs=prepared.originals),
        run_id=run.id,
        position=len(prepared.jobs),
        name="originals",
        planned=len(prepared.originals),
        cost=len(prepared.originals) / 10,
    )


def ask_for_pdf(session: Session, run: Run) -> Task:
    """The job that writes a PDF with a page for each cut of the run; queued the first time."""
    known = pdf_task(session, run)
    if known is not None and known.state is not TaskState.FAILED:
        return known
    jobs = [
        CutBody.model_validate(task.task).job
        for task in jobs_of(session, run.id)
        if task.kind is TaskKind.CUT
    ]
    body = PdfBody(
        blob=session.get_one(Revision, run.revision_id).blob,
        name=session.get_one(Source, run.source_id).name,
        jobs=jobs,
    )
    task = enqueue(session, body, run_id=run.id, position=-1, name="PDF")
    session.flush()
    return task


def pdf_task(session: Session, run: Run) -> Task | None:
    """The job that writes the run's PDF, if anybody asked for it."""
    return session.exec(
        select(Task)
        .where(Task.run_id == run.id, Task.kind == TaskKind.PDF)
        .order_by(col(Task.id).desc())
        .limit(1)
    ).first()


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


def manifest_of(session: Session, run: Run) -> Manifest:
    """What the run has made so far, in the order of its cuts, with all looks that were measured
    since."""
    source = session.get_one(Source, run.source_id)
    manifest = Manifest(source=source.name, **run.said)
    reports: list[JobReport] = []
    for task in jobs_of(session, run.id):
        if task.kind is TaskKind.PDF:
            continue
        if task.state is TaskState.FAILED:
            manifest.failed.append(Remark(cut=task.name, reason=task.problem))
        elif task.state is TaskState.DONE and task.kind is TaskKind.CUT:
            reports.append(JobReport.model_validate(task.report))
        elif task.state is TaskState.DONE and task.kind is TaskKind.TAKE:
            manifest.originals += TakeReport.model_validate(task.report).originals
    for report in with_looks(session, reports):
        _take_in(manifest, report)
    return manifest


def _take_in(manifest: Manifest, report: JobReport) -> None:
    manifest.failed += report.failed
    manifest.warnings += report.warnings
    manifest.left_out += report.left_out
    manifest.files += report.files
    if report.files or report.record.css:
        manifest.cuts.append(report.record)


def with_looks(session: Session, reports: Sequence[JobReport]) -> list[JobReport]:
    """The reports with all looks that were measured since: files that were made at a fixed quality
    are looked at only when somebody asks."""
    keys = [report.keys[f.path] for report in reports for f in report.files if f.score is None]
    entries = ledger.known(session, keys)
    return [
        report.model_copy(
            update={
                "files": [_with_look(f, entries.get(report.keys[f.path])) for f in report.files]
            }
        )
        for report in reports
    ]


def _with_look(file: File, entry: MadeVariant | None) -> File:
    if file.score is not None or entry is None:
        return file
    return file.model_copy(update={"score": entry.score})


def recent_runs(session: Session, limit: int = 100) -> Sequence[tuple[Run, Source]]:
    return session.exec(
        select(Run, Source)
        .join(Source, col(Source.id) == col(Run.source_id))
        .order_by(col(Run.created).desc())
        .limit(limit)
    ).all()

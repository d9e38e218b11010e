"""The manifest of a run, from the database."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File, Manifest, Totals
from gefa.core.deliver.named_pictures import picture_records
from gefa.core.deliver.sprite import sprites_of
from gefa.core.make.report import JobReport
from gefa.core.treat.made import MadeVariant
from gefa.store import ledger
from gefa.store.contracts import TakeReport
from gefa.store.models import Run, RunSource, Source, Task, TaskState
from gefa.store.plans import shared_plan
from gefa.store.task_kinds import TaskKind


def sources_of(session: Session, run: Run) -> list[tuple[Source, RunSource]]:
    """The sources of a run, by their names at the time; without deleted ones."""
    found = session.exec(
        select(Source, RunSource)
        .join(RunSource, col(RunSource.source_id) == col(Source.id))
        .where(RunSource.run_id == run.id)
        .order_by(col(RunSource.name))
    ).all()
    return [(source, own) for source, own in found]


def jobs_of(session: Session, run_id: str) -> Sequence[Task]:
    return session.exec(
        select(Task).where(Task.run_id == run_id).order_by(col(Task.position))
    ).all()


def manifest_of(session: Session, run: Run) -> Manifest:
    """What the run has made so far, in the order of its cuts, with scores measured since."""
    names = {source.id: own.name for source, own in sources_of(session, run)}
    manifest = Manifest(sources=list(names.values()), **run.said)
    _take_all_in(session, manifest, jobs_of(session, run.id), names)
    manifest.sprites = sprites_of(manifest.cuts, manifest.files)
    # A run of some sources has not all that the pictures of the site show: those are left out.
    manifest.pictures, _ = picture_records(manifest, shared_plan(session).pictures)
    return manifest


def totals_of(session: Session, run: Run, source_id: str) -> Totals:
    """The sums of what the run has made of one source."""
    tasks = session.exec(
        select(Task).where(Task.run_id == run.id, Task.source_id == source_id)
    ).all()
    manifest = Manifest(sources=[])
    _take_all_in(session, manifest, tasks, {})
    return manifest.totals()


def _take_all_in(
    session: Session, manifest: Manifest, tasks: Sequence[Task], names: Mapping[str, str]
) -> None:
    """Add the reports of tasks; ``names`` are those of their sources, by id."""
    reports: list[JobReport] = []
    for task in tasks:
        if task.kind is TaskKind.PDF:
            continue
        if task.state is TaskState.FAILED:
            source = names.get(task.source_id or "", "")
            manifest.failed.append(Remark(cut=task.name, source=source, reason=task.problem))
        elif task.state is TaskState.DONE and task.kind is TaskKind.CUT:
            reports.append(JobReport.model_validate(task.report))
        elif task.state is TaskState.DONE and task.kind is TaskKind.TAKE:
            manifest.originals += TakeReport.model_validate(task.report).originals
    for report in with_looks(session, reports):
        _take_in(manifest, report)


def _take_in(manifest: Manifest, report: JobReport) -> None:
    manifest.failed += report.failed
    manifest.warnings += report.warnings
    manifest.left_out += report.left_out
    source = report.record.source
    # Reports from before have the source in their record only, and the keys apart from the files.
    manifest.files += [
        file
        if file.source and file.key
        else file.model_copy(update={"source": source, "key": report.keys.get(file.path, "")})
        for file in report.files
    ]
    if report.files or report.record.css:
        manifest.cuts.append(report.record)


def with_looks(session: Session, reports: Sequence[JobReport]) -> list[JobReport]:
    """The reports with scores measured since: files of fixed quality are only scored on request."""
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


def divided_by_source(manifest: Manifest) -> dict[str, Manifest]:
    """What a run made of each source."""
    found = {name: Manifest(sources=[name]) for name in manifest.sources}
    for kind in ("files", "cuts", "originals", "failed", "warnings", "left_out"):
        for one in getattr(manifest, kind):
            if one.source in found:
                getattr(found[one.source], kind).append(one)
    return found

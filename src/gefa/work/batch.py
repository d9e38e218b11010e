"""``gefa export``: many sources into one folder, on all cores, with no server."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from pebble import ProcessFuture
from pydantic import ValidationError

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import MANIFEST, File, Manifest
from gefa.core.deliver.names import NameBook
from gefa.core.deliver.shelf import FolderShelf, write_whole
from gefa.core.errors import GefaError, PlanError
from gefa.core.export import (
    Job,
    JobReport,
    Prepared,
    carry_out,
    failed_report,
    prepare,
    survey_for,
)
from gefa.core.plan import Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.survey import Survey
from gefa.work.pool import Pool


def survey_source(path: Path, name: str, plan: Plan) -> Survey:
    """In a worker process: read a source and measure what the plan cuts."""
    return survey_for(read(path, name), plan)


def make_cut(path: Path, name: str, job: Job, out: Path, force: bool) -> JobReport:
    """In a worker process: make the files of one cut in the folder."""
    return carry_out(job, lambda: _opened(path, name, _stamp(path)), _shelf(out, force))


@lru_cache(maxsize=1)
def _opened(path: Path, name: str, stamp: tuple[int, int]) -> Document:
    return read(path, name)


def _stamp(path: Path) -> tuple[int, int]:
    found = path.stat()
    return found.st_mtime_ns, found.st_size


@lru_cache(maxsize=1)
def _shelf(out: Path, force: bool) -> FolderShelf:
    return FolderShelf(out, force=force)


@dataclass
class Progress:
    """Told what happens; the command line draws it."""

    planned: Callable[[int], None] = lambda files: None
    made: Callable[[str, int], None] = lambda cut, files: None


@dataclass
class _Batch:
    manifest: Manifest
    files: dict[str, File] = field(default_factory=dict)
    facts: dict[str, Any] = field(default_factory=dict)

    def add(self, prepared: Prepared) -> None:
        self.manifest.left_out += prepared.left_out
        self.manifest.failed += prepared.failed
        self.manifest.warnings += prepared.warnings

    def take(self, report: JobReport) -> None:
        self.manifest.failed += report.failed
        self.manifest.warnings += report.warnings
        self.manifest.files += report.files
        if report.files:
            self.manifest.cuts.append(report.record)
        for file in report.files:
            self.files[report.keys[file.path]] = file
        if report.facts_key and report.record.alpha is not None:
            self.facts[report.facts_key] = {
                "alpha": report.record.alpha.value,
                "baseline_bytes": report.record.baseline_bytes,
            }


def export_sources(
    sources: Sequence[Path],
    plan: Plan,
    out: Path,
    *,
    jobs: int,
    force: bool = False,
    progress: Progress | None = None,
) -> Manifest:
    """Make everything the plan asks of ``sources`` in the folder ``out``; returns its manifest.

    What other sources put into the folder earlier stays and keeps its names. Files that this
    source made earlier and does not make any more are removed and listed as dropped. Raises
    PlanError where ``out`` cannot be used.
    """
    told = progress or Progress()
    named = _named(sources)
    _ready(out)
    before = _previous(out)
    batch = _Batch(Manifest(source=_source_field(before, named)))
    _carry_over(before, set(named), batch.manifest)
    names = NameBook(
        (file.path for file in batch.manifest.files),
        (cut.name for cut in batch.manifest.cuts),
    )
    with Pool(jobs) as pool:
        surveys = [
            (name, path, pool.submit(survey_source, path, name, plan))
            for name, path in named.items()
        ]
        running: list[tuple[Job, ProcessFuture, tuple[Any, ...]]] = []
        for name, path, future in surveys:
            try:
                surveyed = pool.outcome(future, survey_source, path, name, plan)
            except GefaError as error:
                batch.manifest.failed.append(Remark(cut=name, reason=str(error)))
                continue
            prepared = prepare(surveyed, plan, names)
            batch.add(prepared)
            for job in prepared.jobs:
                call = (path, name, job, out, force)
                running.append((job, pool.submit(make_cut, *call), call))
            told.planned(sum(len(job.variants) for job in prepared.jobs))
        for job, future, call in running:
            batch.take(_outcome(pool, job, future, call))
            told.made(job.cut.name, len(job.variants))
    _finish(out, before, set(named), batch, force)
    return batch.manifest


def _outcome(pool: Pool, job: Job, future: ProcessFuture, call: tuple[Any, ...]) -> JobReport:
    try:
        report: JobReport = pool.outcome(future, make_cut, *call)
        return report
    except (GefaError, OSError) as error:
        return failed_report(job, str(error))


def _named(sources: Sequence[Path]) -> dict[str, Path]:
    """Sources by the name people know them by: the file's own, or its path if two share it."""
    distinct = list(dict.fromkeys(sources))
    counts: dict[str, int] = {}
    for path in distinct:
        counts[path.name] = counts.get(path.name, 0) + 1
    return {path.name if counts[path.name] == 1 else str(path): path for path in distinct}


def _ready(out: Path) -> None:
    try:
        out.mkdir(parents=True, exist_ok=True)
        write_whole(out / ".gefa" / "writable", b"")
    except OSError as error:
        raise PlanError(
            f"cannot be written to: {error.strerror or error}.",
            file=str(out),
            advice="Name another folder with --out.",
        ) from error


def _previous(out: Path) -> Manifest | None:
    try:
        return Manifest.model_validate_json((out / MANIFEST).read_text("utf-8"))
    except (OSError, ValidationError, UnicodeDecodeError):
        return None


def _source_field(before: Manifest | None, named: dict[str, Path]) -> str | list[str]:
    kept = [name for name in (before.sources if before else []) if name not in named]
    everyone = [*kept, *named]
    return everyone[0] if len(everyone) == 1 else everyone


def _carry_over(before: Manifest | None, again: set[str], manifest: Manifest) -> None:
    """Keep what the folder holds of sources that are not exported this time."""
    if before is None:
        return
    manifest.cuts += [cut for cut in before.cuts if cut.source not in again]
    names = {cut.name for cut in manifest.cuts}
    manifest.files += [_as_reused(file) for file in before.files if file.cut in names]


def _as_reused(file: File) -> File:
    return file.model_copy(update={"reused": True})


def _finish(
    out: Path, before: Manifest | None, again: set[str], batch: _Batch, force: bool
) -> None:
    """Write memory and manifest, then remove what this source does not make any more."""
    manifest = batch.manifest
    present = {file.path for file in manifest.files}
    failing = {remark.cut for remark in manifest.failed}
    gone: list[File] = []
    if before is not None:
        ours = {cut.name for cut in before.cuts if cut.source in again}
        gone = [
            file
            for file in before.files
            if file.path not in present and file.cut in ours and file.cut not in failing
        ]
    sources_failed = failing & again
    if sources_failed:
        gone = []
    manifest.dropped += [
        Remark(cut=file.cut, reason=f"{file.path} is not made any more") for file in gone
    ]
    FolderShelf(out, force=force).remember(batch.files, batch.facts)
    write_whole(out / MANIFEST, manifest.to_json().encode())
    for file in gone:
        (out / file.path).unlink(missing_ok=True)
    (out / ".gefa" / "writable").unlink(missing_ok=True)

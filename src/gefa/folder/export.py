"""``gefa export``: many sources into one folder, on all cores, with no server."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from gefa.core.cut.cut import Remark
from gefa.core.cut.revisions import Changes
from gefa.core.deliver.layout import lay_out, pieces
from gefa.core.deliver.manifest import MANIFEST, File, Manifest, OriginalFile
from gefa.core.deliver.names import safe
from gefa.core.deliver.sprite import sprites_of
from gefa.core.errors import GefaError, TakenPath
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FRESH, DraftShelf
from gefa.core.make.job import CutJob, OriginalJob
from gefa.core.make.make_cut import find_cut, original_key
from gefa.core.make.naming import days_in_names
from gefa.core.make.own_files import HIDDEN
from gefa.core.make.prepare import Prepared
from gefa.core.make.report import JobReport, failed_report, remark_about
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.core.treat.made import MadeVariant
from gefa.folder.export_calls import make_cut, make_originals, make_pdf
from gefa.folder.export_plan import Planned, Planner
from gefa.folder.out_folder import (
    SCRATCH,
    alone_in,
    carry_over,
    left_by_stopped,
    make_ready,
    name_pictures,
    no_longer_made,
    put_sprites,
    remove,
    tidy,
)
from gefa.folder.out_memory import OutMemory
from gefa.folder.site_files import SiteFile, listed
from gefa.work.pool import Call, Pool

log = logging.getLogger("gefa.export")


@dataclass
class ExportListener:
    """Notified of progress; the command line draws it. ``large`` decides whether jobs with files
    above 40 megapixels are made."""

    read: Callable[[str], None] = lambda source: None
    planned: Callable[[int], None] = lambda files: None
    made: Callable[[str, int], None] = lambda cut, files: None
    large: Callable[[list[CutJob]], bool] = lambda jobs: True


@dataclass(frozen=True)
class Extras:
    """Written beside the files: a layout and a PDF for each source."""

    layout: bool = False
    pdf: bool = False


@dataclass
class Exported:
    """The result of an export, and the changes of each source since the last one."""

    manifest: Manifest
    changes: dict[str, Changes] = field(default_factory=dict)


@dataclass
class _Batch:
    manifest: Manifest
    memory: OutMemory

    def tell(self, planned: Planned) -> None:
        """Collect warnings before anything is made."""
        self.manifest.failed += planned.failed
        self.manifest.warnings += planned.warnings
        for prepared in planned.prepared.values():
            self.manifest.left_out += prepared.left_out
            self.manifest.failed += prepared.failed
            self.manifest.warnings += prepared.warnings
            if prepared.gaps:
                self.manifest.warnings.append(Remark(cut="slices", reason=prepared.gaps))

    def take(self, report: JobReport) -> None:
        self.manifest.failed += report.failed
        self.manifest.warnings += report.warnings
        self.manifest.left_out += report.left_out
        self.manifest.files += report.files
        if report.files or report.record.css:
            self.manifest.cuts.append(report.record)
        if report.made or report.facts:
            self.manifest.memory.append(report.memory)


def export_sources(
    sources: Sequence[Path],
    plan: Plan,
    out: Path,
    *,
    jobs: int,
    force: bool = False,
    progress: ExportListener | None = None,
) -> Manifest:
    """Make everything the plan asks of ``sources`` in the folder ``out``; returns the manifest.

    See ``Exporter.export``.
    """
    with Pool(jobs) as pool:
        exporter = Exporter(pool, out, force=force, progress=progress)
        return exporter.export(listed(sources, None, exporter.place_for), plan).manifest


class Exporter:
    """Exports into one folder, repeatedly if need be, with the same processes.

    Names of marks are relative to the folder ``marks``. Of files in ``out`` that Gefa did not make,
    only those at the paths ``overwrite`` are replaced. PlanError if ``out`` cannot be used.
    """

    def __init__(
        self,
        pool: Pool,
        out: Path,
        *,
        force: bool = False,
        progress: ExportListener | None = None,
        extras: Extras | None = None,
        marks: Path | None = None,
        overwrite: Sequence[str] = (),
    ) -> None:
        self._pool = pool
        self.out = out
        self._force = force
        self._told = progress or ExportListener()
        self._extras = extras or Extras()
        self._marks = marks or Path()
        self._overwrite = overwrite
        make_ready(out, overwrite)
        if force or not (out / MANIFEST).exists():
            pool.start()  # all is to be made: they load while the plan is read

    def place_for(self, pack: Path) -> Path:
        """A folder for the files of a zip during the export."""
        name = hashlib.sha256(str(pack).encode()).hexdigest()[:12]
        return self.out / HIDDEN / "unpacked" / name

    def export(
        self,
        sources: Sequence[SiteFile],
        plan: Plan,
        *,
        follow: bool = False,
        known: Mapping[Path, Survey] | None = None,
        plan_file: Path | None = None,
    ) -> Exported:
        """Make everything the plan asks of ``sources``.

        Files of other sources in the folder stay. Files that these sources made earlier and no
        longer make are deleted and listed as dropped; with ``plan_file``, which says that these
        are all the sources of its site, also those of sources that are gone; PlanError if the plan
        then names what none of them has. Parts that the plan names are followed if they have moved
        since the last export; with ``follow``, all are compared with it. ``known`` are surveys that
        were just made.
        """
        waits = partial(self._told.read, "after another export into this folder")
        with (
            alone_in(self.out, waits),
            closing(OutMemory(self.out, forget=self._force)) as memory,
        ):
            planner = Planner(
                self._pool,
                memory,
                marks=self._marks,
                scratch=self.out / SCRATCH,
                force=self._force,
                told_read=self._told.read,
            )
            planned = planner.plan(sources, plan, follow=follow, known=known, plan_file=plan_file)
            manifest = self._made_of(planned, plan, memory)
            planner.note(planned)
        return Exported(manifest, planned.changes)

    def _made_of(self, planned: Planned, plan: Plan, memory: OutMemory) -> Manifest:
        manifest = Manifest(sources=_sources(planned), days=days_in_names(planned.jobs))
        batch = _Batch(manifest, memory)
        planned.never.refuse(self.out, self._overwrite)
        for path in self._overwrite:
            memory.own.adopt(path)
        carry_over(planned.before, planned.again, batch.manifest)
        for prepared in planned.prepared.values():
            self._ask(prepared)
        batch.tell(planned)
        self._make(planned, batch)
        self._finish(planned, batch, plan)
        return manifest

    def _make(self, planned: Planned, batch: _Batch) -> None:
        self._told.planned(sum(len(job.variants) for job in planned.jobs))
        cuts = [(name, job) for name, one in planned.prepared.items() for job in one.jobs]
        memory = batch.memory
        reports = self._found(cuts, memory)
        order = [at for at in _largest_first(cuts) if at not in reports]
        # Where less is to be made than there are processes, each runs several encoders.
        threads = max(1, self._pool.workers // max(1, len(order)))
        calls: dict[int, Call] = {}
        for at in order:
            name, job = cuts[at]
            mark = self._marks / job.recipe.mark.picture if job.recipe.mark else None
            path = planned.files[name].path
            known, taken = memory.kept_for(job), memory.taken_for(job)
            calls[at] = self._pool.submit(
                make_cut, path, name, job, self.out, known, taken, threads, mark
            )
        taking = [
            (
                name,
                self._pool.submit(
                    make_originals,
                    planned.files[name].path,
                    name,
                    self._free(prepared.originals, name, batch),
                    self.out,
                ),
            )
            for name, prepared in planned.prepared.items()
            if prepared.originals
        ]
        for at in order:  # as they are made, so that progress goes on evenly
            job = cuts[at][1]
            reports[at] = self._outcome(job, calls[at], memory)
            self._told.made(job.cut.name, len(job.variants))
        for at in range(len(cuts)):
            batch.take(reports[at])
        for name, call in taking:
            self._take_originals(batch, name, call)

    def _free(
        self, originals: Sequence[OriginalJob], source: str, batch: _Batch
    ) -> list[OriginalJob]:
        """The originals that can be written; the others are told as failed."""
        free = []
        for job in originals:
            try:
                batch.memory.own.check(job.path)
                free.append(job)
            except TakenPath as error:
                told = Remark(cut=job.facts.name, reason=error.told, source=source)
                batch.manifest.failed.append(told)
        return free

    def _found(self, cuts: Sequence[tuple[str, CutJob]], memory: OutMemory) -> dict[int, JobReport]:
        """The reports of cuts whose files are there already, by index. Nothing is drawn for them,
        so no process is asked: asking costs more than the answer."""
        memory.look_up(job for _, job in cuts)
        found: dict[int, JobReport] = {}
        for at, (_, job) in enumerate(cuts):
            try:
                shelf = DraftShelf(self.out / FRESH, memory.kept_for(job), memory.taken_for(job))
                report = find_cut(job, shelf)
                if report is not None:
                    report = keep_report(report, job, memory)
            except Exception:  # whatever it is, it costs this cut and no other: making it says why
                log.exception("cut %s of %s", job.cut.name, job.source)
                continue
            if report is not None:
                found[at] = report
                self._told.made(job.cut.name, len(job.variants))
        return found

    def _ask(self, prepared: Prepared) -> None:
        large = prepared.large
        if not large or self._told.large(large):
            return
        names = {job.cut.name for job in large}
        prepared.jobs = [job for job in prepared.jobs if job.cut.name not in names]
        prepared.left_out += [
            Remark(
                cut=job.cut.name,
                reason=f"it would be {job.megapixels:,.0f} megapixels; say --large to make it",
            )
            for job in large
        ]

    def _outcome(self, job: CutJob, call: Call, memory: OutMemory) -> JobReport:
        try:
            return keep_report(self._pool.outcome(call), job, memory)
        except GefaError as error:
            return failed_report(job, error.told)
        except Exception as error:  # whatever it is, it costs this cut and no other
            log.exception("cut %s of %s", job.cut.name, job.source)
            return failed_report(job, f"it could not be made ({type(error).__name__}: {error})")

    def _take_originals(self, batch: _Batch, name: str, call: Call) -> None:
        def fail(cut: str, error: Exception) -> None:
            reason = error.told if isinstance(error, GefaError) else str(error)
            batch.manifest.failed.append(Remark(cut=cut, reason=reason, source=name))

        found: list[OriginalFile] = []
        try:
            found = self._pool.outcome(call)
        except (GefaError, OSError) as error:
            fail("originals", error)
        for file in found:
            key = original_key(file.sha256)
            try:
                made = MadeVariant(sha256=file.sha256, bytes=file.bytes)
                place = batch.memory.place(self.out / FRESH / key, file.path, key, made)
                batch.memory.write({key: made}, {}, {file.path: place})
                batch.manifest.originals.append(file)
            except (GefaError, OSError) as error:
                fail(file.name, error)

    def _write_extras(self, planned: Planned, batch: _Batch) -> None:
        """Write layouts and PDFs; one that cannot be written fails alone."""
        grouped = batch.manifest.files_by_cut()
        for name in planned.surveys:
            if self._extras.layout:
                self._write_layout(planned, name, batch, grouped)
            if self._extras.pdf and planned.prepared[name].jobs:
                self._write_pdf(planned, name, batch)

    def _write_layout(
        self, planned: Planned, name: str, batch: _Batch, grouped: dict[str, list[File]]
    ) -> None:
        stem = _stem(name)
        cuts = [cut for cut in batch.manifest.cuts if cut.source == name]
        css = f"{stem}-layout.css"
        size = planned.surveys[name].size
        layout = lay_out(pieces(cuts, grouped), size, name, css)
        self._write_extra(batch, name, f"{stem}-layout.html", layout.html.encode())
        self._write_extra(batch, name, css, layout.css.encode())
        self._write_extra(batch, name, f"{stem}-layout.json", layout.json.encode())

    def _write_pdf(self, planned: Planned, name: str, batch: _Batch) -> None:
        draft = self.out / HIDDEN / "cuts.pdf"
        jobs = planned.prepared[name].jobs
        try:
            self._pool.call(make_pdf, planned.files[name].path, name, jobs, draft, self.out)
        except (GefaError, OSError) as error:
            reason = error.told if isinstance(error, GefaError) else str(error)
            batch.manifest.failed.append(Remark(cut="PDF", reason=reason, source=name))
        else:
            self._write_extra(batch, name, f"{_stem(name)}-cuts.pdf", draft.read_bytes())
            draft.unlink()

    def _write_extra(self, batch: _Batch, source: str, path: str, data: bytes) -> None:
        try:
            batch.memory.own.write(path, data)
        except TakenPath as error:
            batch.manifest.failed.append(Remark(cut=path, reason=error.told, source=source))
        else:
            batch.manifest.extras = sorted({*batch.manifest.extras, path})

    def _finish(self, planned: Planned, batch: _Batch, plan: Plan) -> None:
        """Write memory and manifest, then delete files that these sources no longer make."""
        manifest, memory = batch.manifest, batch.memory
        manifest.sprites = sprites_of(manifest.cuts, manifest.files)
        name_pictures(manifest, plan.pictures)
        put_sprites(memory.own, self.out, manifest)
        self._write_extras(planned, batch)
        gone = no_longer_made(planned.before, planned.again, manifest)
        # Only now: a layout that a stopped export has left may have been written again.
        if planned.whole and not manifest.failed:
            gone += left_by_stopped(memory.own, manifest)
        manifest.dropped += [
            Remark(cut=cut, reason=f"{path} is not made any more") for cut, path in gone
        ]
        write_whole(self.out / MANIFEST, manifest.to_json().encode())
        for _, path in gone:
            remove(self.out, path, planned.never)
        memory.own.settle({file.path: file.sha256 for file in manifest.files})
        memory.end(path for _, path in gone)
        tidy(self.out)


def keep_report(report: JobReport, job: CutJob, memory: OutMemory) -> JobReport:
    """Place the files of a cut, and write its report down. Returns the report; files at whose
    places something else lies by now have failed."""
    taken = memory.keep(report)
    if not taken:
        return report
    return report.model_copy(
        update={
            "files": [file for file in report.files if file.path not in taken],
            "keys": {path: key for path, key in report.keys.items() if path not in taken},
            "failed": [*report.failed, *(remark_about(job, why) for why in taken.values())],
        }
    )


def _stem(source: str) -> str:
    """The name that layout and PDF of a source begin with."""
    return safe(source.rpartition(".")[0] or source)


def _largest_first(cuts: Sequence[tuple[str, CutJob]]) -> list[int]:
    """Indices of the jobs: the source with the largest one first, so that the export does not end
    with a long job on one core; jobs of a source follow each other, so that it is opened once."""
    largest: dict[str, float] = {}
    for name, job in cuts:
        largest[name] = max(job.cost, largest.get(name, 0.0))
    return sorted(
        range(len(cuts)),
        key=lambda at: (-largest[cuts[at][0]], cuts[at][0], -cuts[at][1].cost),
    )


def _sources(planned: Planned) -> list[str]:
    """All sources with files in the folder, in an order that depends only on names."""
    before = planned.before.sources if planned.before else []
    return sorted({*planned.files, *(name for name in before if name not in planned.gone)})

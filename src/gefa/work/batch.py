"""``gefa export``: many sources into one folder, on all cores, with no server."""

from __future__ import annotations

import hashlib
import logging
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import chain
from pathlib import Path

from pydantic import BaseModel, ValidationError

from gefa.core.cut.cut import Remark
from gefa.core.cut.revisions import Changes, compare
from gefa.core.deliver.layout import lay_out, pieces
from gefa.core.deliver.manifest import MANIFEST, File, Manifest, OriginalFile
from gefa.core.deliver.names import NameBook, safe
from gefa.core.errors import GefaError, PlanError
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FolderShelf
from gefa.core.make.job import CutJob, OriginalJob
from gefa.core.make.made import CutFacts, MadeVariant
from gefa.core.make.make_cut import carry_out, take_out
from gefa.core.make.pdf import pdf_of
from gefa.core.make.prepare import Prepared, prepare, survey_for
from gefa.core.make.report import JobReport, failed_report
from gefa.core.plan.carry_over import carried_over
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.scratch import Scratch, sweep
from gefa.core.read.survey import Survey, survey
from gefa.core.read.zips import is_pack, unpack
from gefa.work.pool import Call, Pool

log = logging.getLogger("gefa.export")

HIDDEN = ".gefa"
"""the folder inside the out folder that remembers what was made from what"""


def survey_source(path: Path, name: str, plan: Plan, whole: bool, out: Path) -> Survey:
    """In a worker process: read a source and measure what the plan cuts, or all of it."""
    document = _opened(path, name, _stamp(path), out)
    return survey(document) if whole else survey_for(document, plan)


def make_cut(
    path: Path,
    name: str,
    job: CutJob,
    out: Path,
    force: bool,
    threads: int = 1,
    mark: Path | None = None,
) -> JobReport:
    """In a worker process: make the files of one cut in the folder; ``mark`` is the picture that
    its recipe lays over a corner."""
    return carry_out(
        job,
        lambda: _opened(path, name, _stamp(path), out),
        _shelf(out, force, _memory_stamp(out)),
        threads=threads,
        mark=lambda: read(mark or path),
    )


def make_originals(
    path: Path, name: str, jobs: list[OriginalJob], out: Path, force: bool
) -> list[OriginalFile]:
    """In a worker process: take bitmaps out of a design."""
    document = _opened(path, name, _stamp(path), out)
    return take_out(name, jobs, document, _shelf(out, force, _memory_stamp(out)))


def make_pdf(path: Path, name: str, jobs: list[CutJob], target: Path) -> None:
    """In a worker process: write a PDF with a page for each cut."""
    document = _opened(path, name, _stamp(path), target.parent)
    write_whole(target, pdf_of(document, jobs))


@lru_cache(maxsize=1)
def _opened(path: Path, name: str, stamp: tuple[int, int], out: Path) -> Document:
    return read(path, name, Scratch(out / HIDDEN / "scratch"))


def _stamp(path: Path) -> tuple[int, int]:
    try:
        found = path.stat()
    except OSError:
        return 0, 0  # reading it says what is wrong
    return found.st_mtime_ns, found.st_size


def _memory_stamp(out: Path) -> tuple[int, int]:
    memory = out / HIDDEN / "memory.json"
    return _stamp(memory) if memory.exists() else (0, 0)


@lru_cache(maxsize=1)
def _shelf(out: Path, force: bool, stamp: tuple[int, int]) -> FolderShelf:
    return FolderShelf(out, force=force)


@dataclass
class ExportListener:
    """Told what happens; the command line draws it. ``large`` is asked whether jobs with files
    above 40 megapixels are to be made."""

    planned: Callable[[int], None] = lambda files: None
    made: Callable[[str, int], None] = lambda cut, files: None
    large: Callable[[list[CutJob]], bool] = lambda jobs: True


@dataclass(frozen=True)
class Extras:
    """What is written beside the files: a layout and a PDF for each source."""

    layout: bool = False
    pdf: bool = False


@dataclass
class Exported:
    """What an export made, and what changed in each source since the last one."""

    manifest: Manifest
    changes: dict[str, Changes] = field(default_factory=dict)


class _LastTime(BaseModel):
    """What the last export knew of a source; ``elsewhere`` says where parts are that the plan
    names by an older path."""

    survey: Survey
    elsewhere: dict[str, str] = {}


@dataclass
class _Batch:
    manifest: Manifest
    made: dict[str, MadeVariant] = field(default_factory=dict)
    paths: dict[str, str] = field(default_factory=dict)
    facts: dict[str, CutFacts] = field(default_factory=dict)
    surveys: dict[str, Survey] = field(default_factory=dict)
    jobs: dict[str, list[CutJob]] = field(default_factory=dict)
    unmatched: dict[str, Remark] = field(default_factory=dict)
    matched: set[str] = field(default_factory=set)

    def note_matches(self, plan: Plan, surveyed: Survey, prepared: Prepared) -> None:
        """Which rules and entries match in any of the sources."""
        asked = {entry.part for entry in plan.cuts}
        asked |= {rule.parts for rule in plan.rules} if surveyed.layered else set()
        missing = {remark.cut: remark for remark in prepared.unmatched}
        self.matched |= asked - missing.keys()
        self.unmatched |= missing

    def tell_unmatched(self) -> None:
        self.manifest.warnings += [
            remark for asked, remark in self.unmatched.items() if asked not in self.matched
        ]

    def add(self, prepared: Prepared) -> None:
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
        self.paths |= {key: path for path, key in report.keys.items()}
        self.made |= report.made
        self.facts |= report.facts


def export_sources(
    sources: Sequence[Path],
    plan: Plan,
    out: Path,
    *,
    jobs: int,
    force: bool = False,
    progress: ExportListener | None = None,
) -> Manifest:
    """Make everything the plan asks of ``sources`` in the folder ``out``; returns its manifest.

    See ``Exporter.export``.
    """
    with Pool(jobs) as pool:
        exporter = Exporter(pool, out, force=force, progress=progress)
        return exporter.export(exporter.unpacked(sources), plan).manifest


class Exporter:
    """Exports into one folder, again and again if need be, with the same processes.

    ``marks`` is the folder that the names of marks start from. Raises PlanError where ``out``
    cannot be used.
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
    ) -> None:
        self._pool = pool
        self.out = out
        self._force = force
        self._told = progress or ExportListener()
        self._extras = extras or Extras()
        self._marks = marks or Path()
        _ready(out)

    def unpacked(self, sources: Sequence[Path]) -> list[Path]:
        """The sources, with the files of zips in their place."""
        listed: list[Path] = []
        for path in sources:
            if path.is_file() and is_pack(path):
                name = hashlib.sha256(str(path).encode()).hexdigest()[:12]
                listed += unpack(path, self.out / HIDDEN / "unpacked" / name)
            else:
                listed.append(path)
        return listed

    def export(
        self,
        sources: Sequence[Path],
        plan: Plan,
        *,
        follow: bool = False,
        known: Mapping[Path, Survey] | None = None,
    ) -> Exported:
        """Make everything the plan asks of ``sources``.

        What other sources put into the folder earlier stays and keeps its names. Files that these
        sources made earlier and do not make any more are removed and listed as dropped. Parts that
        the plan names are followed if they are elsewhere than in the last export; with ``follow``
        everything is compared with that. ``known`` are surveys that were just made.
        """
        named = _named(sources)
        before = _previous(self.out)
        batch = _Batch(Manifest(source=_source_field(before, named)))
        exported = Exported(batch.manifest)
        _carry_over(before, set(named), batch.manifest)
        names = NameBook(
            [
                *(file.path for file in batch.manifest.files),
                *(file.path for file in batch.manifest.originals),
            ],
            (cut.name for cut in batch.manifest.cuts),
        )
        whole = follow or bool(plan.cuts)
        known = known or {}
        surveys = [
            (name, path, self._pool.submit(survey_source, path, name, plan, whole, self.out))
            for name, path in named.items()
            if path not in known
        ]
        running: list[tuple[CutJob, Call]] = []
        taking: list[tuple[str, Call]] = []
        read_now = [(name, path, known[path]) for name, path in named.items() if path in known]
        for name, path, surveyed in chain(read_now, self._surveyed(surveys, batch)):
            own_plan = self._followed(surveyed, plan, whole, exported)
            prepared = prepare(surveyed, own_plan, names, marks=self._marks_of(own_plan))
            self._ask(prepared)
            batch.add(prepared)
            batch.note_matches(own_plan, surveyed, prepared)
            batch.surveys[name], batch.jobs[name] = surveyed, prepared.jobs
            threads = 1 if len(named) > 1 else self._threads_for(prepared.jobs)
            for job in prepared.jobs:
                mark = self._marks / job.recipe.mark.picture if job.recipe.mark else None
                call = self._pool.submit(
                    make_cut, path, name, job, self.out, self._force, threads, mark
                )
                running.append((job, call))
            if prepared.originals:
                call = self._pool.submit(
                    make_originals, path, name, prepared.originals, self.out, self._force
                )
                taking.append((name, call))
            self._told.planned(sum(len(job.variants) for job in prepared.jobs))
        batch.tell_unmatched()
        for job, call in running:
            batch.take(self._outcome(job, call))
            self._told.made(job.cut.name, len(job.variants))
        for name, call in taking:
            self._take_originals(batch, name, call)
        _finish(self.out, before, set(named), batch, self._force)
        self._write_extras(batch, named)
        return exported

    def _marks_of(self, plan: Plan) -> dict[str, str]:
        """The SHA-256 of pictures that are there, by the names that recipes call them by."""
        files = {name: self._marks / name for name in plan.marks}
        return {
            name: hashlib.sha256(file.read_bytes()).hexdigest()
            for name, file in files.items()
            if file.is_file()
        }

    def _threads_for(self, jobs: list[CutJob]) -> int:
        """How many encoders each process may run at once: more than one where there is less to
        make than there are processes."""
        shelf = _shelf(self.out, self._force, _memory_stamp(self.out))
        new = sum(not shelf.has(variant.key for variant in job.variants) for job in jobs)
        return max(1, self._pool.workers // max(1, new))

    def _surveyed(
        self, waiting: list[tuple[str, Path, Call]], batch: _Batch
    ) -> Iterator[tuple[str, Path, Survey]]:
        for name, path, call in waiting:
            try:
                found = self._pool.outcome(call)
            except GefaError as error:
                batch.manifest.failed.append(Remark(cut=name, reason=error.told, source=name))
                continue
            yield name, path, found

    def _followed(self, surveyed: Survey, plan: Plan, whole: bool, exported: Exported) -> Plan:
        """The plan for this revision; notes what changed since the last export."""
        if not whole:
            return plan
        file = self._survey_file(surveyed.name)
        try:
            last = _LastTime.model_validate_json(file.read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError):
            last = _LastTime(survey=surveyed)
        changes = compare(last.survey, surveyed)
        exported.changes[surveyed.name] = changes
        paths = [entry.part for entry in plan.cuts]
        here = [last.elsewhere.get(path, path) for path in paths]
        cuts = [
            entry.model_copy(update={"part": path})
            for entry, path in zip(plan.cuts, here, strict=True)
        ]
        carried, remarks = carried_over(plan.model_copy(update={"cuts": tuple(cuts)}), changes)
        exported.manifest.warnings += remarks
        elsewhere = {
            path: entry.part
            for path, entry in zip(paths, carried.cuts, strict=True)
            if path != entry.part
        }
        now = _LastTime(survey=surveyed, elsewhere=elsewhere)
        write_whole(file, now.model_dump_json().encode())
        return carried

    def _survey_file(self, name: str) -> Path:
        digest = hashlib.sha256(name.encode()).hexdigest()[:16]
        return self.out / HIDDEN / "surveys" / f"{digest}.json"

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

    def _outcome(self, job: CutJob, call: Call) -> JobReport:
        try:
            report: JobReport = self._pool.outcome(call)
            return report
        except GefaError as error:
            return failed_report(job, error.told)
        except Exception as error:  # whatever it is, it costs this cut and no other
            log.exception("cut %s of %s", job.cut.name, job.source)
            return failed_report(job, f"it could not be made ({type(error).__name__}: {error})")

    def _take_originals(self, batch: _Batch, name: str, call: Call) -> None:
        try:
            batch.manifest.originals += self._pool.outcome(call)
        except (GefaError, OSError) as error:
            reason = error.told if isinstance(error, GefaError) else str(error)
            batch.manifest.failed.append(Remark(cut="originals", reason=reason, source=name))

    def _write_extras(self, batch: _Batch, named: dict[str, Path]) -> None:
        grouped = batch.manifest.files_by_cut()
        for name, surveyed in batch.surveys.items():
            stem = safe(Path(name).stem)
            if self._extras.layout:
                own = [cut for cut in batch.manifest.cuts if cut.source == name]
                css = f"{stem}-layout.css"
                layout = lay_out(pieces(own, grouped), surveyed.size, name, css)
                write_whole(self.out / f"{stem}-layout.html", layout.html.encode())
                write_whole(self.out / css, layout.css.encode())
                write_whole(self.out / f"{stem}-layout.json", layout.json.encode())
            if self._extras.pdf and batch.jobs[name]:
                target = self.out / f"{stem}-cuts.pdf"
                try:
                    self._pool.call(make_pdf, named[name], name, batch.jobs[name], target)
                except (GefaError, OSError) as error:
                    reason = error.told if isinstance(error, GefaError) else str(error)
                    batch.manifest.failed.append(Remark(cut="PDF", reason=reason, source=name))


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
        write_whole(out / HIDDEN / "writable", b"")
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
    manifest.originals += [file for file in before.originals if file.source not in again]
    names = {cut.name for cut in manifest.cuts}
    manifest.files += [_as_reused(file) for file in before.files if file.cut in names]


def _as_reused(file: File) -> File:
    return file.model_copy(update={"reused": True})


def _finish(
    out: Path, before: Manifest | None, again: set[str], batch: _Batch, force: bool
) -> None:
    """Write memory and manifest, then remove what this source does not make any more."""
    manifest = batch.manifest
    gone = _gone(before, again, manifest)
    manifest.dropped += [
        Remark(cut=cut, reason=f"{path} is not made any more") for cut, path in gone
    ]
    shelf = FolderShelf(out, force=force)
    shelf.remember(batch.made, batch.paths, batch.facts)
    shelf.sweep()
    write_whole(out / MANIFEST, manifest.to_json().encode())
    for _, path in gone:
        (out / path).unlink(missing_ok=True)
    (out / HIDDEN / "writable").unlink(missing_ok=True)
    shutil.rmtree(out / HIDDEN / "unpacked", ignore_errors=True)
    Scratch(out / HIDDEN / "scratch").drop_copies()
    sweep(out / HIDDEN / "scratch")


def _gone(before: Manifest | None, again: set[str], manifest: Manifest) -> list[tuple[str, str]]:
    """Cut and path of files that these sources made earlier and do not make any more. Of a source
    or cut that failed nothing is taken away."""
    failing = {remark.cut for remark in manifest.failed}
    if before is None or failing & again:
        return []
    present = {file.path for file in manifest.files}
    present |= {file.path for file in manifest.originals}
    ours = {cut.name for cut in before.cuts if cut.source in again} - failing
    files = [(file.cut, file.path) for file in before.files if file.cut in ours]
    files += [(file.name, file.path) for file in before.originals if file.source in again]
    return [(cut, path) for cut, path in files if path not in present]

"""What the Run screen shows: how far it is, and the sheet of weights by cut and width."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from datetime import datetime
from urllib.parse import urlencode

from sqlmodel import Session

from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.plan.plan import Plan
from gefa.core.treat.formats import Format
from gefa.store.models import Run, TaskState, now
from gefa.store.runs import outlook
from gefa.store.waiting_runs import still_read
from gefa.work.queue import WorkQueue

SHOWN_CUTS = 60
"""cuts that are listed during a run"""


@dataclass
class CutProgress:
    """A cut of a run in progress."""

    name: str
    files: int
    planned: int


@dataclass
class RunProgress:
    """``share`` is 0..1 of the work; ``left`` is seconds, None while unknown. ``reading`` counts
    the sources that the run waits for, ``done`` of its ``total`` cuts are made."""

    done: int
    total: int
    share: float
    left: float | None
    finished: bool
    waiting: bool
    reading: int
    cuts: list[CutProgress]
    more: int


@dataclass
class SheetCell:
    """The file of a cut at a width: the lightest, or that of one format. ``share`` is of the
    heaviest in the sheet, ``used`` of its budget, if it has one; both 0..1."""

    width: int
    file: File
    formats: list[File]
    share: float = 0.0

    @property
    def used(self) -> float | None:
        return min(1.0, self.file.bytes / self.file.budget) if self.file.budget else None


@dataclass
class SheetRow:
    """A cut and its weights; ``cells`` follow the group's columns, None for no file; ``small`` is
    the thumbnail beside the name, ``remarks`` are its warnings."""

    cut: CutRecord
    cells: list[SheetCell | None]
    saved: float | None
    small: File | None
    remarks: list[str]

    @property
    def drawn(self) -> bool:
        """Whether one SVG file replaces all widths."""
        return any(cell.file.gzip for cell in self.cells if cell)

    @property
    def bytes(self) -> int:
        """Bytes of the files in the cells."""
        return sum(cell.file.bytes for cell in self.cells if cell)

    @property
    def score(self) -> float | None:
        """The lowest score in the cells."""
        scores = [cell.file.score for cell in self.cells if cell and cell.file.score is not None]
        return min(scores, default=None)


@dataclass
class SheetGroup:
    """The cuts of one recipe, which share their widths; with steps of equal weight each has its
    own, and ``widths`` is empty. Of a ``source`` with several cuts; pictures that are cut once each
    are together, without one."""

    source: str
    recipe: str
    widths: list[int]
    rows: list[SheetRow] = field(default_factory=list)

    @property
    def columns(self) -> list[str]:
        if self.widths:
            return [f"{width:,} px" for width in self.widths]
        most = max((len(row.cells) for row in self.rows), default=0)
        return [f"step {number}" for number in range(1, most + 1)]

    def total(self, column: int) -> int:
        """Bytes of the files in a column."""
        cells = [row.cells[column] for row in self.rows if column < len(row.cells)]
        return sum(cell.file.bytes for cell in cells if cell)


SORTS = {
    "order": "as in the source",
    "weight": "heaviest first",
    "saved": "least saved first",
    "look": "worst look first",
}


@dataclass(frozen=True)
class SheetQuery:
    """The view of the sheet: files of one format instead of the lightest, the order of cuts, only
    cuts with warnings, and only cuts with ``q`` in their own or their source's name."""

    format: str = ""
    sort: str = "order"
    warned: bool = False
    q: str = ""


@dataclass
class Sheet:
    """The weights of a run by cut and width, in the requested view."""

    asked: SheetQuery
    groups: list[SheetGroup]
    formats: list[Format]
    warned: int

    @property
    def sorts(self) -> dict[str, str]:
        return SORTS

    def link(self, **changes: object) -> str:
        """The query for another view of the same sheet."""
        now = asdict(self.asked)
        wanted = {name: value for name, value in (now | changes).items() if value}
        if wanted.get("sort") == "order":
            del wanted["sort"]
        return "?" + urlencode({n: 1 if value is True else value for n, value in wanted.items()})


def progress_of(session: Session, queue: WorkQueue, run: Run) -> RunProgress:
    """The progress of the run, including tasks in work."""
    jobs = outlook(session, run.id)
    working = queue.all_progress()
    cost = sum(job.cost for job in jobs) or 1.0
    done = 0.0
    cuts = []
    for job in jobs:
        is_open = job.state is TaskState.QUEUED
        files = min(working.get(job.id, 0), job.planned) if is_open else job.planned
        done += job.cost * (files / max(1, job.planned) if is_open else 1)
        cuts.append(CutProgress(job.name, files, job.planned))
    share = 1.0 if run.finished else min(1.0, done / cost)
    return RunProgress(
        done=sum(job.state is not TaskState.QUEUED for job in jobs),
        total=len(jobs),
        share=share,
        left=_time_left(run.created, share),
        finished=run.finished is not None,
        waiting=done == 0,
        reading=still_read(session, run),
        cuts=cuts[:SHOWN_CUTS],
        more=max(0, len(cuts) - SHOWN_CUTS),
    )


def _time_left(started: datetime, share: float) -> float | None:
    if share < 0.03:
        return None
    passed = (now().replace(tzinfo=None) - started.replace(tzinfo=None)).total_seconds()
    return passed * (1 - share) / share


def seconds_taken(run: Run) -> float | None:
    if run.finished is None:
        return None
    return (run.finished.replace(tzinfo=None) - run.created.replace(tzinfo=None)).total_seconds()


def sheet_of(manifest: Manifest, plans: Mapping[str, Plan], asked: SheetQuery) -> Sheet:
    """Rows are cuts, columns the widths of their recipe; ``plans`` are by source name. A file at
    the natural width stands in the column of the requested width."""
    groups: dict[tuple[str, str, tuple[int, ...]], SheetGroup] = {}
    counts = Counter(cut.source for cut in manifest.cuts)
    by_cut = manifest.files_by_cut()
    remarks: dict[str, list[str]] = {}
    for remark in [*manifest.failed, *manifest.warnings]:
        remarks.setdefault(remark.cut, []).append(remark.reason)
    for cut in manifest.cuts:
        if not _found_by(asked.q, cut):
            continue
        recipe = plans[cut.source].recipe(cut.recipe)
        widths = [] if recipe.steps else list(recipe.all_widths)
        source = cut.source if counts[cut.source] > 1 else ""
        group = groups.setdefault(
            (source, cut.recipe, tuple(widths)), SheetGroup(source, cut.recipe, widths)
        )
        row = _sheet_row(cut, by_cut.get(cut.name, []), widths, asked)
        row.remarks = remarks.get(cut.name, [])
        if row.remarks or not asked.warned:
            group.rows.append(row)
    shown = sorted((g for g in groups.values() if g.rows), key=lambda group: group.source)
    for group in shown:
        _sort(group.rows, asked.sort)
    cells = [cell for group in shown for row in group.rows for cell in row.cells if cell]
    heaviest = max((cell.file.bytes for cell in cells), default=1)
    for cell in cells:
        cell.share = cell.file.bytes / heaviest
    there = {file.format for file in manifest.files}
    warned = sum(cut.name in remarks for cut in manifest.cuts)
    return Sheet(asked, shown, [format for format in Format if format in there], warned)


def _found_by(words: str, cut: CutRecord) -> bool:
    return words.strip().casefold() in f"{cut.name} {cut.source}".casefold()


def _sort(rows: list[SheetRow], by: str) -> None:
    if by == "weight":
        rows.sort(key=lambda row: row.bytes, reverse=True)
    elif by == "saved":
        rows.sort(key=lambda row: (row.saved is None, row.saved or 0.0))
    elif by == "look":
        rows.sort(key=lambda row: (row.score is None, row.score or 0.0))


def _sheet_row(cut: CutRecord, files: list[File], widths: list[int], asked: SheetQuery) -> SheetRow:
    made = sorted({file.width for file in files})
    cells: list[SheetCell | None] = [None] * (len(widths) or len(made))
    for index, width in enumerate(made):
        formats = sorted((f for f in files if f.width == width), key=lambda file: file.bytes)
        chosen = [file for file in formats if asked.format in ("", file.format.value)]
        if chosen:
            cells[_column(width, index, widths)] = SheetCell(width, chosen[0], formats)
    largest = next((cell for cell in reversed(cells) if cell), None)
    saved = None
    if largest and cut.baseline_bytes:
        saved = max(0.0, 1 - largest.file.sent / cut.baseline_bytes)
    smallest = min(files, key=lambda file: (file.width, file.bytes), default=None)
    return SheetRow(cut, cells, saved, smallest, [])


def _column(width: int, index: int, widths: list[int]) -> int:
    if not widths:
        return index
    return next((i for i, wanted in enumerate(widths) if wanted >= width), len(widths) - 1)

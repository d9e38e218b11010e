"""What the Run screen shows: how far it is, and the sheet of weights by cut and width."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from sqlmodel import Session

from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.plan import Plan
from gefa.store.models import JobState, Run, now
from gefa.store.runs import outlook
from gefa.work.queue import WorkQueue

SHOWN_CUTS = 60
"""how many cuts are listed while a run goes on"""


@dataclass
class CutProgress:
    """One cut of a run that goes on."""

    name: str
    files: int
    planned: int


@dataclass
class Progress:
    """``share`` is 0..1 of the work; ``left`` is seconds, None while it cannot be said."""

    files: int
    planned: int
    share: float
    left: float | None
    finished: bool
    waiting: bool
    cuts: list[CutProgress]
    more: int


@dataclass
class Cell:
    """The lightest file of a cut at a width."""

    width: int
    file: File
    formats: list[File]
    share: float = 0.0


@dataclass
class SheetRow:
    """A cut and what it weighs; ``cells`` follow the group's columns, None where nothing is;
    ``small`` is its file to show beside the name."""

    cut: CutRecord
    cells: list[Cell | None]
    saved: float | None
    small: File | None


@dataclass
class Group:
    """The cuts of one recipe, which share their widths."""

    recipe: str
    widths: list[int]
    rows: list[SheetRow] = field(default_factory=list)


def progress_of(session: Session, queue: WorkQueue, run: Run) -> Progress:
    """How far the run is, counting what workers are busy with."""
    jobs = outlook(session, run.id)
    cost = sum(job.cost for job in jobs) or 1.0
    done = 0.0
    cuts = []
    for job in jobs:
        is_open = job.state is JobState.QUEUED
        files = min(queue.progress(job.id), job.planned) if is_open else job.planned
        done += job.cost * (files / max(1, job.planned) if is_open else 1)
        cuts.append(CutProgress(job.name, files, job.planned))
    share = 1.0 if run.finished else min(1.0, done / cost)
    files = sum(cut.files for cut in cuts)
    return Progress(
        files=files,
        planned=sum(cut.planned for cut in cuts),
        share=share,
        left=_time_left(run.created, share),
        finished=run.finished is not None,
        waiting=files == 0,
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


def sheet_of(manifest: Manifest, plan: Plan) -> list[Group]:
    """Rows are cuts, columns the widths of their recipe. A file at the natural width stands in
    the column of the width it answers."""
    groups: dict[str, Group] = {}
    by_cut = manifest.files_by_cut()
    for cut in manifest.cuts:
        widths = list(plan.recipe(cut.recipe).all_widths)
        group = groups.setdefault(cut.recipe, Group(cut.recipe, widths))
        group.rows.append(_sheet_row(cut, by_cut.get(cut.name, []), widths))
    cells = [c for group in groups.values() for row in group.rows for c in row.cells if c]
    heaviest = max((cell.file.bytes for cell in cells), default=1)
    for cell in cells:
        cell.share = cell.file.bytes / heaviest
    return list(groups.values())


def _sheet_row(cut: CutRecord, files: list[File], widths: list[int]) -> SheetRow:
    cells: list[Cell | None] = [None] * len(widths)
    for width in sorted({file.width for file in files}):
        column = next((i for i, wanted in enumerate(widths) if wanted >= width), len(widths) - 1)
        formats = sorted((f for f in files if f.width == width), key=lambda file: file.bytes)
        cells[column] = Cell(width, formats[0], formats)
    largest = next((cell for cell in reversed(cells) if cell), None)
    saved = None
    if largest and cut.baseline_bytes:
        saved = max(0.0, 1 - largest.file.bytes / cut.baseline_bytes)
    smallest = next((cell.file for cell in cells if cell), None)
    return SheetRow(cut, cells, saved, smallest)

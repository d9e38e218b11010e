"""From the plan's slices to cuts."""

from __future__ import annotations

from collections.abc import Iterator

from gefa.core.cut.cut import Cut, Gathered, Origin, Remark
from gefa.core.cut.slice_geometry import (
    GridCell,
    cells,
    crossed,
    even_spans,
    gaps,
    line_at,
    overlaps,
)
from gefa.core.geometry import Rect, Size
from gefa.core.plan.plan import CellEntry, Plan, SliceEntry, Split, did_you_mean
from gefa.core.read.document import CANVAS_PATH
from gefa.core.read.survey import Survey

GRID_NAME = "{source}-r{row}-c{column}"
DRAWN_NAME = "{source}-slice-{n}"
MAX_TOLD = 5
"""overlaps that are listed one by one"""


def grid(entry: SliceEntry, size: Size) -> list[GridCell]:
    """The cells of a split or of guides on a canvas of ``size`` px."""
    if entry.split is not None:
        return crossed(*_spans(entry.split, size))
    if entry.guides is not None:
        across = [line_at(line, size.width) for line in entry.guides.x]
        down = [line_at(line, size.height) for line in entry.guides.y]
        return cells(size, across, down)
    return []


def _spans(split: Split, size: Size) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """The columns and rows of a split."""
    return (
        even_spans(size.width, split.columns, split.gap, split.margin),
        even_spans(size.height, split.rows, split.gap, split.margin),
    )


def add_slices(source: Survey, plan: Plan, default_recipe: str, found: Gathered) -> None:
    """Append the cuts of the plan's slices, with warnings."""
    canvas = Rect(0, 0, source.width, source.height)
    drawn: list[tuple[str, Rect]] = []
    for number, entry in enumerate(plan.slices):
        recipe = entry.recipe or default_recipe
        if entry.area is None:
            _tell_fewer_cells(entry, source, found)
            for cut in _cells_cuts(number, entry, recipe, source):
                _add(cut, plan, found)
            continue
        inside = entry.area.intersection(canvas)
        name = _filled(entry.name or DRAWN_NAME, source, n=number + 1)
        if inside.empty:
            _warn(found, name, entry, "lies outside the canvas")
            continue
        if inside != entry.area:
            _warn(found, name, entry, "extends past the edge of the canvas and is cut off there")
        drawn.append((name, inside))
        cut = _cut(name, recipe, inside, entry.id)
        _add(cut.model_copy(update={"quality": entry.quality}), plan, found)
    _tell_overlaps(drawn, found)
    _tell_gaps(drawn, canvas, plan, found)


def _tell_fewer_cells(entry: SliceEntry, source: Survey, found: Gathered) -> None:
    split = entry.split
    if split is None:
        return
    columns, rows = (len(spans) for spans in _spans(split, source.size))
    if columns == split.columns and rows == split.rows:
        return
    canvas = f"the canvas has {source.width:,} × {source.height:,} px"
    if split.gap or split.margin:
        canvas += f", less gaps of {split.gap:,} and margins of {split.margin:,}"
    made = f"{columns:,} × {rows:,} slices only" if columns and rows else "no slice"
    wanted = f"a split into {split.columns:,} × {split.rows:,}"
    _warn(found, source.called_after, entry, f"{wanted} makes {made}: {canvas}")


def _cells_cuts(
    number: int, entry: SliceEntry, recipe: str, source: Survey
) -> Iterator[Cut | Remark]:
    for cell in grid(entry, source.size):
        place = f"r{cell.row}-c{cell.column}"
        own = entry.cells.get(place, CellEntry())
        name = _filled(
            own.name or entry.name or GRID_NAME, source, number + 1, cell.row, cell.column
        )
        if own.leave_out:
            yield Remark(
                cut=name, part=f"slice {entry.id} {place}", reason="it is left out by hand"
            )
            continue
        cut = _cut(name, own.recipe or recipe, cell.rect, f"{entry.id} {place}")
        yield cut.model_copy(update={"quality": own.quality or entry.quality})


def _cut(name: str, recipe: str, rect: Rect, place: str) -> Cut:
    return Cut(
        part=CANVAS_PATH, name=name, recipe=recipe, origin=Origin.SLICE, rect=rect, slice=place
    )


def _filled(template: str, source: Survey, n: int, row: int = 1, column: int = 1) -> str:
    values = {"source": source.called_after, "row": row, "column": column, "n": n}
    for field, value in values.items():
        template = template.replace(f"{{{field}}}", str(value))
    return template


def _add(cut: Cut | Remark, plan: Plan, found: Gathered) -> None:
    if isinstance(cut, Remark):
        found.left_out.append(cut)
    elif cut.recipe not in plan.all_recipes:
        hint = did_you_mean(cut.recipe, plan.all_recipes)
        found.warnings.append(
            Remark(cut=cut.name, part=cut.key, reason=f"there is no recipe {cut.recipe!r}. {hint}")
        )
    else:
        found.cuts.append(cut)


def _warn(found: Gathered, name: str, entry: SliceEntry, reason: str) -> None:
    found.warnings.append(Remark(cut=name, part=f"slice {entry.id}", reason=reason))


def _tell_overlaps(drawn: list[tuple[str, Rect]], found: Gathered) -> None:
    shared = overlaps([rect for _, rect in drawn])
    for overlap in shared[:MAX_TOLD]:
        one, other = drawn[overlap.one][0], drawn[overlap.other][0]
        area = overlap.shared
        found.warnings.append(
            Remark(
                cut=one,
                part="slices",
                reason=f"overlaps {other} by {area.width:,} × {area.height:,} px"
                f" at {area.x:,}, {area.y:,}",
            )
        )
    if len(shared) > MAX_TOLD:
        rest = f"{len(shared) - MAX_TOLD} more pairs of slices overlap"
        found.warnings.append(Remark(cut="slices", part="slices", reason=rest))


def _tell_gaps(drawn: list[tuple[str, Rect]], canvas: Rect, plan: Plan, found: Gathered) -> None:
    """Warn about gaps if drawn slices are the only cuts of the canvas."""
    if not drawn or any(entry.area is None for entry in plan.slices):
        return
    left = gaps([rect for _, rect in drawn], canvas)
    if left.share > 0:
        largest = left.largest
        found.gaps = (
            f"{left.share:.1%} of the canvas is in no slice; the largest gap is"
            f" {largest.width:,} × {largest.height:,} px at {largest.x:,}, {largest.y:,}"
        ).replace("%", " %")

"""Slices: rectangles on the canvas, from guides, an even split, or drawn.

Lines map to whole pixels, so that the slices between them tile the canvas exactly: no pixel twice,
none lost, and in an even split widths differ by at most one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import islice, pairwise

from gefa.core.geometry import Rect, Size
from gefa.core.read.blend import REACHING
from gefa.core.read.document import Kind
from gefa.core.read.survey import PartFacts, Survey


@dataclass(frozen=True, slots=True)
class GridCell:
    """A rectangle between lines; ``row`` and ``column`` count from 1."""

    row: int
    column: int
    rect: Rect


@dataclass(frozen=True, slots=True)
class Overlap:
    """Two slices, by index, and what they share (px)."""

    one: int
    other: int
    shared: Rect


@dataclass(frozen=True, slots=True)
class Gaps:
    """What no slice covers: its share of the canvas (0..1) and its largest rectangle."""

    share: float
    largest: Rect


def even_lines(length: int, pieces: int) -> list[int]:
    """Where to cut ``length`` px into equal pieces; never more pieces than px."""
    pieces = max(1, min(pieces, length))
    return sorted({(2 * index * length + pieces) // (2 * pieces) for index in range(1, pieces)})


def even_spans(length: int, pieces: int, gap: int = 0, margin: int = 0) -> list[tuple[int, int]]:
    """Equal pieces of ``length`` px, ``gap`` px apart and ``margin`` px from both ends, each as
    where it begins and ends; they differ by one px at the most. Fewer where each would have less
    than a px, none where the margins leave nothing."""
    room = length - 2 * margin
    pieces = min(pieces, (room + gap) // (1 + gap))
    if room < 1 or pieces < 1:
        return []
    filled = room - gap * (pieces - 1)
    edges = [0, *even_lines(filled, pieces), filled]
    return [
        (margin + start + index * gap, margin + end + index * gap)
        for index, (start, end) in enumerate(pairwise(edges))
    ]


def line_at(position: int | str, length: int) -> int:
    """A guide in px, from a number of px or a text as ``"37.5%"``; clamped to the canvas."""
    if isinstance(position, str):
        position = round(float(position.strip().removesuffix("%")) * length / 100)
    return max(0, min(length, position))


def cells(size: Size, across: Iterable[int], down: Iterable[int]) -> list[GridCell]:
    """The rectangles between lines at x = ``across`` and y = ``down`` (px), row by row."""
    columns = _edges(across, size.width)
    rows = _edges(down, size.height)
    return crossed(list(pairwise(columns)), list(pairwise(rows)))


def crossed(columns: Sequence[tuple[int, int]], rows: Sequence[tuple[int, int]]) -> list[GridCell]:
    """The rectangles where columns and rows cross, row by row."""
    return [
        GridCell(row, column, Rect(left, top, right - left, bottom - top))
        for row, (top, bottom) in enumerate(rows, start=1)
        for column, (left, right) in enumerate(columns, start=1)
    ]


def _edges(lines: Iterable[int], length: int) -> list[int]:
    return sorted({0, length, *(line for line in lines if 0 < line < length)})


def overlaps(rects: Sequence[Rect]) -> list[Overlap]:
    """Every pair of rectangles that share pixels."""
    found = []
    from_left = sorted(enumerate(rects), key=lambda numbered: numbered[1].x)
    for at, (one, a) in enumerate(from_left):
        for other, b in islice(from_left, at + 1, None):
            if b.x >= a.right:
                break  # this and all that follow begin behind it
            shared = a.intersection(b)
            if not shared.empty:
                found.append(Overlap(min(one, other), max(one, other), shared))
    return sorted(found, key=lambda overlap: (overlap.one, overlap.other))


def gaps(rects: Sequence[Rect], canvas: Rect) -> Gaps:
    """The area that ``rects`` leave uncovered, computed on the grid of their edges."""
    inside = [rect.intersection(canvas) for rect in rects]
    inside = [rect for rect in inside if not rect.empty]
    xs = sorted({canvas.x, canvas.right, *(x for r in inside for x in (r.x, r.right))})
    ys = sorted({canvas.y, canvas.bottom, *(y for r in inside for y in (r.y, r.bottom))})
    free, left = [], 0
    for top, bottom in pairwise(ys):
        covering = [r for r in inside if r.y <= top and r.bottom >= bottom]
        start = None
        for x, right in pairwise(xs):
            covered = any(r.x <= x and r.right >= right for r in covering)
            if not covered:
                left += (right - x) * (bottom - top)
                start = x if start is None else start
            if start is not None and (covered or right == canvas.right):
                end = x if covered else right
                free.append(Rect(start, top, end - start, bottom - top))
                start = None
    share = left / (canvas.width * canvas.height)
    return Gaps(share, max(_stacked(free), key=_area, default=Rect(0, 0, 0, 0)))


def _stacked(strips: list[Rect]) -> list[Rect]:
    """Join strips of the same width that lie right below each other."""
    joined: list[Rect] = []
    for strip in strips:
        above = next(
            (r for r in joined if (r.x, r.width, r.bottom) == (strip.x, strip.width, strip.y)),
            None,
        )
        if above is None:
            joined.append(strip)
        else:
            joined[joined.index(above)] = above.union(strip)
    return joined


def _area(rect: Rect) -> int:
    return rect.width * rect.height


def fingerprint(survey: Survey, rect: Rect) -> str:
    """Equal for equal pixels in ``rect`` of the canvas.

    If the canvas shows only its parts, only parts that reach into the rectangle count, so a change
    elsewhere changes nothing here.
    """
    shown = _shown(survey)
    if not survey.made_of_parts or any(
        part.blend in REACHING or part.extent is None for part in shown
    ):
        return f"{survey.canvas.fingerprint} {rect}"
    digest = hashlib.sha256(f"{rect.width} {rect.height}".encode())
    for part in shown:
        extent = part.extent or rect
        if extent.intersection(rect).empty:
            continue
        own = "" if part.kind is Kind.GROUP else part.fingerprint
        digest.update(
            f"{part.depth} {part.opacity} {part.blend} {part.isolated} {own}"
            f" {extent.x - rect.x} {extent.y - rect.y};".encode()
        )
    return digest.hexdigest()


def _shown(survey: Survey) -> list[PartFacts]:
    """Parts of the canvas that are visible with all their ancestors."""
    shown: list[PartFacts] = []
    hidden_at: int | None = None
    for part in survey.parts[1:]:
        if hidden_at is not None and part.depth > hidden_at:
            continue
        hidden_at = None if part.visible else part.depth
        if part.visible:
            shown.append(part)
    return shown

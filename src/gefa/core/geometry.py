"""Whole-pixel rectangles and sizes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

MM_PER_INCH = 25.4


@dataclass(frozen=True, slots=True)
class Size:
    """Width and height in px."""

    width: int
    height: int

    @property
    def megapixels(self) -> float:
        return self.width * self.height / 1_000_000


@dataclass(frozen=True, slots=True)
class Rect:
    """A rectangle in px; ``x`` and ``y`` may be negative, a width or height of 0 is empty."""

    x: int
    y: int
    width: int
    height: int

    @property
    def right(self) -> int:
        return self.x + self.width

    @property
    def bottom(self) -> int:
        return self.y + self.height

    @property
    def empty(self) -> bool:
        return self.width <= 0 or self.height <= 0

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)

    def moved(self, dx: int, dy: int) -> Rect:
        return Rect(self.x + dx, self.y + dy, self.width, self.height)

    def grown(self, by: int) -> Rect:
        """The rectangle with ``by`` px more on every side."""
        return Rect(self.x - by, self.y - by, self.width + 2 * by, self.height + 2 * by)

    def union(self, other: Rect) -> Rect:
        """The smallest rectangle that holds both; an empty one adds nothing."""
        if self.empty:
            return other
        if other.empty:
            return self
        x, y = min(self.x, other.x), min(self.y, other.y)
        return Rect(x, y, max(self.right, other.right) - x, max(self.bottom, other.bottom) - y)

    def intersection(self, other: Rect) -> Rect:
        """What both share; ``NOWHERE`` if they do not touch."""
        x, y = max(self.x, other.x), max(self.y, other.y)
        width = min(self.right, other.right) - x
        height = min(self.bottom, other.bottom) - y
        return Rect(x, y, width, height) if width > 0 and height > 0 else NOWHERE


NOWHERE = Rect(0, 0, 0, 0)


def union_all(rects: Iterable[Rect]) -> Rect:
    """The smallest rectangle that holds them all; ``NOWHERE`` for none."""
    whole = NOWHERE
    for rect in rects:
        whole = whole.union(rect)
    return whole


def height_for(natural: Size, width: int) -> int:
    """The height in px that keeps the ratio of ``natural`` at ``width`` px, at least 1."""
    return max(1, (natural.height * width * 2 + natural.width) // (2 * natural.width))

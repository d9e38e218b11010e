"""Strays: objects so far from the rest that they blow up a part's extent."""

from __future__ import annotations

from collections.abc import Sequence

from gefa.core.geometry import Rect, union_all

FAR_SHARE = 10
"""an object is far away if it lies more than a tenth of the canvas outside it"""
BLOWN_UP = 3.0
"""the part must be this many times larger because of the object"""


def find_strays(boxes: Sequence[Rect], canvas: Rect) -> list[int]:
    """Which of ``boxes`` are strays: wholly off the canvas, and the rest is far smaller without
    them. Empty boxes never are."""
    near = canvas.grown(max(canvas.width, canvas.height) // FAR_SHARE)
    off = [
        index for index, box in enumerate(boxes) if not box.empty and box.intersection(near).empty
    ]
    rest = union_all(box for index, box in enumerate(boxes) if index not in off)
    if not off or rest.empty:
        return []
    everything = union_all(boxes)
    return off if area(everything) >= BLOWN_UP * area(rest) else []


def area(box: Rect) -> int:
    """px²"""
    return max(0, box.width) * max(0, box.height)


def in_words(names: Sequence[str], boxes: Sequence[Rect], rest: Rect) -> str:
    """``one object 3,900 px to the right (“Dot”) makes this 12 times larger``"""
    farthest = max(range(len(boxes)), key=lambda index: _distance(boxes[index], rest)[0])
    distance, side = _distance(boxes[farthest], rest)
    times = area(rest.union(union_all(boxes))) / max(1, area(rest))
    count = "one object" if len(boxes) == 1 else f"{len(boxes)} objects up to"
    named = ", ".join(f"“{name}”" for name in names[:3])
    makes = "makes" if len(boxes) == 1 else "make"
    return f"{count} {distance:,} px {side} ({named}) {makes} this {times:,.0f} times larger"


def _distance(box: Rect, rest: Rect) -> tuple[int, str]:
    return max(
        (box.x - rest.right, "to the right"),
        (rest.x - box.right, "to the left"),
        (box.y - rest.bottom, "below"),
        (rest.y - box.bottom, "above"),
    )

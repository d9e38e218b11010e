"""Ladders by weight: widths whose files are evenly apart in bytes, not in px."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import pairwise
from math import ceil, exp, log

import pyvips

from gefa.core.geometry import Size
from gefa.core.treat.curves import level_beyond
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Settings

CAREFUL = 0.92
"""of the allowed step: predictions are slightly off"""
SHAPED_BY = 12
"""widths at which growth is measured"""
ROUGH_QUALITY = 70
"""of the JPEG files that growth is measured with: any medium quality grows the same way"""

Shape = Callable[[float], float]
"""the weight of a width (px) relative to others, in any unit"""


def growth(
    sizes: Sequence[Size], at: Callable[[Size], pyvips.Image]
) -> tuple[tuple[int, int], ...]:
    """The rough weight of a picture by width (px), from quick encodes at a few of the ``sizes``.
    Weight is not a power of the width: grain may only show near the natural size."""
    step = max(1, -(-len(sizes) // SHAPED_BY))
    chosen = dict.fromkeys([*sizes[::step], sizes[-1]])
    return tuple((size.width, _rough_weight(at(size))) for size in chosen)


def shape_of(points: Sequence[tuple[int, int]]) -> Shape:
    """Smooth interpolation between such points."""
    xs, ys = [log(width) for width, _ in points], [log(bytes) for _, bytes in points]
    return lambda width: exp(level_beyond(xs, ys, log(width)))


def _rough_weight(image: pyvips.Image) -> int:
    return len(encode(image, Format.WEBP, ROUGH_QUALITY, Settings(effort=0)))


def next_widths(
    known: Mapping[int, int], candidates: Iterable[int], apart: int, shape: Shape
) -> list[int]:
    """Which of the ``candidates`` (px) to make next, so that finally no two neighbours are more
    than ``apart`` bytes apart; empty if that holds, or if no candidate lies between them.

    ``known`` gives bytes by width. Between two known widths, weight is assumed to grow as
    ``shape``, bent to meet both.
    """
    found: list[int] = []
    for (narrow, light), (wide, heavy) in pairwise(sorted(known.items())):
        if abs(heavy - light) <= apart:
            continue
        ends = (float(narrow), float(wide))
        bent = (log(light / shape(narrow)), log(heavy / shape(wide)))
        expected = {
            width: shape(width) * exp(level_beyond(ends, bent, width))
            for width in candidates
            if narrow < width < wide
        }
        pieces = ceil(abs(heavy - light) / (apart * CAREFUL))
        for piece in range(1, pieces):
            if not expected:
                break
            wanted = light + (heavy - light) * piece / pieces
            nearest = min(expected, key=lambda width: abs(expected[width] - wanted))
            del expected[nearest]
            found.append(nearest)
    return sorted(found)


def fewest(known: Mapping[int, int], apart: int) -> list[int]:
    """The fewest of the known widths, from narrowest to widest, of which no two neighbours are more
    than ``apart`` bytes apart, where the known widths allow that."""
    widths = sorted(known)
    kept = widths[:1]
    while kept and kept[-1] != widths[-1]:
        later = [width for width in widths if width > kept[-1]]
        near = [width for width in later if abs(known[width] - known[kept[-1]]) <= apart]
        kept.append(max(near, default=later[0]))
    return kept

"""Ladders by weight: widths whose files are evenly apart in bytes, not in px."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import pairwise
from math import ceil, exp, log

import pyvips

from gefa.core.geometry import Size
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Settings

CAREFUL = 0.92
"""of the allowed step: predictions are a little off"""
SHAPED_BY = 12
"""widths that the shape of the growth is measured at"""
ROUGH_QUALITY = 70

Shape = Callable[[float], float]
"""how much heavier one width (px) is than another, in any unit"""


def growth(sizes: Sequence[Size], at: Callable[[Size], pyvips.Image]) -> Shape:
    """How the weight of a picture grows with its width, roughly: from quick encodes of a few of
    the ``sizes``. Growth is no power of the width where grain shows only near the natural size."""
    step = max(1, -(-len(sizes) // SHAPED_BY))
    chosen = dict.fromkeys([*sizes[::step], sizes[-1]])
    points = [(size.width, _rough_weight(at(size))) for size in chosen]
    return lambda width: exp(_between([(log(w), log(b)) for w, b in points], log(width)))


def _rough_weight(image: pyvips.Image) -> int:
    return len(encode(image, Format.WEBP, ROUGH_QUALITY, Settings(effort=0)))


def _between(points: Sequence[tuple[float, float]], x: float) -> float:
    """Linear between points, level beyond them."""
    for (x1, y1), (x2, y2) in pairwise(points):
        if x <= x2:
            return y1 + (y2 - y1) * max(0.0, x - x1) / (x2 - x1)
    return points[-1][1]


def next_widths(
    known: Mapping[int, int], candidates: Iterable[int], apart: int, shape: Shape
) -> list[int]:
    """Which of the ``candidates`` (px) to make next, so that in the end no two neighbours are more
    than ``apart`` bytes apart; none when that is so, or no candidate lies between them.

    ``known`` gives bytes by width. Between two known widths weight is taken to grow as ``shape``
    does, bent to meet both.
    """
    found: list[int] = []
    for (narrow, light), (wide, heavy) in pairwise(sorted(known.items())):
        if abs(heavy - light) <= apart:
            continue
        bent = [(narrow, log(light / shape(narrow))), (wide, log(heavy / shape(wide)))]
        expected = {
            width: shape(width) * exp(_between(bent, width))
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
    """The fewest of the known widths, from the narrowest to the widest, of which no two neighbours
    are more than ``apart`` bytes apart wherever all of them together allow that."""
    widths = sorted(known)
    kept = widths[:1]
    while kept[-1] != widths[-1]:
        later = [width for width in widths if width > kept[-1]]
        near = [width for width in later if abs(known[width] - known[kept[-1]]) <= apart]
        kept.append(max(near, default=later[0]))
    return kept

"""Ladders by weight: widths whose files are evenly apart in bytes, not in px."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise
from math import ceil, log

CAREFUL = 0.94
"""of the allowed step: predictions are a little off"""


def next_widths(known: Mapping[int, int], candidates: Sequence[int], apart: int) -> list[int]:
    """Which of the ``candidates`` (px) to make next, so that in the end no two neighbours are more
    than ``apart`` bytes apart; none when that is so, or no candidate lies between them.

    ``known`` gives bytes by width. Between two known widths weight is taken to grow as a power of
    the width.
    """
    found: list[int] = []
    for (narrow, light), (wide, heavy) in pairwise(sorted(known.items())):
        if abs(heavy - light) <= apart:
            continue
        free = [width for width in candidates if narrow < width < wide]
        pieces = ceil(abs(heavy - light) / (apart * CAREFUL))
        for piece in range(1, pieces):
            if not free:
                break
            wanted = _width_of(light + (heavy - light) * piece / pieces, narrow, light, wide, heavy)
            nearest = min(free, key=lambda width: abs(width - wanted))
            free.remove(nearest)
            found.append(nearest)
    return sorted(found)


def _width_of(weight: float, narrow: int, light: int, wide: int, heavy: int) -> float:
    """Where ``weight`` bytes lie between two known widths."""
    share = log(weight / light) / log(heavy / light)
    return narrow * (wide / narrow) ** share

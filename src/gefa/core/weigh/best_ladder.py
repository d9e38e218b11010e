"""The widths that cost an audience least.

Only widths that somebody needs can be best: a browser takes the narrowest file with enough pixels,
so any other can be made narrower, down to the next needed one, and sends nobody less. The widest
file may be 0.95 of what is needed, which still counts as sharp. Among these candidates the best
*k* are found by dynamic programming: the cost of a width is that of the visitors between it and the
one below, so the best ladder that ends in a width is the best one of *k* - 1 below it, and the step
to it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from gefa.core.treat.formats import Format
from gefa.core.weigh.audience import Floats
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.sent import TOO_FEW

MOST_WIDTHS = 12
WORTH = 0.02
"""of the bytes: a width that saves less is not worth a file"""
MOST_CANDIDATES = 600
"""more candidates, as many pictures together have, are thinned out: the table has their number
squared"""


@dataclass(frozen=True)
class Demand:
    """What visitors need of one picture in one format: px with their share of visits, the picture's
    weight curve, and its natural width in px."""

    needed: Floats
    shares: Floats
    curve: WeightCurve
    natural: int
    format: Format | None = None


@dataclass(frozen=True)
class Ladder:
    """Widths in px, the mean bytes they cost a visit, and the share of visits that get too few px;
    ``short`` is the share of these that a wider file would help."""

    widths: tuple[int, ...]
    bytes: float
    blurred: float
    short: float


def cost_of(widths: Sequence[int], demands: Sequence[Demand]) -> Ladder:
    """The cost of a ladder. Widths above a picture's natural width count as that."""
    total = blurred = short = 0.0
    for demand in demands:
        own = np.unique(np.minimum(np.array(sorted(widths)), demand.natural)).astype(np.float64)
        at = np.minimum(np.searchsorted(own, demand.needed - 1e-6), len(own) - 1)
        total += float(demand.curve.at(own)[at] @ demand.shares)
        blurred += float((own[at] < TOO_FEW * demand.needed) @ demand.shares)
        helped = own[at] < TOO_FEW * np.minimum(demand.needed, demand.natural) - 1e-6
        short += float(helped @ demand.shares)
    return Ladder(tuple(sorted(widths)), total, blurred, short)


def candidates(demands: Sequence[Demand]) -> Floats:
    """All widths that the best ladder can contain, in px, ascending."""
    wanted = [
        np.minimum(np.ceil(np.concatenate([d.needed, TOO_FEW * d.needed]) - 1e-6), d.natural)
        for d in demands
    ]
    found: Floats = np.unique(np.maximum(np.concatenate(wanted), 1.0))
    if len(found) > MOST_CANDIDATES:
        kept = np.linspace(0, len(found) - 1, MOST_CANDIDATES).round().astype(np.int64)
        found = found[kept]
    return found


def best_ladders(
    demands: Sequence[Demand], *, most: int = MOST_WIDTHS, too_few: float = 0.0
) -> list[Ladder]:
    """The best ladder of 1, 2 ... ``most`` widths, while one more still gains anything; only
    ladders that send at most ``too_few`` of the visits (0..1) less than 0.95 of the px they need,
    or of the natural width if that is smaller."""
    demands = [demand for demand in demands if len(demand.needed)]
    if not demands:
        return []
    table = _Table.of(demands, candidates(demands))
    allowed = table.short <= too_few + 1e-9
    best, steps = table.first, [np.full(len(table.widths), -1)]
    ladders: list[Ladder] = []
    for _ in range(most):
        ended = np.where(allowed, best + table.above, np.inf)
        last = int(np.argmin(ended))
        if ladders and ended[last] >= ladders[-1].bytes - 1e-6:
            break
        ladders.append(cost_of(_traced(table.widths, steps, last), demands))
        through = best[:, None] + table.between
        steps.append(np.argmin(through, axis=0))
        best = through.min(axis=0)
    return ladders


def proposed(ladders: Sequence[Ladder]) -> Ladder:
    """The ladder after which one more width gains less than a file is worth."""
    for ladder, following in pairwise(ladders):
        if following.bytes > ladder.bytes * (1 - WORTH):
            return ladder
    return ladders[-1]


@dataclass(frozen=True)
class _Table:
    """Costs by candidate: ``first`` of all visitors up to it, ``between`` of those above one and up
    to another, ``above`` of those who need more and get it; ``short`` is the share of visits that a
    wider one would help if it were the widest."""

    widths: Floats
    first: Floats
    between: Floats
    above: Floats
    short: Floats

    @classmethod
    def of(cls, demands: Sequence[Demand], widths: Floats) -> _Table:
        count = len(widths)
        first, above, short = np.zeros(count), np.zeros(count), np.zeros(count)
        between = np.zeros((count, count))
        for demand in demands:
            order = np.argsort(demand.needed)
            needed, shares = demand.needed[order], demand.shares[order]
            reached = np.concatenate([[0.0], np.cumsum(shares)])
            up_to = reached[np.searchsorted(needed, widths + 1e-6, side="right")]
            weights = demand.curve.at(np.minimum(widths, demand.natural))
            first += up_to * weights
            between += (up_to[None, :] - up_to[:, None]) * weights[None, :]
            above += (reached[-1] - up_to) * weights
            wanted = np.minimum(needed, demand.natural)
            sharp = np.minimum(widths, demand.natural) / TOO_FEW
            short += reached[-1] - reached[np.searchsorted(wanted, sharp + 1e-6, side="right")]
        upwards = np.triu(np.ones((count, count), dtype=np.bool_), 1)
        return cls(widths, first, np.where(upwards, between, np.inf), above, short)


def _traced(widths: Floats, steps: Sequence[npt.NDArray[np.int64]], last: int) -> tuple[int, ...]:
    """The ladder that ends in a candidate, back to its first width."""
    found = [int(widths[last])]
    for step in reversed(steps[1:]):
        last = int(step[last])
        found.append(int(widths[last]))
    return tuple(reversed(found))

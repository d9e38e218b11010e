"""The best ladder against trying every choice."""

from __future__ import annotations

from itertools import combinations, pairwise

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from gefa.core.treat.formats import Format
from gefa.core.weigh.best_ladder import Demand, best_ladders, candidates, cost_of, proposed
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.shown import ShownFile

needs = st.lists(st.tuples(st.floats(20, 4000), st.floats(0.01, 1)), min_size=1, max_size=7)


def demand(rows: list[tuple[float, float]], natural: int, power: float = 1.6) -> Demand:
    files = [ShownFile("f", Format.WEBP, w, w, w, round(w**power)) for w in (50, 400, natural)]
    needed, shares = (np.array(column) for column in zip(*rows, strict=True))
    return Demand(needed, shares / shares.sum(), WeightCurve.of(files), natural)


def by_trying(demands: list[Demand], count: int, too_few: float) -> float:
    """Bytes of the best of all ladders of so many widths."""
    widths = [int(width) for width in candidates(demands)]
    costs = [cost_of(chosen, demands) for chosen in combinations(widths, min(count, len(widths)))]
    return min(one.bytes for one in costs if one.short <= too_few + 1e-9)


@given(needs, needs, st.integers(450, 5000), st.sampled_from((0.0, 0.1, 0.4)))
@settings(max_examples=60, deadline=None)
def test_no_ladder_of_as_many_widths_is_lighter(
    one: list[tuple[float, float]], other: list[tuple[float, float]], natural: int, too_few: float
) -> None:
    demands = [demand(one[:4], natural), demand(other[:3], natural // 2 + 300, 1.8)]
    found = best_ladders(demands, most=4, too_few=too_few)
    best = float("inf")
    for count, ladder in enumerate(found, 1):
        assert len(ladder.widths) == count
        checked = cost_of(ladder.widths, demands)
        assert np.isclose(checked.bytes, ladder.bytes)
        assert checked.short <= too_few + 1e-9
        best = min(best, by_trying(demands, count, too_few))
        assert ladder.bytes <= best * (1 + 1e-9)


@given(needs, st.integers(450, 5000))
@settings(deadline=None)
def test_more_widths_never_cost_more(rows: list[tuple[float, float]], natural: int) -> None:
    found = best_ladders([demand(rows, natural)])
    assert all(a.bytes > b.bytes for a, b in pairwise(found))
    assert proposed(found) in found
    assert max(found[-1].widths) <= natural


def test_ladders_that_can_be_worked_out_by_hand() -> None:
    rows = [(300.0, 0.5), (1000.0, 0.5)]
    one, two = best_ladders([demand(rows, 2000)])
    assert one.widths == (950,), "0.95 of what is needed is sharp"
    assert two.widths == (300, 950)
    allowed = best_ladders([demand(rows, 2000)], too_few=0.5)
    assert allowed[0].widths == (285,)
    small = best_ladders([demand(rows, 500)])
    assert small[-1].widths == (300, 500)
    assert small[-1].blurred == 0.5, "nobody can have more than there is"
    assert best_ladders([]) == []

"""Ladders whose neighbours are evenly apart in weight."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from gefa.core import carry_out, prepare, survey_for
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.treat.recipe import Recipe, Steps
from gefa.core.treat.weight_steps import fewest, next_widths
from tests.make import photo
from tests.shelves import MemoryShelf


def made_ladder(weigh: dict[int, int], apart: int, power: float) -> list[int]:
    """Go on as a run does, with weights that are known beforehand."""
    widths = sorted(weigh)
    known = {width: weigh[width] for width in (widths[0], widths[-1])}
    while more := next_widths(known, widths, apart, lambda width: width**power):
        known |= {width: weigh[width] for width in more}
    return fewest(known, apart)


@given(
    power=st.floats(0.7, 2.6),
    guessed=st.floats(0.7, 2.6),
    grain=st.integers(0, 90_000),
    apart=st.integers(4_000, 60_000),
)
def test_no_neighbours_are_further_apart_than_asked_for(
    power: float, guessed: float, grain: int, apart: int
) -> None:
    """Also where weight does not grow as it is guessed to, and jumps near the natural size."""
    candidates = Steps(narrowest=320, widest=1920, apart=apart).candidates
    weigh = {
        width: int(1_000 + (width / 16) ** power * 20 + (grain if width > 1700 else 0))
        for width in candidates
    }
    ladder = made_ladder(weigh, apart, guessed)
    assert ladder[0] == 320
    assert ladder[-1] == 1920
    for narrow, wide in pairwise(ladder):
        if abs(weigh[wide] - weigh[narrow]) > apart:
            assert candidates.index(wide) - candidates.index(narrow) == 1


@given(
    st.dictionaries(st.integers(1, 4000), st.integers(1, 10**6), min_size=1), st.integers(1, 10**6)
)
def test_the_fewest_go_from_end_to_end(known: dict[int, int], apart: int) -> None:
    kept = fewest(known, apart)
    assert kept == sorted(set(kept))
    assert (kept[0], kept[-1]) == (min(known), max(known))
    # Taking any one out that is not an end leaves too wide a step, or it was too wide already.
    for before, _, after in zip(kept, kept[1:], kept[2:], strict=False):
        between = [w for w in known if before < w <= after]
        assert abs(known[after] - known[before]) > apart or len(between) == 1


def test_a_light_picture_needs_only_the_ends() -> None:
    assert made_ladder({320: 900, 800: 1_500, 1920: 4_000}, 30_000, 1.7) == [320, 1920]


def test_steps_make_files_and_are_remembered(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(700, 460, 6).pngsave(str(source))
    steps = Steps(narrowest=100, widest=700, apart=9_000)
    recipe = Recipe(formats=("webp", "jpeg"), steps=steps)
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="/", recipe="r"),))
    document = read(source)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    shelf = MemoryShelf()
    report = carry_out(job, lambda: document, shelf)
    lightest: dict[int, int] = {}
    for file in report.files:
        lightest[file.width] = min(file.bytes, lightest.get(file.width, file.bytes))
    widths = sorted(lightest)
    assert (widths[0], widths[-1]) == (100, 700)
    assert 3 <= len(widths) < 12
    assert all(abs(lightest[a] - lightest[b]) <= 9_000 for a, b in pairwise(widths))
    assert set(shelf.data) == {file.path for file in report.files}
    assert f"-{widths[1]}.webp {widths[1]}w" in report.record.markup
    again = carry_out(job, lambda: document, shelf)
    assert [f.path for f in again.files] == [f.path for f in report.files]


def test_a_picture_smaller_than_the_steps_gets_its_own_size(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(90, 60, 6).pngsave(str(source))
    plan = parse_plan(
        '[recipes.r]\nformats = ["jpeg"]\nsteps = { narrowest = 320, widest = 1920, apart = 30000 }\n'
        '[[cuts]]\npart = "/"\nrecipe = "r"\n',
        "p",
    )
    document = read(source)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    report = carry_out(job, lambda: document, MemoryShelf())
    assert [(file.width, file.height) for file in report.files] == [(90, 60)]


def test_steps_that_make_no_sense_are_refused() -> None:
    with pytest.raises(ValidationError, match="wider widest"):
        Steps(narrowest=900, widest=300)
    with pytest.raises(ValidationError, match="one of widths"):
        Recipe(formats=("jpeg",), widths=(100,), steps=Steps())
    with pytest.raises(ValidationError, match="since there are several widths"):
        Recipe(formats=("jpeg",), steps=Steps(), name="{cut}.{ext}")
    assert len(Steps(narrowest=1, widest=65_000).candidates) <= 64

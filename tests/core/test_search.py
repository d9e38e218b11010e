"""Qualities that are searched for: how near, in how many encodes, and what is said if not."""

from __future__ import annotations

import math
import statistics
from itertools import pairwise

import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import PROBE_WIDTH, EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import LOSSY, Format, typical_of
from gefa.core.treat.quality_search import (
    MORE_ENCODES,
    MOST_ENCODES,
    SLACK,
    for_budget,
    for_look,
    slack_of,
)
from gefa.core.treat.recipe import Aim, Settings
from tests.make import dot, loaded, photo


def textured(width: int, height: int, seed: int) -> pyvips.Image:
    """Not like the photographs that the typical curves come from."""
    checks = pyvips.Image.xyz(width, height)
    board = ((checks[0] / 9).floor() + (checks[1] / 9).floor()) % 2 * 90
    return (photo(width, height, seed) * 0.6 + board).cast("uchar").copy(interpretation="srgb")


PICTURES = [photo(240, 160, 1), photo(400, 260, 7), textured(230, 170, 2), textured(320, 200, 9)]


def test_what_avif_cannot_hold_is_searched_for_without_its_drafts() -> None:
    wide = photo(17_000, 24, 3)
    source = EncodeSource(wide, probe=lambda: EncodeSource(wide.resize(480 / 17_000, vscale=1)))
    found = find(source, EncodeRequest(Format.JPEG, Aim(look=70), Settings()))
    assert found.score is not None
    assert found.score >= 70
    assert loaded(found.data).width == 17_000


def test_a_look_is_met_closely_in_few_encodes() -> None:
    encodes = []
    for image in PICTURES:
        looked = EncodeSource(image)
        for format in LOSSY:
            for target in (60.0, 75.0, 85.0):
                found = find(looked, EncodeRequest(format, Aim(look=target), Settings()))
                assert found.quality is not None
                assert found.score == pytest.approx(looked.score(found.data, format), abs=1e-6)
                within = 0 <= (found.score or 0) - target <= slack_of(format, found.encodes)
                assert within or found.limit, (format, target, found.quality, found.score)
                encodes.append(found.encodes)
    assert max(encodes) <= MOST_ENCODES + MORE_ENCODES
    assert sum(count > MOST_ENCODES for count in encodes) <= len(encodes) / 20
    assert statistics.median(encodes) <= 3.5


def test_no_byte_limit_is_ever_exceeded() -> None:
    for image in PICTURES:
        for format in LOSSY:
            largest = len(encode(image, format, 90))
            for share in (0.05, 0.3, 0.8):
                limit = round(largest * share)
                found = find(
                    EncodeSource(image), EncodeRequest(format, Aim(max_bytes=limit), Settings())
                )
                assert found.encodes <= MOST_ENCODES
                if found.fits:
                    assert len(found.data) <= limit
                else:
                    assert found.quality == typical_of(format).lowest
                    assert "lowest worth using" in found.limit


@given(
    steep=st.floats(0.3, 2.0),
    lift=st.floats(-40, 40),
    target=st.floats(20, 95),
    format=st.sampled_from(LOSSY),
)
def test_any_growing_curve_is_searched_to_its_end(
    steep: float, lift: float, target: float, format: Format
) -> None:
    """What an encoder gives is made up here: a score that grows with quality."""

    def score(data: bytes) -> float:
        return min(100.0, lift + steep * len(data))

    start = typical_of(format).scores
    found = for_look(format, target, lambda quality: b"x" * quality, score, start)
    assert found.quality is not None
    reached = found.score is not None and found.score >= target
    if reached and not found.limit:
        assert (found.score or 0) - target <= slack_of(format, found.encodes) + 1e-6
    if not reached:
        assert "at best" in found.limit
    budget = for_budget(format, 60, lambda quality: b"x" * quality, pixels=500)
    assert len(budget.data) <= 60


def test_a_smaller_copy_gives_a_better_start() -> None:
    """A search on a large picture begins where the one on its probe ended."""
    image = textured(1300, 400, 5)
    request = EncodeRequest(Format.JPEG, Aim(look=70), Settings())
    probe = EncodeSource(image.resize(PROBE_WIDTH / image.width).cast("uchar"))
    alone = find(EncodeSource(image), request)
    helped = find(EncodeSource(image, probe=lambda: probe), request)
    assert helped.encodes <= min(alone.encodes, 3)
    assert 70 <= (helped.score or 0) <= 70 + SLACK


def test_what_a_format_cannot_reach_is_named() -> None:
    found = find(
        EncodeSource(textured(120, 90, 1)), EncodeRequest(Format.JPEG, Aim(look=99), Settings())
    )
    assert "JPEG reaches" in found.limit
    assert found.quality == 100
    assert math.isfinite(found.score or 0)


def test_transparent_pictures_are_searched_too() -> None:
    piece = dot(120, 120, (20, 20, 80, 80), (180, 60, 20))
    found = find(EncodeSource(piece), EncodeRequest(Format.WEBP, Aim(look=75), Settings()))
    assert (found.score or 0) >= 75


def test_numbers_that_give_the_same_avif_are_known() -> None:
    """Else every second try of a search may be one for nothing."""
    image = photo(48, 40)
    files = [encode(image, Format.AVIF, quality, Settings(effort=0)) for quality in range(1, 101)]
    twins = {q + 1 for q, (one, two) in enumerate(pairwise(files), start=1) if one == two}
    assert twins == typical_of(Format.AVIF).twins
    assert typical_of(Format.AVIF).same_as(5) == 3

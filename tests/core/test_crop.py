"""Crops round a focal point, and the sizes that recipes with a ratio make."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.crop import crop_round, suggested_focal
from gefa.core.geometry import Rect, Size
from gefa.core.read import read
from gefa.core.treat.ladder import ladder

SIDES = st.integers(1, 4000)
SHARES = st.floats(0, 1)


@given(SIDES, SIDES, st.floats(0.1, 10), SHARES, SHARES, st.floats(1, 8))
def test_a_crop_lies_inside_and_holds_its_focal_point(
    width: int, height: int, ratio: float, fx: float, fy: float, zoom: float
) -> None:
    size = Size(width, height)
    crop = crop_round(size, ratio, (fx, fy), zoom)
    assert Rect(0, 0, width, height).intersection(crop) == crop
    assert crop.x <= fx * width + 1
    assert fx * width - 1 <= crop.right
    assert crop.y <= fy * height + 1
    assert fy * height - 1 <= crop.bottom
    if min(crop.width, crop.height) > 50:
        assert crop.width / crop.height == pytest.approx(ratio, rel=0.03)
    if zoom == 1:
        touches = crop.width in (width, width - 1) or crop.height in (height, height - 1)
        assert touches, "the largest there is"


def test_the_formula_on_plain_figures() -> None:
    wide = Size(1600, 900)
    assert crop_round(wide, 1.0, (0.5, 0.5)) == Rect(350, 0, 900, 900)
    assert crop_round(wide, 1.0, (0.0, 0.5)) == Rect(0, 0, 900, 900), "moved, not shrunk"
    assert crop_round(wide, 1.0, (1.0, 0.5)) == Rect(700, 0, 900, 900)
    assert crop_round(wide, 16 / 9, (0.5, 0.5), 2.0) == Rect(400, 225, 800, 450)
    assert crop_round(wide, 16 / 9, (0.9, 0.1), 2.0) == Rect(800, 0, 800, 450)


@pytest.mark.parametrize(("x", "y"), [(60, 50), (330, 60), (200, 240)])
def test_attention_goes_to_what_stands_out(tmp_path: Path, x: int, y: int) -> None:
    pixels = np.full((300, 400, 3), 190, np.uint8)
    pixels[y : y + 40, x : x + 40] = (230, 40, 30)
    path = tmp_path / "one.png"
    pyvips.Image.new_from_array(pixels, interpretation="srgb").pngsave(str(path))
    document = read(path)
    fx, fy = suggested_focal(document, document.canvas, document.canvas_rect)
    assert abs(fx * 400 - (x + 20)) < 45
    assert abs(fy * 300 - (y + 20)) < 45


def test_sizes_in_a_box() -> None:
    natural = Size(1600, 900)
    assert ladder(natural, [400], ratio=1.0) == [Size(400, 225)], "contain"
    assert ladder(Size(900, 1600), [400], ratio=1.0) == [Size(225, 400)]
    assert ladder(natural, [400], ratio=1.0, stretched=True) == [Size(400, 400)], "fill"
    assert ladder(natural, [800, 1600, 3000]) == [Size(800, 450), Size(1600, 900)]
    assert ladder(natural, [2000], ratio=1.0, stretched=True) == [Size(900, 900)], "not enlarged"


@given(SIDES, SIDES, st.lists(st.integers(1, 6000), min_size=1, max_size=6), st.floats(0.2, 5))
def test_nothing_is_ever_enlarged(width: int, height: int, widths: list[int], ratio: float) -> None:
    natural = Size(width, height)
    for stretched in (False, True):
        for size in ladder(natural, widths, ratio=ratio, stretched=stretched):
            assert 1 <= size.width <= width
            assert 1 <= size.height <= height

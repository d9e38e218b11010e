from __future__ import annotations

import numpy as np
import pytest
import pyvips

from gefa.core.geometry import NOWHERE, Rect, Size
from gefa.core.pixels import (
    AlphaKind,
    alpha_kind,
    drop_opaque_alpha,
    on_matte,
    resize,
    to_srgb,
    visible_box,
    with_alpha,
)
from tests.make import RED, dot, flat, largest_difference, photo


def test_the_kinds_of_alpha_are_told_apart() -> None:
    assert alpha_kind(flat(8, 8)) is AlphaKind.NONE
    assert alpha_kind(flat(8, 8, (*RED, 255))) is AlphaKind.NONE
    assert alpha_kind(dot(8, 8, (2, 2, 3, 3))) is AlphaKind.BINARY
    assert alpha_kind(flat(8, 8, (*RED, 254))) is AlphaKind.SOFT


def test_alpha_that_says_nothing_is_dropped_and_other_alpha_kept() -> None:
    assert drop_opaque_alpha(flat(8, 8, (*RED, 255))).bands == 3
    assert drop_opaque_alpha(dot(8, 8, (2, 2, 3, 3))).bands == 4


def test_the_visible_box_is_exact_even_for_one_faint_pixel() -> None:
    pixels = np.zeros((50, 70, 4), np.uint8)
    pixels[33, 12, 3] = 1
    image = pyvips.Image.new_from_array(pixels, interpretation="srgb")
    assert visible_box(image) == Rect(12, 33, 1, 1)
    assert visible_box(dot(90, 60, (10, 20, 30, 15))) == Rect(10, 20, 30, 15)
    assert visible_box(flat(9, 9, (0, 0, 0, 0))) == NOWHERE


@pytest.mark.parametrize("size", [Size(31, 17), Size(200, 111), Size(1, 1), Size(399, 1)])
def test_a_picture_is_resized_to_exactly_the_size_asked_for(size: Size) -> None:
    small = resize(photo(400, 300), size)
    assert (small.width, small.height) == (size.width, size.height)


def test_invisible_colour_does_not_bleed_into_the_edges() -> None:
    """Red on invisible green: without premultiplying, the shrunk edge would turn greenish."""
    pixels = np.zeros((200, 200, 4), np.uint8)
    pixels[:] = (0, 255, 0, 0)
    pixels[:, 77:] = (255, 0, 0, 255)
    image = pyvips.Image.new_from_array(pixels, interpretation="srgb")
    small = resize(image, Size(20, 20)).numpy().astype(int)
    seen = small[small[..., 3] > 8]
    assert seen[:, 1].max() <= 2
    assert seen[:, 0].min() >= 250


def test_a_resize_agrees_with_pillow_to_a_few_levels() -> None:
    from PIL import Image

    image = photo(800, 600)
    ours = resize(image, Size(200, 150)).numpy().astype(int)
    theirs = Image.fromarray(image.numpy()).resize((200, 150), Image.Resampling.LANCZOS)
    difference = np.abs(ours - np.asarray(theirs).astype(int))
    assert difference.mean() < 0.6
    assert difference.max() <= 6


def test_a_matte_is_mixed_in_by_alpha() -> None:
    half = flat(4, 4, (200, 100, 0, 128))
    assert on_matte(half, "#0000ff").numpy()[0, 0].tolist() == pytest.approx([100, 50, 127], abs=1)
    assert on_matte(flat(4, 4), "#0000ff").numpy()[0, 0].tolist() == list(RED)


def test_grey_16_bit_cmyk_and_indexed_pictures_become_8_bit_srgb() -> None:
    grey = pyvips.Image.black(4, 4) + 77
    grey = grey.cast("uchar").copy(interpretation="b-w")
    assert to_srgb(grey).numpy()[0, 0].tolist() == [77, 77, 77]

    deep = (pyvips.Image.black(4, 4, bands=3) + [65535, 32896, 0]).cast("ushort")
    made = to_srgb(deep.copy(interpretation="rgb16"))
    assert made.format == "uchar"
    assert made.numpy()[0, 0].tolist() == [255, 128, 0]

    ink = (pyvips.Image.black(4, 4, bands=4) + [0, 255, 255, 0]).cast("uchar")
    red = to_srgb(ink.copy(interpretation="cmyk")).numpy()[0, 0]
    assert red.shape == (3,)
    assert red[0] > 180
    assert red[1] < 90

    grey_alpha = grey.bandjoin(128).copy(interpretation="b-w")
    assert to_srgb(grey_alpha).numpy()[0, 0].tolist() == [77, 77, 77, 128]


def test_an_embedded_profile_is_honoured() -> None:
    """The same numbers mean another colour in a wide-gamut space."""
    wide = flat(8, 8, (180, 60, 60)).icc_export(output_profile="p3")
    plain = to_srgb(wide).numpy()[0, 0].astype(int)
    assert np.abs(plain - np.array([180, 60, 60])).max() <= 3
    assert np.abs(wide.numpy()[0, 0].astype(int) - np.array([180, 60, 60])).max() > 6


def test_a_broken_profile_is_ignored() -> None:
    image = flat(8, 8).copy()
    image.set_type(pyvips.GValue.blob_type, "icc-profile-data", b"not a profile at all" * 20)
    assert to_srgb(image).numpy()[0, 0].tolist() == list(RED)


def test_adding_alpha_keeps_the_colour() -> None:
    image = with_alpha(photo(20, 10))
    assert image.bands == 4
    assert image[3].min() == 255
    assert largest_difference(image.extract_band(0, n=3), photo(20, 10)) == 0

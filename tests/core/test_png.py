"""PNG: the same pixels in fewer bytes, and palettes of any number of colours."""

from __future__ import annotations

import numpy as np
import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.treat import png
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import Format
from gefa.core.treat.nature import Nature
from gefa.core.treat.recipe import Aim, Recipe, Settings
from tests.make import dot, flat, loaded, photo


def badge(side: int = 160) -> pyvips.Image:
    """A disc in steps of colour, with soft edges."""
    y, x = np.mgrid[0:side, 0:side].astype(np.float32) / side - 0.5
    far = np.hypot(x, y)
    steps = (np.floor(far * 24) * 20).clip(0, 255).astype(np.uint8)
    alpha = ((0.45 - far) * side * 128).clip(0, 255).astype(np.uint8)
    rgba = np.dstack([steps, 255 - steps, (steps // 2 + 40), alpha])
    return pyvips.Image.new_from_array(rgba).copy(interpretation="srgb")


def shown(image: pyvips.Image) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    rgba = (image if image.hasalpha() else image.bandjoin(255)).numpy().astype(float)
    return np.asarray(rgba * (rgba[..., 3:] > 0))


@given(st.sampled_from([flat(40, 30), dot(60, 50, (5, 5, 30, 30)), photo(50, 40, 2), badge(64)]),
       st.integers(0, 9))  # fmt: skip
def test_no_effort_changes_a_pixel(image: pyvips.Image, effort: int) -> None:
    made = encode(image, Format.PNG, None, Settings(effort=effort))
    wide = loaded(made)
    wide = wide.colourspace("srgb") if wide.bands < 3 else wide
    assert np.array_equal(shown(wide), shown(image))


def test_files_are_smaller_than_those_of_the_plain_encoder() -> None:
    pictures = [badge(), dot(200, 160, (20, 20, 100, 100)), photo(300, 200, 3)]
    ours = [len(encode(image, Format.PNG, None)) for image in pictures]
    plain = [len(image.pngsave_buffer(compression=9, keep="none")) for image in pictures]
    assert all(own <= theirs for own, theirs in zip(ours, plain, strict=True))
    assert sum(ours) < 0.9 * sum(plain)
    thorough = [len(encode(image, Format.PNG, None, Settings(effort=8))) for image in pictures]
    assert sum(thorough) <= sum(ours)


@pytest.mark.parametrize("colours", [2, 3, 7, 16, 20, 100, 256])
def test_a_palette_has_at_most_so_many_colours(colours: int) -> None:
    image = badge()
    made = encode(image, Format.PNG, None, Settings(colours=colours))
    found = {tuple(pixel) for row in loaded(made).numpy() for pixel in row}
    assert 2 <= len(found) <= colours
    # libimagequant decides what one more colour is worth; it leaves none out for long.
    assert len(found) >= min(colours, 30) // 2


def test_the_fewest_colours_that_reach_a_look() -> None:
    source = EncodeSource(badge(), nature=Nature.FLAT)
    found = {}
    for look in (60.0, 80.0, 90.0):
        request = EncodeRequest(Format.PNG, Aim(look=look), Settings(colours="auto", dither=0))
        found[look] = find(source, request)
        assert source.score(found[look].data, Format.PNG) >= look
        assert found[look].score is not None
    weights = [len(result.data) for result in found.values()]
    assert weights == sorted(weights)
    assert weights[0] < len(encode(badge(), Format.PNG, None))
    # One colour less would not do, or the file without loss is lighter.
    few = png.colours_of(found[60.0].data)
    fewer = encode(badge(), Format.PNG, None, Settings(colours=few - 1, dither=0))
    assert source.score(fewer, Format.PNG) < 60


def test_where_no_palette_reaches_the_look_nothing_is_lost() -> None:
    image = photo(200, 150, 5)
    request = EncodeRequest(Format.PNG, Aim(look=99), Settings(colours="auto"))
    found = find(EncodeSource(image), request)
    assert np.array_equal(loaded(found.data).numpy(), image.numpy())
    assert found.score == 100
    assert "no palette reaches look 99" in found.limit


def test_a_recipe_asks_for_a_look_of_png_only_where_its_colours_are_chosen() -> None:
    look = {"look": 82}
    by_look = Recipe(formats=("png",), widths=(90,), colours="auto", quality=look)
    assert by_look.quality_for(Format.PNG) == Aim(look=82)
    plain = Recipe(formats=("png",), widths=(90,), quality=look)
    assert plain.quality_for(Format.PNG) is None
    automatic = Recipe(formats="auto", widths=(90,), quality=look)
    assert automatic.quality_for(Format.PNG) == Aim(look=90), "few colours show at edges"
    assert automatic.quality_for(Format.WEBP) == Aim(look=82)
    told = Recipe(formats="auto", widths=(90,), quality=look, colours="auto")
    assert told.quality_for(Format.PNG) == automatic.quality_for(Format.PNG), "it is the default"
    lossless = Recipe(formats="auto", widths=(90,), quality=look, colours="all")
    assert lossless.quality_for(Format.PNG) is None
    assert lossless.settings_for(Format.PNG).colours is None

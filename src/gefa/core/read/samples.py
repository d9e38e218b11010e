"""Scales samples of other types (float, 32 bit) to 8 or 16 bits by the range they use."""

from __future__ import annotations

from dataclasses import dataclass

import pyvips

_WHITE_8, _WHITE_16, _WHITE_32 = 255.0, 65_535.0, 4_294_967_295.0
_HALF_16 = 32_767.0
_SLIGHTLY_OVER = 1.0001
"""of white: the overshoot of rounding"""
_BRIGHTEST_LIGHT = 32.0
"""of white: the most that linear light may have; larger values are levels up to 255"""
_FLOATS = frozenset({"float", "double"})


@dataclass(frozen=True)
class Range:
    """The smallest and largest sample of a picture."""

    least: float
    most: float


def is_unusual(image: pyvips.Image) -> bool:
    """Whether libvips would convert these samples to the wrong levels."""
    if image.format in ("uint", "int", "short"):
        return image.interpretation != "labs"
    return image.format in _FLOATS and image.interpretation != "lab"


def as_levels(image: pyvips.Image, range: Range) -> tuple[pyvips.Image, str]:
    """The picture with 8- or 16-bit levels or as linear light, and how its samples were
    interpreted, in words."""
    grey = image.bands - int(image.hasalpha()) < 3
    if image.format in _FLOATS:
        return _from_floats(image, range, grey=grey)
    if image.format == "short":
        if range.least < 0:
            levels, told = (image + 32_768.0), "-32,768 to 32,767"
        else:
            levels, told = image * (_WHITE_16 / _HALF_16), "0 to 32,767"
    elif image.format == "int" and range.least < 0:
        levels, told = (image + 2.0**31) * (_WHITE_16 / _WHITE_32), "-2,147,483,648 up"
    elif image.format == "int":
        levels, told = image * (_WHITE_16 / (2.0**31 - 1)), "0 to 2,147,483,647"
    else:
        levels, told = image * (_WHITE_16 / _WHITE_32), "0 to 4,294,967,295"
    kind = "grey16" if grey else "rgb16"
    return _rounded(levels, "ushort", kind), f"its samples are whole numbers, read as {told}"


def _from_floats(image: pyvips.Image, range: Range, *, grey: bool) -> tuple[pyvips.Image, str]:
    if not grey and range.most <= _BRIGHTEST_LIGHT:
        return image.copy(interpretation="scrgb"), "its samples are floats, read as linear light"
    white, told = _white_of(range)
    levels = _rounded(image * (_WHITE_16 / white), "ushort", "grey16" if grey else "rgb16")
    return levels, f"its samples are floats, read as 0 to {told}"


def _white_of(range: Range) -> tuple[float, str]:
    for white in (1.0, _WHITE_8, _WHITE_16):
        if range.most <= white * _SLIGHTLY_OVER:
            return white, f"{white:,.0f}"
    return range.most, f"{range.most:,.4g}, the greatest of them"


def _rounded(levels: pyvips.Image, format: str, interpretation: str) -> pyvips.Image:
    # A cast clips, and turns what is no number into 0.
    return levels.rint().cast(format).copy(interpretation=interpretation)

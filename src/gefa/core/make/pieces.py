"""Squares of a picture that stand for the whole of it, encoded each by itself: beside each other
they would have seams, which weigh more than the picture."""

from __future__ import annotations

from math import ceil
from typing import cast

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Settings

SIDE = 240
"""px of a piece: blocks of encoders end at its edges, and a score has all six scales from 225 px"""
WHOLE_UP_TO = 1.4
"""times the pixels of its pieces up to which a picture is taken as it is"""


class Pieces:
    """``count`` pieces of an opaque 8-bit sRGB picture, or all of it if that is hardly more."""

    def __init__(self, image: pyvips.Image, count: int) -> None:
        whole = image.width * image.height <= WHOLE_UP_TO * count * SIDE * SIDE
        self.are_whole = whole or min(image.width, image.height) < SIDE
        self.images = [image] if self.are_whole else _spread(image, count)

    def encoded(self, format: Format, quality: int | None, settings: Settings) -> list[bytes]:
        """A file of each piece; EncodeError if the encoder refuses."""
        return [encode(image, format, quality, settings) for image in self.images]


def _spread(image: pyvips.Image, count: int) -> list[pyvips.Image]:
    """Squares with as much detail as the picture has: of all there are, in the order of their
    detail, one from each of ``count`` equal parts."""
    corners = [(left, top) for top in _starts(image.height) for left in _starts(image.width)]
    light = cast(NDArray[np.uint8], image.extract_band(1).numpy())
    details = np.array(
        [_detail(light[top : top + SIDE, left : left + SIDE]) for left, top in corners]
    )
    order = np.argsort(details, kind="stable")
    chosen = []
    for part in np.array_split(order, min(count, len(order))):
        nearest = np.argmin(np.abs(details[part] - details[part].mean()))
        chosen.append(corners[int(part[nearest])])
    return [image.crop(left, top, SIDE, SIDE).copy_memory() for left, top in chosen]


def _starts(length: int) -> list[int]:
    """Where squares begin that cover a length, evenly."""
    count = ceil(length / SIDE)
    return [round((length - SIDE) * at / max(1, count - 1)) for at in range(count)]


def _detail(light: NDArray[np.uint8]) -> float:
    """The mean difference of neighbouring pixels, in levels."""
    values = light.astype(np.int16)
    return float(np.abs(np.diff(values, axis=0)).mean() + np.abs(np.diff(values, axis=1)).mean())

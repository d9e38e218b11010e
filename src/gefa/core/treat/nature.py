"""What kind of picture one is: it says which encoders are worth trying, and what they may harm."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import with_alpha

SAMPLED = 128
"""px a side of the pieces that are looked at, at natural size: reducing would blend colours"""
PIECES = 4
"""each way, of a picture that is too large to be looked at as a whole"""
FEW = 24
"""colours that flat art is mostly made of"""
MOSTLY = 0.85
"""of its pixels"""
GROUND = 0.55
"""the share that text leaves to the colour behind it, at the least"""
INK = 0.9
"""the share of text's two main colours and the steps between them"""
STRONG = 80
"""levels of lightness between neighbours across the edge of a letter"""
STROKES = (0.03, 0.4)
"""the share of rows' neighbours that are such edges, in text"""


class Nature(StrEnum):
    """What a picture is like; its value is how sentences call it."""

    PHOTOGRAPH = "a photograph"
    FLAT = "flat art"
    TEXT = "text"


@dataclass(frozen=True)
class PictureNature:
    """A picture's nature, and how many colours were counted in what was looked at."""

    nature: Nature
    colours: int


def nature_of(image: pyvips.Image) -> PictureNature:
    """Judge an 8-bit sRGB picture by its colours and edges; invisible pixels do not count."""
    found = [_facts(piece) for piece in _pieces(image)]
    colours: dict[int, int] = {}
    for counted, _ in found:
        for colour, pixels in counted.items():
            colours[colour] = colours.get(colour, 0) + pixels
    total = sum(colours.values())
    if not total:
        return PictureNature(Nature.FLAT, 0)
    heaviest = sorted(colours.values(), reverse=True)
    if sum(heaviest[:FEW]) < MOSTLY * total:
        return PictureNature(Nature.PHOTOGRAPH, len(colours))
    strokes = float(np.mean([edges for _, edges in found]))
    is_text = (
        heaviest[0] >= GROUND * total
        and sum(heaviest[:2]) >= INK * total * 0.8
        and STROKES[0] <= strokes <= STROKES[1]
    )
    return PictureNature(Nature.TEXT if is_text else Nature.FLAT, len(colours))


def _pieces(image: pyvips.Image) -> list[NDArray[np.uint8]]:
    """All of a small picture, or squares from all over a large one, as rows of RGBA."""
    whole = with_alpha(image)
    if whole.width * whole.height <= (SAMPLED * PIECES) ** 2:
        return [whole.numpy()]
    across, down = min(SAMPLED, whole.width), min(SAMPLED, whole.height)
    places = [
        (
            (whole.width - across) * column // (PIECES - 1),
            (whole.height - down) * row // (PIECES - 1),
        )
        for row in range(PIECES)
        for column in range(PIECES)
    ]
    return [whole.crop(x, y, across, down).numpy() for x, y in places]


def _facts(pixels: NDArray[np.uint8]) -> tuple[dict[int, int], float]:
    """How many visible pixels have each colour, and the share of strong edges along the rows."""
    numbers = pixels[..., :3].astype(np.uint32) @ np.array([65536, 256, 1], np.uint32)
    visible = pixels[..., 3] > 0
    values, counts = np.unique(numbers[visible], return_counts=True)
    light = pixels[..., :3].astype(np.float32) @ np.array([0.299, 0.587, 0.114], np.float32)
    light = np.where(visible, light, 255)
    steps = np.abs(np.diff(light, axis=1))
    edges = float((steps > STRONG).mean()) if steps.size else 0.0
    return dict(zip(values.tolist(), counts.tolist(), strict=True)), edges

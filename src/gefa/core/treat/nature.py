"""The kind of a picture (photograph, flat art), which says what encoders are worth trying."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import with_alpha

SAMPLED = 128
"""px a side of the sampled pieces, at natural size: reducing would blend colours"""
PIECES = 4
"""each way, of a picture too large to examine whole"""
FEW = 24
"""colours that make up most of flat art"""
MOSTLY = 0.85
"""share of its pixels in those colours"""
GROUND = 0.55
"""least share of the background colour in text"""
INK = 0.9
"""share of text's two main colours and the steps between them"""
STRONG = 80
"""levels of lightness between neighbours across a letter's edge"""
STROKES = (0.03, 0.4)
"""share of neighbours in rows that are such edges, in text"""


class Nature(StrEnum):
    """The kind of picture; its value is the word for sentences."""

    PHOTOGRAPH = "a photograph"
    FLAT = "flat art"
    TEXT = "text"


@dataclass(frozen=True)
class PictureNature:
    """A picture's nature, and the number of colours in the sampled pixels."""

    nature: Nature
    colours: int


def nature_of(image: pyvips.Image) -> PictureNature:
    """Classify an 8-bit sRGB picture by its colours and edges; invisible pixels do not count."""
    pixels = _looked_at(image)
    visible = pixels[..., 3] > 0
    numbers = pixels[..., :3].astype(np.uint32) @ np.array([65536, 256, 1], np.uint32)
    counts = np.unique(numbers[visible], return_counts=True)[1]
    colours, total = len(counts), int(counts.sum())
    if not total:
        return PictureNature(Nature.FLAT, 0)
    heaviest = np.sort(counts)[::-1]
    if sum(heaviest[:FEW]) < MOSTLY * total:
        return PictureNature(Nature.PHOTOGRAPH, colours)
    strokes = _strong_edges(pixels, visible)
    is_text = (
        heaviest[0] >= GROUND * total
        and sum(heaviest[:2]) >= INK * total * 0.8
        and STROKES[0] <= strokes <= STROKES[1]
    )
    return PictureNature(Nature.TEXT if is_text else Nature.FLAT, colours)


def _looked_at(image: pyvips.Image) -> NDArray[np.uint8]:
    """All of a small picture, or squares from all over a large one, below each other, as rows of
    RGBA."""
    whole = with_alpha(image)
    if whole.width * whole.height <= (SAMPLED * PIECES) ** 2:
        return whole.numpy()
    across, down = min(SAMPLED, whole.width), min(SAMPLED, whole.height)
    pieces = [
        whole.crop(
            (whole.width - across) * column // (PIECES - 1),
            (whole.height - down) * row // (PIECES - 1),
            across,
            down,
        )
        for row in range(PIECES)
        for column in range(PIECES)
    ]
    # Joined, they cost one pipeline of libvips and one sort instead of sixteen.
    return pyvips.Image.arrayjoin(pieces, across=1).numpy()


def _strong_edges(pixels: NDArray[np.uint8], visible: NDArray[np.bool_]) -> float:
    """The share (0..1) of strong steps of lightness along rows."""
    light = pixels[..., :3].astype(np.float32) @ np.array([0.299, 0.587, 0.114], np.float32)
    steps = np.abs(np.diff(np.where(visible, light, 255), axis=1))
    return float((steps > STRONG).mean()) if steps.size else 0.0

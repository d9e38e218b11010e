"""A rough likeness of a part, to recognise the part under another name."""

from __future__ import annotations

import base64

import numpy as np
from numpy.typing import NDArray

SIDE = 8
"""px of the reduced picture"""
_SAMPLES = 4
"""samples per px and direction"""
ALIKE = 0.06
"""mean difference (0..1) up to which two parts count as the same"""


def likeness_of(pixels: NDArray[np.uint8]) -> str:
    """A picture with alpha at 8 × 8 px, premultiplied, as base64; empty for an empty one."""
    height, width = pixels.shape[:2]
    if not height or not width:
        return ""
    rows = np.linspace(0, height - 1, SIDE * _SAMPLES).round().astype(int)
    columns = np.linspace(0, width - 1, SIDE * _SAMPLES).round().astype(int)
    sampled = pixels[np.ix_(rows, columns)].astype(np.float32)
    sampled[..., :3] *= sampled[..., 3:] / 255
    means = sampled.reshape(SIDE, _SAMPLES, SIDE, _SAMPLES, 4).mean(axis=(1, 3))
    return base64.b64encode(means.round().astype(np.uint8).tobytes()).decode()


def difference(one: str, other: str) -> float:
    """The difference of two likenesses, 0..1; 1 if either is empty."""
    if not one or not other:
        return 1.0
    a, b = _pixels(one), _pixels(other)
    return float(np.abs(a - b).mean()) / 255 if a.shape == b.shape else 1.0


def _pixels(likeness: str) -> NDArray[np.float32]:
    return np.frombuffer(base64.b64decode(likeness), np.uint8).astype(np.float32)

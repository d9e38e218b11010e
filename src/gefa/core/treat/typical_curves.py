"""How score and weight usually grow with an encoder's quality number.

Means over the sample photographs at 640 px. Searches start from these curves and are corrected by
what they measure, so a picture that is not typical costs an encode more, and no accuracy.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

from gefa.core.treat.formats import Format


@dataclass(frozen=True)
class Curve:
    """A value that grows with quality, linear between ``points`` of (quality, value)."""

    points: tuple[tuple[float, float], ...]

    def value(self, quality: float) -> float:
        return _between([q for q, _ in self.points], [v for _, v in self.points], quality)

    def quality(self, value: float) -> float:
        """The quality that usually gives ``value``; beyond the ends in their direction."""
        return _between([v for _, v in self.points], [q for q, _ in self.points], value)


def _between(xs: list[float], ys: list[float], x: float) -> float:
    at = min(max(bisect_left(xs, x), 1), len(xs) - 1)
    share = (x - xs[at - 1]) / (xs[at] - xs[at - 1])
    return ys[at - 1] + share * (ys[at] - ys[at - 1])


def _curve(*values: float) -> Curve:
    qualities = (10, 20, 30, 40, 50, 60, 70, 80, 90, 95, 100)
    return Curve(tuple(zip(qualities, values, strict=True)))


def moved(curve: Curve, by: float) -> Curve:
    """The curve with ``by`` more at every quality."""
    return Curve(tuple((quality, value + by) for quality, value in curve.points))


def through(curve: Curve, tries: Sequence[tuple[int, float]]) -> Curve:
    """The curve bent to go through tries of (quality, value); it never falls."""
    known = sorted(tries)
    offs = [(quality, value - curve.value(quality)) for quality, value in known]
    points: list[tuple[float, float]] = []
    for quality in sorted({q for q, _ in curve.points} | {q for q, _ in known}):
        value = curve.value(quality) + _level_beyond(offs, quality)
        points.append((quality, max(value, points[-1][1] + RISING) if points else value))
    return Curve(tuple(points))


def _level_beyond(points: Sequence[tuple[float, float]], x: float) -> float:
    """Linear between points, and as at the nearest beyond them."""
    if len(points) == 1:
        return points[0][1]
    xs, ys = [x for x, _ in points], [y for _, y in points]
    return _between(xs, ys, min(max(x, xs[0]), xs[-1]))


RISING = 1e-4
"""what a curve rises at the least from point to point, so that each value has its quality"""
PERFECT = 100.0
"""the score of the picture itself"""


def warped(score: float) -> float:
    """A score so that pictures differ by about the same everywhere: what is lost (100 less the
    score) differs by a factor from picture to picture, so its logarithm does by a sum."""
    return -math.log(101 - score)


def _warped_curve(*scores: float) -> Curve:
    return _curve(*(warped(score) for score in scores))


SCORES = {
    Format.AVIF: _warped_curve(35.7, 47.9, 58.4, 68.1, 74.6, 78.6, 82.0, 85.5, 89.4, 91.9, 96.1),
    Format.WEBP: _warped_curve(33.2, 43.3, 50.5, 56.1, 60.7, 64.4, 67.6, 72.3, 81.5, 85.6, 88.3),
    Format.JPEG: _warped_curve(-25.4, 23.4, 45.1, 55.8, 63.6, 67.9, 73.4, 79.2, 87.6, 91.1, 95.5),
}
"""SSIMULACRA2, warped"""

WEIGHTS = {
    Format.AVIF: _curve(-2.30, -2.04, -1.77, -1.43, -1.02, -0.71, -0.40, 0.0, 0.69, 1.24, 2.41),
    Format.WEBP: _curve(-1.35, -1.14, -0.97, -0.80, -0.63, -0.48, -0.33, 0.0, 0.69, 1.25, 1.81),
    Format.JPEG: _curve(-1.71, -1.31, -1.08, -0.84, -0.65, -0.49, -0.27, 0.0, 0.66, 1.14, 2.31),
}
"""natural logarithms of bytes, against those at quality 80"""

DRIFT = {Format.AVIF: -0.2, Format.WEBP: -0.09, Format.JPEG: -0.15}
"""how much the warped score of a picture of twice the width is off the typical one"""
HEAVIER = 2.0
"""how much the logarithm of the bytes of a picture of twice the width is above, at the most"""
LOWEST = {Format.AVIF: 15, Format.WEBP: 15, Format.JPEG: 20}
"""the lowest quality that anything is searched at: below it, it is mush"""
HIGHEST = 100

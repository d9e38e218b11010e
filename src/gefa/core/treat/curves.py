"""How a value, a score or a weight, grows with an encoder's quality number."""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

QUALITIES = (10, 20, 30, 40, 50, 60, 70, 80, 90, 95, 100)
"""the qualities at which typical curves were measured"""
PERFECT = 100.0
"""the score of the picture against itself"""
RISING = 1e-4
"""the least rise of a curve from point to point, so that each value has one quality"""


@dataclass(frozen=True)
class Curve:
    """A value that grows with quality: linear between ``points`` of (quality, value)."""

    points: tuple[tuple[float, float], ...]

    def value(self, quality: float) -> float:
        return between([q for q, _ in self.points], [v for _, v in self.points], quality)

    def quality(self, value: float) -> float:
        """The quality that should give ``value``; extrapolated beyond the ends."""
        return between([v for _, v in self.points], [q for q, _ in self.points], value)

    def moved(self, by: float) -> Curve:
        """The curve raised by ``by``."""
        return Curve(tuple((quality, value + by) for quality, value in self.points))


def between(xs: Sequence[float], ys: Sequence[float], x: float) -> float:
    """Linear interpolation with ascending ``xs``, extrapolated beyond the ends."""
    at = min(max(bisect_left(xs, x), 1), len(xs) - 1)
    share = (x - xs[at - 1]) / (xs[at] - xs[at - 1])
    return ys[at - 1] + share * (ys[at] - ys[at - 1])


def level_beyond(xs: Sequence[float], ys: Sequence[float], x: float) -> float:
    """Linear interpolation with ascending ``xs``, constant beyond the ends."""
    if len(xs) == 1:
        return ys[0]
    return between(xs, ys, min(max(x, xs[0]), xs[-1]))


def curve_at_qualities(*values: float) -> Curve:
    """The curve with these ``values`` at QUALITIES."""
    return Curve(tuple(zip(QUALITIES, values, strict=True)))


def curve_of_scores(*scores: float) -> Curve:
    """The same for scores, warped."""
    return curve_at_qualities(*(warped(score) for score in scores))


def warped(score: float) -> float:
    """A score on a scale where pictures differ by a constant. Between pictures the loss (100 minus
    the score) differs by a factor, so its logarithm differs by a sum."""
    return -math.log(101 - score)


def through(curve: Curve, tries: Sequence[tuple[int, float]]) -> Curve:
    """The curve, bent through measured tries of (quality, value); it never falls."""
    known = sorted(tries)
    qualities = [float(quality) for quality, _ in known]
    offs = [value - curve.value(quality) for quality, value in known]
    points: list[tuple[float, float]] = []
    for quality in sorted({q for q, _ in curve.points} | set(qualities)):
        value = curve.value(quality) + level_beyond(qualities, offs, quality)
        points.append((quality, max(value, points[-1][1] + RISING) if points else value))
    return Curve(tuple(points))

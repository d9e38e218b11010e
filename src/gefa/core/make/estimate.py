"""The expected weight of a cut's files, interpolated between a few measured points."""

from __future__ import annotations

from math import exp, log

from pydantic import BaseModel, ConfigDict

from gefa.core.make.job import PlannedVariant
from gefa.core.treat.curves import between
from gefa.core.treat.formats import Format
from gefa.core.treat.made import CutFacts

GROWS = 1.6
"""exponent of the width with which weight grows, if only one point is known"""


class Estimate(BaseModel):
    """Points of (width in px, bytes) for each format, narrowest first, and the nature of the
    picture. Empty if the cut could not be drawn."""

    model_config = ConfigDict(frozen=True)

    points: dict[Format, tuple[tuple[int, int], ...]] = {}
    facts: CutFacts | None = None

    def weight(self, variant: PlannedVariant) -> int | None:
        """Expected bytes of a variant; None if nothing is known of its format."""
        points = self.points.get(variant.format)
        if not points:
            return None
        xs, ys = [log(width) for width, _ in points], [log(bytes) for _, bytes in points]
        if len(points) == 1:
            return round(exp(ys[0] + GROWS * (log(variant.width) - xs[0])))
        return round(exp(between(xs, ys, log(variant.width))))

"""What a picture would weigh at any width, from the files that were made of it.

Between two widths the weight is taken as a power of the width: linear in logarithms, as
measured ladders of photographs are within a few percent.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from gefa.core.weigh.shown import ShownFile

Floats = npt.NDArray[np.float64]
USUAL_POWER = 1.6
"""of bytes over width, if there is only one file: photographs have 1.5 to 1.8"""
_POWERS = (0.5, 2.0)
"""beyond these, weight grows less than one side or more than both: then two files only happen to
weigh so"""


@dataclass(frozen=True)
class WeightCurve:
    """Bytes over px of width, logarithmic, through measured points with ascending widths."""

    widths: Floats
    bytes: Floats

    @classmethod
    def of(cls, files: Iterable[ShownFile]) -> WeightCurve:
        """The curve of one picture's files in one format; of two files of one width, the lighter
        counts."""
        points: dict[int, int] = {}
        for file in files:
            width, size = max(1, file.width), max(1, file.bytes)
            points[width] = min(size, points.get(width, size))
        ordered = sorted(points.items())
        return cls(np.log([width for width, _ in ordered]), np.log([size for _, size in ordered]))

    def at(self, widths: Floats) -> Floats:
        """Bytes at this width in px. Above the widest file the weight stays."""
        logs = np.log(np.maximum(widths, 1.0))
        inside: Floats = np.interp(logs, self.widths, self.bytes)
        below = np.minimum(logs - self.widths[0], 0.0) * self._power
        weights: Floats = np.exp(inside + below)
        return weights

    @property
    def _power(self) -> float:
        if len(self.widths) < 2:
            return USUAL_POWER
        slope = (self.bytes[1] - self.bytes[0]) / (self.widths[1] - self.widths[0])
        return float(np.clip(slope, *_POWERS))

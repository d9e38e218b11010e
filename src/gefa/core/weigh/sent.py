"""Which file each visitor is sent of a picture.

WHATWG HTML, 4.8.4.3: the first source whose media condition holds and whose type is shown; of its
files, as Chromium chooses, the narrowest with enough pixels, else the widest.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from gefa.core.weigh.audience import Audience, Bools, Floats
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.shown import ShownPicture, ShownSource

Ints = npt.NDArray[np.int64]
TOO_FEW = 0.95
"""of the needed px, below which a file looks blurred"""
_NONE = -1


@dataclass(frozen=True)
class Sent:
    """What each row of an audience is sent of one picture: ``file`` is the index of the file, -1
    for none; ``needed`` and ``width`` are px; ``over`` are bytes beyond a file of exactly the
    needed width; ``blurred`` marks too few px."""

    picture: ShownPicture
    file: Ints
    needed: Floats
    width: Floats
    bytes: Floats
    over: Floats
    blurred: Bools


def sent(picture: ShownPicture, audience: Audience) -> Sent:
    """What each visitor is sent of a picture, shown once."""
    count = len(audience.rows)
    found = Sent(
        picture,
        np.full(count, _NONE, dtype=np.int64),
        needed=np.zeros(count),
        width=np.zeros(count),
        bytes=np.zeros(count),
        over=np.zeros(count),
        blurred=np.zeros(count, dtype=np.bool_),
    )
    free = np.ones(count, dtype=np.bool_)
    start = 0
    for source in picture.sources:
        here = free & audience.holds(source.media) if source.media else free
        if source.type is not None:
            here = here & audience.shows(source.type)
        if source.files:
            if here.any():
                _choose(source, start, here, audience, found)
                free = free & ~here
            start += len(source.files)
    return found


def _choose(source: ShownSource, start: int, here: Bools, audience: Audience, found: Sent) -> None:
    """Fill in what the rows ``here`` are sent of a source."""
    files = source.files
    order = sorted(range(len(files)), key=lambda at: files[at].offered)
    offered = np.array([files[at].offered for at in order])
    needed = audience.needed(source.sizes)[here]
    at = np.minimum(np.searchsorted(offered, needed - _CLOSE, side="left"), len(order) - 1)
    number = np.array(order)[at]
    found.file[here] = start + number
    weights = np.array([file.bytes for file in files], dtype=np.float64)[number]
    widths = np.array([file.width for file in files], dtype=np.float64)[number]
    drawn = np.array([file.drawn for file in files])[number]
    found.needed[here] = needed
    found.width[here] = np.where(drawn, np.maximum(widths, needed), widths)
    found.bytes[here] = weights
    exact = WeightCurve.of(files).at(needed)
    found.over[here] = np.where(drawn, 0.0, np.maximum(0.0, weights - np.minimum(exact, weights)))
    found.blurred[here] = ~drawn & (widths < TOO_FEW * needed)


_CLOSE = 1e-6
"""px: the rounding error of a division"""

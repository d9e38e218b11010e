"""Finding an encoder's quality number: for a look, or for a byte limit.

Both are the same search: the quality whose value (score, or logarithm of bytes) falls into a
window. Each try tells how far this picture is from the typical one, and the next try is where the
typical curve, moved by that, crosses the middle of the window; between two tries the move is
interpolated.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.typical import HIGHEST, LOWEST, SCORES, WEIGHTS, Curve

MOST_ENCODES = 6
"""for one variant"""
SLACK = 1.5
"""points above its target that a score may be"""
FILLED = 0.95
"""the share of a byte limit that is filled at the least, where quality numbers allow"""


@dataclass(frozen=True)
class Tried:
    """A file made on the way; ``value`` is its score, or the logarithm of its bytes."""

    quality: int
    data: bytes
    value: float


@dataclass(frozen=True)
class Found:
    """The file that was looked for. ``off`` is how far the picture is from the typical one, as a
    start for its neighbour; ``limit`` names in words what kept it from its target."""

    quality: int | None
    data: bytes
    encodes: int
    off: float
    score: float | None = None
    limit: str = ""
    fits: bool = True


def for_look(
    format: Format,
    target: float,
    encode: Callable[[int], bytes],
    score: Callable[[bytes], float],
    off: float = 0.0,
) -> Found:
    """The smallest file whose score is at least ``target`` and at most SLACK above it."""
    tries = _search(
        SCORES[format],
        (target, target + SLACK),
        LOWEST[format],
        lambda quality: _scored(quality, encode, score),
        off,
    )
    reaching = [tried for tried in tries if tried.value >= target]
    best = min(reaching, key=_quality) if reaching else max(tries, key=_value)
    return Found(
        best.quality,
        best.data,
        len(tries),
        best.value - SCORES[format].value(best.quality),
        score=best.value,
        limit=_look_limit(format, target, best, tries),
    )


def for_budget(
    format: Format, max_bytes: int, encode: Callable[[int], bytes], off: float = 0.0
) -> Found:
    """The best file of at most ``max_bytes``; ``fits`` is false if there is none."""
    window = (math.log(max_bytes * FILLED), math.log(max_bytes))
    tries = _search(
        WEIGHTS[format], window, LOWEST[format], lambda quality: _weighed(quality, encode), off
    )
    fitting = [tried for tried in tries if len(tried.data) <= max_bytes]
    best = max(fitting, key=_quality) if fitting else min(tries, key=_quality)
    limit = ""
    if not fitting:
        limit = (
            f"at quality {best.quality}, the lowest that is sane, {FORMATS[format].label} weighs"
            f" {len(best.data) / 1000:,.1f} kB; {max_bytes / 1000:,.1f} kB are allowed"
        )
    return Found(
        best.quality,
        best.data,
        len(tries),
        best.value - WEIGHTS[format].value(best.quality),
        limit=limit,
        fits=bool(fitting),
    )


def _quality(tried: Tried) -> int:
    return tried.quality


def _value(tried: Tried) -> float:
    return tried.value


def _scored(quality: int, encode: Callable[[int], bytes], score: Callable[[bytes], float]) -> Tried:
    data = encode(quality)
    return Tried(quality, data, score(data))


def _weighed(quality: int, encode: Callable[[int], bytes]) -> Tried:
    data = encode(quality)
    return Tried(quality, data, math.log(len(data)))


def _search(
    curve: Curve,
    window: tuple[float, float],
    lowest: int,
    attempt: Callable[[int], Tried],
    off: float,
) -> list[Tried]:
    """Tries until one is in the window, or no quality is left between those beside it."""
    aim = sum(window) / 2
    tries: list[Tried] = []
    below = above = None
    first, last = lowest, HIGHEST
    guess = curve.quality(aim - off)
    while first <= last and len(tries) < MOST_ENCODES:
        tried = attempt(min(last, max(first, round(guess))))
        tries.append(tried)
        if window[0] <= tried.value <= window[1]:
            break
        if tried.value < window[0]:
            below, first = tried, tried.quality + 1
        else:
            above, last = tried, tried.quality - 1
        guess = _next(curve, aim, below, above)
    return tries


def _next(curve: Curve, aim: float, below: Tried | None, above: Tried | None) -> float:
    if below is not None and above is not None:
        if above.value <= below.value:
            return (below.quality + above.quality) / 2
        share = (aim - below.value) / (above.value - below.value)
        from_, to = curve.value(below.quality), curve.value(above.quality)
        return curve.quality(from_ + share * (to - from_))
    known = below or above
    assert known is not None
    return curve.quality(aim - (known.value - curve.value(known.quality)))


def _look_limit(format: Format, target: float, best: Tried, tries: list[Tried]) -> str:
    label = FORMATS[format].label
    if best.value < target:
        return f"{label} reaches {best.value:.1f} at its best, {target:g} was asked for"
    if best.value <= target + SLACK:
        return ""
    if best.quality <= LOWEST[format]:
        return f"{label} has {best.value:.1f} already at its lowest sane quality"
    lower = max((t for t in tries if t.value < target), key=_value, default=None)
    if lower is None:
        return f"{label} has {best.value:.1f} at quality {best.quality}"
    if best.quality - lower.quality > 1:
        return f"{len(tries)} tries of {label} came no nearer than {best.value:.1f}"
    return (
        f"the steps of {label} are that coarse: quality {lower.quality} gives {lower.value:.1f},"
        f" {best.quality} gives {best.value:.1f}"
    )

"""Finding an encoder's quality number: for a look, or for a byte limit.

Both are the same search: the quality whose value (score, or logarithm of bytes) falls into a
window. It starts from a curve, the typical one or that of the same picture at a smaller width.
Each try tells how far the picture is from it, and the next try is where the curve, bent
through the tries, crosses the middle of the window.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from gefa.core.treat.curves import Curve, through, warped
from gefa.core.treat.formats import FORMATS, Format, typical_of
from gefa.core.units import weight

MOST_ENCODES = 6
"""encodes for one variant"""
MORE_ENCODES, FAR = 3, 4.0
"""additional encodes, if the best is this many windows above the target"""
SLACK = 1.5
"""points that a score may be above its target"""
EASING = 0.5
"""points by which the window opens with each try, for a format slow enough to have drafts: the last
of several tries saves a percent at most"""
HIGHEST = 100
"""the highest quality number of any encoder"""
FILLED = 0.95
"""the least share of a byte limit to fill, if quality numbers allow"""


@dataclass(frozen=True)
class Attempt:
    """A file made during a search; ``value`` is its warped score, or the logarithm of its bytes."""

    quality: int
    data: bytes
    value: float
    score: float = math.nan


@dataclass(frozen=True)
class EncodeResult:
    """The result of a search. ``curve`` is the value by quality, a start for the neighbour's
    search; ``limit`` names what kept the file from its target, and ``short`` says that it misses
    the look. ``untouched`` is a picture's own file."""

    quality: int | None
    data: bytes
    encodes: int
    curve: Curve | None = None
    score: float | None = None
    limit: str = ""
    short: bool = False
    fits: bool = True
    untouched: bool = False


def slack_of(format: Format, tries: int) -> float:
    """Points that a score may be above its target, after so many tries."""
    easing = EASING if typical_of(format).draft is not None else 0.0
    return SLACK + easing * (tries - 1)


def for_look(
    format: Format,
    target: float,
    encode: Callable[[int], bytes],
    score: Callable[[bytes], float],
    curve: Curve,
    most: int = MOST_ENCODES,
) -> EncodeResult:
    """The smallest file whose score is at least ``target``, found in at most ``most`` encodes;
    ``curve`` is where the search starts."""
    typical = typical_of(format)
    tries = _search(
        curve,
        (warped(target), warped(target + SLACK)),
        typical.lowest,
        lambda quality: _scored(quality, encode, score),
        most,
        typical.same_as,
        MORE_ENCODES,
        warped(target + slack_of(format, 2)) - warped(target + SLACK),
    )
    reaching = [tried for tried in tries if tried.score >= target]
    best = min(reaching, key=_quality) if reaching else max(tries, key=_value)
    return EncodeResult(
        best.quality,
        best.data,
        len(tries),
        _own(curve, tries),
        score=best.score,
        limit=_look_limit(format, target, best, tries),
        short=not reaching,
    )


def for_budget(
    format: Format, max_bytes: int, encode: Callable[[int], bytes], pixels: int
) -> EncodeResult:
    """The best file of at most ``max_bytes`` for a picture of ``pixels`` px; ``fits`` is false if
    there is none."""
    window = (math.log(max_bytes * FILLED), math.log(max_bytes))
    typical = typical_of(format)
    curve = typical.weights.moved(math.log(max(1.0, pixels * typical.bits / 8)))
    tries = _search(
        curve,
        window,
        typical.lowest,
        lambda quality: _weighed(quality, encode),
        same_as=typical.same_as,
    )
    fitting = [tried for tried in tries if len(tried.data) <= max_bytes]
    best = max(fitting, key=_quality) if fitting else min(tries, key=_quality)
    limit = ""
    if not fitting:
        limit = (
            f"at quality {best.quality}, the lowest worth using, {FORMATS[format].label} weighs"
            f" {weight(len(best.data))}; the limit is {weight(max_bytes)}"
        )
    return EncodeResult(
        best.quality,
        best.data,
        len(tries),
        _own(curve, tries),
        limit=limit,
        fits=bool(fitting),
    )


def _own(curve: Curve, tries: Sequence[Attempt]) -> Curve:
    return through(curve, [(tried.quality, tried.value) for tried in tries])


def _quality(tried: Attempt) -> int:
    return tried.quality


def _value(tried: Attempt) -> float:
    return tried.value


def _scored(
    quality: int, encode: Callable[[int], bytes], score: Callable[[bytes], float]
) -> Attempt:
    data = encode(quality)
    reached = score(data)
    return Attempt(quality, data, warped(reached), reached)


def _weighed(quality: int, encode: Callable[[int], bytes]) -> Attempt:
    data = encode(quality)
    return Attempt(quality, data, math.log(len(data)))


def _search(
    curve: Curve,
    window: tuple[float, float],
    lowest: int,
    attempt: Callable[[int], Attempt],
    most: int = MOST_ENCODES,
    same_as: Callable[[int], int] = lambda quality: quality,
    more: int = 0,
    easing: float = 0.0,
) -> list[Attempt]:
    """Try qualities until one lands in the window, or none is left between the nearest tries.
    ``same_as`` names the number to try among those that give the same file. ``more`` tries are made
    if the best is still far above the window: grain that comes and goes within a few quality
    numbers doubles a file."""
    aim = sum(window) / 2
    tries: list[Attempt] = []
    below = above = None
    first, last = lowest, HIGHEST
    guess = curve.quality(aim)
    far = window[1] + FAR * (window[1] - window[0])
    while first <= last:
        lacking = above is not None and above.value > far
        if len(tries) >= (most + more if lacking else most):
            break
        tried = attempt(max(lowest, _nearest(min(last, max(first, guess)), last, same_as)))
        tries.append(tried)
        if window[0] <= tried.value <= window[1] + easing * (len(tries) - 1):
            break
        if tried.value < window[0]:
            below, first = tried, _next_above(tried.quality, same_as)
        else:
            above, last = tried, tried.quality - 1
        if below is not None and above is not None:
            guess = _between(curve, aim, below, above, tries)
        else:
            guess = _beyond(curve, aim, tries, first, last)
    return tries


def _nearest(guess: float, last: int, same_as: Callable[[int], int]) -> int:
    """The quality number closest to ``guess``, up to ``last``, among those that give different
    files."""
    lower = same_as(int(guess))
    higher = _next_above(lower, same_as)
    return higher if higher <= last and higher - guess < guess - lower else lower


def _next_above(quality: int, same_as: Callable[[int], int]) -> int:
    """The next quality number that gives a different file."""
    higher = quality + 1
    while higher <= HIGHEST and same_as(higher) == same_as(quality):
        higher += 1
    return higher


def _between(
    curve: Curve, aim: float, below: Attempt, above: Attempt, tries: list[Attempt]
) -> float:
    """The next guess, between tries on both sides."""
    middle = (below.quality + above.quality) / 2
    if above.value <= below.value:
        return middle
    share = (aim - below.value) / (above.value - below.value)
    start, end = curve.value(below.quality), curve.value(above.quality)
    guess = curve.quality(start + share * (end - start))
    # One side alone coming nearer may take for ever.
    one_sided = len(tries) > 2 and (tries[-1].value < aim) == (tries[-2].value < aim)
    return (guess + middle) / 2 if one_sided else guess


def _beyond(curve: Curve, aim: float, tries: list[Attempt], first: int, last: int) -> float:
    """The next guess, if all tries were too low, or all too high."""
    known = tries[-1]
    if len(tries) == 1:
        return curve.quality(aim - (known.value - curve.value(known.quality)))
    if len(tries) > 2:
        return last if known.value < aim else first
    before = tries[-2]
    steps = known.quality - before.quality
    slope = (known.value - before.value) / steps if steps else 0.0
    typical = (curve.value(known.quality + 1) - curve.value(known.quality - 1)) / 2
    # A fifth farther: to overshoot gives both sides, which the next try lies between. A slope that
    # is nearly flat is noise, and half of the typical one is believed at the least.
    return known.quality + 1.2 * (aim - known.value) / max(slope, typical / 2, 1e-6)


def _look_limit(format: Format, target: float, best: Attempt, tries: list[Attempt]) -> str:
    label = FORMATS[format].label
    if best.score < target:
        return f"{label} reaches {best.score:.1f} at best; the recipe asks for {target:g}"
    if best.score <= target + slack_of(format, len(tries)):
        return ""
    if best.quality <= typical_of(format).lowest:
        return f"{label} has {best.score:.1f} even at the lowest quality worth using"
    lower = max((t for t in tries if t.score < target), key=_value, default=None)
    if lower is None:
        return f"{label} has {best.score:.1f} at quality {best.quality}"
    if best.quality - lower.quality > 1:
        return f"{len(tries)} tries of {label} came no nearer than {best.score:.1f}"
    return (
        f"{label} has no quality between: quality {lower.quality} gives {lower.score:.1f},"
        f" {best.quality} gives {best.score:.1f}"
    )

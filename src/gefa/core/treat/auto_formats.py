"""Chooses the formats of a cut by what its candidates weigh at one width."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gefa.core.pixels import AlphaKind
from gefa.core.treat.formats import FORMATS, ORDER, Format
from gefa.core.treat.nature import Nature
from gefa.core.units import listed, weight

TRIAL_WIDTH = 800
"""px: formats are compared at the ladder's width closest to this"""
WORTH_A_SECOND = 0.9
"""of the fallback's weight: the most a second modern format may weigh, for browsers that do not
know the first"""
TRANSPARENCY = {
    AlphaKind.NONE: "no transparency",
    AlphaKind.BINARY: "hard-edged transparency",
    AlphaKind.SOFT: "soft transparency",
}


@dataclass(frozen=True)
class Candidate:
    """A format's file at the trial width: its bytes, its shortcoming in words (if it misses what
    was asked for), and whether it is animated."""

    bytes: int
    lacks: str = ""
    moves: bool = False


@dataclass(frozen=True)
class Choice:
    """The formats to make, newest first, and the reason in a sentence; ``against`` gives the reason
    for each other format."""

    formats: tuple[Format, ...]
    why: str
    against: dict[Format, str]


def hopeless(nature: Nature, alpha: AlphaKind) -> dict[Format, str]:
    """Formats that need no trial, each with the reason: the picture itself shows that they cannot
    win, and a PNG of a photograph is as slow as it is heavy."""
    if alpha is not AlphaKind.NONE:
        return {Format.JPEG: "it loses the transparency"}
    if nature is Nature.PHOTOGRAPH:
        return {Format.PNG: "it would make a photograph several times as heavy as JPEG"}
    return {}


def choose(
    tried: Mapping[Format, Candidate],
    nature: Nature,
    colours: int,
    alpha: AlphaKind,
    target: float,
    width: int,
) -> Choice:
    """Choose the lightest format, one that every browser shows, and a second modern one
    if it pays.

    ``nature`` and ``colours`` are the picture's, ``target`` is the look, ``width`` the trial width
    in px.
    """
    shows = {f: candidate for f, candidate in tried.items() if not candidate.lacks}
    good = shows or dict(tried)
    plain = {f: c for f, c in good.items() if not FORMATS[f].modern}
    plain = plain or {f: c for f, c in tried.items() if not FORMATS[f].modern} or good
    fallback = min(plain, key=lambda format: plain[format].bytes)
    kept = {fallback}
    if any(candidate.moves for candidate in good.values()):
        kept |= {format for format, candidate in good.items() if candidate.moves}
    else:
        lightest = min(good, key=lambda format: (good[format].bytes, ORDER.index(format)))
        kept.add(lightest)
        kept |= _second(lightest, good, tried[fallback].bytes)
    formats = tuple(sorted(kept, key=ORDER.index))
    against = {
        format: f"{FORMATS[format].label} is left out: {_against(format, tried, formats)}"
        for format in tried
        if format not in kept
    }
    return Choice(formats, _why(tried, formats, nature, colours, alpha, target, width), against)


def _second(lightest: Format, good: Mapping[Format, Candidate], fallback_bytes: int) -> set[Format]:
    """A modern format that more browsers know than the lightest, if it pays."""
    if not FORMATS[lightest].modern:
        return set()
    older = [f for f in good if FORMATS[f].modern and ORDER.index(f) > ORDER.index(lightest)]
    light = [f for f in older if good[f].bytes <= WORTH_A_SECOND * fallback_bytes]
    return {min(light, key=lambda format: good[format].bytes)} if light else set()


def _why(
    tried: Mapping[Format, Candidate],
    formats: tuple[Format, ...],
    nature: Nature,
    colours: int,
    alpha: AlphaKind,
    target: float,
    width: int,
) -> str:
    weights = listed(
        [
            f"{FORMATS[format].label} weighs {weight(candidate.bytes)}"
            + (f" and {candidate.lacks}" if candidate.lacks else "")
            for format, candidate in sorted(tried.items(), key=lambda item: item[1].bytes)
        ]
    )
    *modern, last = [FORMATS[format].label for format in formats]
    made = f"{listed(modern)} is made" if modern else f"only {last} is made"
    rest = f", and {last} for browsers without it" if modern else ""
    if len(modern) > 1:
        made = f"{listed(modern)} are made"
        rest = f", and {last} for browsers without them"
    return (
        f"It is {nature.value} with {colours:,} colours and {TRANSPARENCY[alpha]}. At"
        f" {width:,} px and look {target:g} {weights}; {made}{rest}."
    )


def _against(format: Format, tried: Mapping[Format, Candidate], kept: tuple[Format, ...]) -> str:
    candidate = tried[format]
    if candidate.lacks:
        return f"it {candidate.lacks}"
    best = min(kept, key=lambda known: tried[known].bytes)
    own, lighter = weight(candidate.bytes), weight(tried[best].bytes)
    if own == lighter:
        return f"it weighs as much as {FORMATS[best].label}: {own}"
    return f"it weighs {own}, {FORMATS[best].label} {lighter}"

"""The curve of weight against look, as a drawing: one line for each format."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from math import log10

from sqlmodel import Session

from gefa.core.geometry import Size
from gefa.core.look.proof import curve_formats, qualities_for
from gefa.core.make.job import CutJob
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.units import weight
from gefa.store import ledger

WIDTH, HEIGHT = 560, 300
LEFT, RIGHT, TOP, BOTTOM = 34, 46, 12, 30
"""px of the drawing around the lines"""
LOWEST_LOOK = 30.0
"""that is drawn: nobody wants less"""
STEPS = (1, 2, 5)
"""of each power of ten, at which weights are labelled"""
MOST_WRITTEN = 7
"""labels on the axis: more would touch"""


@dataclass(frozen=True)
class Point:
    """A file of the cut at a quality: bytes and SSIMULACRA2. ``href`` selects it."""

    format: Format
    quality: int | None
    bytes: int
    score: float
    href: str = ""
    chosen: bool = False
    made: bool = False
    x: float = 0.0
    y: float = 0.0

    @property
    def words(self) -> str:
        quality = "without loss" if self.quality is None else f"quality {self.quality}"
        label = FORMATS[self.format].label
        return f"{label} at {quality}: {weight(self.bytes)}, look {self.score:.1f}"


@dataclass
class Line:
    """The points of a format, by weight; ``waits`` while some are being measured."""

    format: Format
    points: list[Point]
    waits: bool

    @property
    def label(self) -> str:
        return FORMATS[self.format].label

    @property
    def path(self) -> str:
        return " ".join(f"{point.x:.1f},{point.y:.1f}" for point in self.points)


@dataclass
class Tick:
    """A position on an axis, and its label."""

    at: float
    text: str


@dataclass
class CurveView:
    """All lines, on one scale."""

    lines: list[Line]
    across: list[Tick] = field(default_factory=list)
    up: list[Tick] = field(default_factory=list)

    @property
    def waits(self) -> bool:
        return any(line.waits for line in self.lines)

    @property
    def points(self) -> list[Point]:
        return [point for line in self.lines for point in line.points]


def curve_of(
    session: Session,
    cut_job: CutJob,
    size: Size,
    made: Sequence[Point],
    chosen: tuple[Format, int | None],
    link: Callable[[Format, int | None], str],
) -> CurveView:
    """The known points of a cut's curves at ``size`` px, with the files that were ``made``."""
    formats = curve_formats(cut_job)
    keys = {
        (format, quality): cut_job.key_at(size, format, quality)
        for format in formats
        for quality in qualities_for(cut_job, format)
    }
    entries = ledger.known(session, keys.values())
    lines = []
    for format in formats:
        points = {point.quality: point for point in made if point.format is format}
        wanted = qualities_for(cut_job, format)
        known = 0
        for quality in wanted:
            entry = entries.get(keys[format, quality])
            if entry is not None and entry.score is not None:
                known += 1
                points.setdefault(quality, Point(format, quality, entry.bytes, entry.score))
        linked = [
            _placed(point, href=link(format, q), chosen=(format, q) == chosen)
            for q, point in points.items()
        ]
        linked.sort(key=lambda point: point.bytes)
        lines.append(Line(format, linked, known < len(wanted)))
    return _drawn(CurveView(lines))


def _placed(point: Point, **changes: object) -> Point:
    return Point(**{**point.__dict__, **changes})


def _drawn(curve: CurveView) -> CurveView:
    """The points laid out: weight across on a logarithmic scale, look upwards."""
    if not curve.points:
        return curve
    least = min(point.bytes for point in curve.points) * 0.9
    most = max(max(point.bytes for point in curve.points), least * 2) * 1.1
    low = max(LOWEST_LOOK, min(point.score for point in curve.points) // 10 * 10)
    low = min(low, 80.0)

    def x(bytes: float) -> float:
        share = log10(bytes / least) / log10(most / least)
        return LEFT + share * (WIDTH - LEFT - RIGHT)

    def y(score: float) -> float:
        return TOP + (100 - max(low, score)) / (100 - low) * (HEIGHT - TOP - BOTTOM)

    for line in curve.lines:
        line.points = [_placed(point, x=x(point.bytes), y=y(point.score)) for point in line.points]
    curve.across = [Tick(x(bytes), weight(bytes)) for bytes in _round_weights(least, most)]
    curve.up = [Tick(y(score), f"{score}") for score in range(int(low), 101, 10)]
    return curve


def _round_weights(least: float, most: float) -> list[int]:
    """1, 2 or 5 times a power of ten, few enough to be labelled."""
    found = [step * 10**power for power in range(1, 9) for step in STEPS]
    found = [bytes for bytes in found if least <= bytes <= most]
    while len(found) > MOST_WRITTEN:
        found = found[::2]
    return found

"""One variant's file, at a given quality or at one that is searched for."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from math import log2
from typing import TYPE_CHECKING

import pyvips

from gefa.core.geometry import Size
from gefa.core.treat.curves import PERFECT, Curve, through, warped
from gefa.core.treat.encode import encode, encode_with_fewest_colours, too_large_for
from gefa.core.treat.formats import FORMATS, Format, typical_of
from gefa.core.treat.nature import Nature
from gefa.core.treat.quality_search import (
    HIGHEST,
    MOST_ENCODES,
    SLACK,
    EncodeResult,
    for_budget,
    for_look,
)
from gefa.core.treat.recipe import Aim, Chroma, Settings
from gefa.core.treat.shown import shown
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.core.treat.score import AlphaReference

PROBE_WIDTH = 480
"""px of the small copy on which searches for larger pictures begin. A fixed width, so that the
result for one width does not depend on the other widths of a ladder"""
PROBED_FROM = 640
"""px of width from which a probe pays for its own encodes"""
TYPICAL_WIDTH = 640
"""px of the pictures that typical curves were measured on"""
FAR = 4
"""steps of quality from a draft from which another draft pays"""
MOST_DRAFTS = 3
LOSSLESS, NEARLY = 100, 40
"""how near files without a quality stay to the picture, of 100. Flat pieces with soft edges weigh
0.89, 0.81 and 0.77 of lossless files at 60, 40 and 20, with mean looks of 97, 96 and 93 and worst
looks of 95, 92 and 78; at quality 90 they weigh more than at 40, and have 85"""


class EncodeSource:
    """A picture to be encoded (8-bit sRGB), and the scores of its files.

    ``still`` is the first frame of an animation. ``nature`` is the kind of picture; flat art is
    tried lossless, too. ``probe`` is the same picture at PROBE_WIDTH, if it is larger.
    """

    def __init__(
        self,
        image: pyvips.Image,
        still: pyvips.Image | None = None,
        *,
        nature: Nature = Nature.PHOTOGRAPH,
        probe: Callable[[], EncodeSource] | None = None,
    ) -> None:
        self.image = image
        self.nature = nature
        self._still = still if still is not None else image
        self._probe = probe if self._still.width >= PROBED_FROM else None
        self._reference: AlphaReference | None = None
        self._lock = threading.Lock()
        self._searches: dict[EncodeRequest, EncodeResult] = {}
        self._drafts: dict[EncodeRequest, Curve] = {}
        self._search_lock = threading.RLock()

    @property
    def pixels(self) -> int:
        return int(self.image.width * self.image.height)

    @property
    def width(self) -> int:
        return int(self._still.width)

    @property
    def size(self) -> Size:
        return Size(self._still.width, self._still.height)

    @cached_property
    def probe(self) -> EncodeSource | None:
        """None for pictures small enough to search on directly."""
        return self._probe() if self._probe is not None else None

    def score(self, data: bytes, format: Format) -> float:
        """The SSIMULACRA2 score of a file, as browsers show the file."""
        return self._scored(shown(data, format))

    def reaches_with_half_colour(self, score: float) -> bool:
        """Whether half the resolution of colour alone still leaves the score. If the probe has it,
        larger pictures do too: the loss shrinks with more pixels."""
        if self.probe is not None and self.probe.reaches_with_half_colour(score):
            return True
        return self._half_colour >= score

    @cached_property
    def _half_colour(self) -> float:
        from gefa.core.treat.score import half_coloured

        return self._scored(half_coloured(self._still))

    def _scored(self, image: pyvips.Image) -> float:
        with self._lock:
            if self._reference is None:
                # Here: fixed qualities do without, and it takes time and memory to load.
                from gefa.core.treat.score import AlphaReference

                self._reference = AlphaReference(self._still)
        return self._reference.score(image)

    # -- what is found out about it, once --------------------------------------------------

    def searched(self, request: EncodeRequest) -> EncodeResult:
        """The result of a search on this picture, cached: a probe is asked for every width, and may
        be one of the widths itself."""
        with self._search_lock:
            if request not in self._searches:
                self._searches[request] = _for_look(self, request)
            return self._searches[request]

    def drafted(self, request: EncodeRequest) -> Curve:
        """The curve of scores of quick drafts of this picture, cached."""
        drafts = replace(request, settings=Settings(chroma=request.settings.chroma), dpi=None)
        with self._search_lock:
            if drafts not in self._drafts:
                self._drafts[drafts] = _drafts(self, drafts)
            return self._drafts[drafts]


@dataclass(frozen=True)
class EncodeRequest:
    """What a file should be."""

    format: Format
    quality: int | Aim | None
    settings: Settings
    dpi: float | None = None


def find(source: EncodeSource, request: EncodeRequest) -> EncodeResult:
    """Find the file, with its quality and score; EncodeError if the encoder refuses."""
    aim = request.quality
    if isinstance(aim, Aim) and aim.look is not None:
        lossy = FORMATS[request.format].lossy
        return source.searched(request) if lossy else _fewest_colours(source, request, aim.look)

    def encoded(quality: int | None) -> bytes:
        return encode(source.image, request.format, quality, request.settings, request.dpi)

    if isinstance(aim, Aim) and aim.max_bytes is not None:
        return for_budget(request.format, aim.max_bytes, encoded, source.pixels)
    assert not isinstance(aim, Aim)
    lossless = not FORMATS[request.format].lossy and request.settings.colours is None
    return EncodeResult(aim, encoded(aim), 1, score=PERFECT if lossless else None)


def _for_look(source: EncodeSource, request: EncodeRequest) -> EncodeResult:
    assert isinstance(request.quality, Aim)
    look = request.quality.look or PERFECT
    settings = with_chroma(source, look, request.format, request.settings)

    def encoded(quality: int | None) -> bytes:
        return encode(source.image, request.format, quality, settings, request.dpi)

    def score(data: bytes) -> float:
        return source.score(data, request.format)

    # Flat art is often lighter without loss or nearly without: two encodes are kept to try that.
    flat = FORMATS[request.format].lossless_too and source.nature is not Nature.PHOTOGRAPH
    start = _start(source, request)
    found = for_look(request.format, look, encoded, score, start, MOST_ENCODES - 2 * flat)
    if not flat:
        return found

    def nearly(near: int) -> bytes:
        told = replace(settings, near=near)
        return encode(source.image, request.format, None, told, request.dpi)

    return _or_nearly_lossless(found, request.format, look, nearly, score)


def _start(source: EncodeSource, request: EncodeRequest) -> Curve:
    """The curve of scores that a search starts with: that of drafts plus what the effort gains, or
    the probe's, moved to this width, or a typical one."""
    typical = typical_of(request.format)
    if typical.draft is not None and _effort(request) > typical.draft.effort:
        return source.drafted(request).moved(typical.draft.gain_at(source.width))
    if source.probe is None:
        return typical.scores.moved(typical.drift * log2(source.width / TYPICAL_WIDTH))
    known = source.probe.searched(request).curve or typical.scores
    return known.moved(_drift(source, source.probe, request))


def _drafts(source: EncodeSource, request: EncodeRequest) -> Curve:
    """Score a few drafts near the look, starting where the probe's were. They cost a fraction of a
    file and save most second tries."""
    typical = typical_of(request.format)
    assert typical.draft is not None
    gain = typical.draft.gain_at(source.width)
    start = typical.scores.moved(-gain)
    if source.probe is not None:
        start = source.probe.drafted(request).moved(_drift(source, source.probe, request))
    assert isinstance(request.quality, Aim)
    look = request.quality.look or PERFECT
    settings = replace(
        with_chroma(source, look, request.format, request.settings), effort=typical.draft.effort
    )

    def score(quality: int) -> float:
        data = encode(source.image, request.format, quality, settings, request.dpi)
        return source.score(data, request.format)

    return tried_near(request.format, look, start, gain, MOST_DRAFTS, score)


def tried_near(
    format: Format, look: float, start: Curve, gain: float, most: int, score: Callable[[int], float]
) -> Curve:
    """The curve ``start``, bent through up to ``most`` tries near the look; ``score`` makes a file
    at a quality and scores it. If these are drafts, files of the usual effort ``gain`` so much."""
    typical = typical_of(format)
    wanted = warped(min(PERFECT, look + SLACK / 2)) - gain
    curve = start
    tries: list[tuple[int, float]] = []
    for _ in range(most):
        quality = max(typical.lowest, min(HIGHEST, round(curve.quality(wanted))))
        if any(abs(quality - tried) < FAR for tried, _ in tries):
            break
        tries.append((quality, warped(score(quality))))
        curve = through(start, tries)
    return curve


def _effort(request: EncodeRequest) -> int:
    effort = request.settings.effort
    return FORMATS[request.format].effort() if effort is None else effort


def _drift(source: EncodeSource, probe: EncodeSource, request: EncodeRequest) -> float:
    """The difference of the warped score between the probe and the source's width: the usual one,
    corrected by AVIF drafts if this picture is unusual."""
    typical = typical_of(request.format)
    doublings = log2(source.width / probe.width)
    drift = typical.drift * doublings
    if typical.follows and not too_large_for(Format.AVIF, source.size):
        usual = typical_of(Format.AVIF).drift * doublings
        drift += typical.follows * (_draft_drift(source, probe, request) - usual)
    return drift


def _draft_drift(source: EncodeSource, probe: EncodeSource, request: EncodeRequest) -> float:
    """The same for AVIF drafts, with default settings: a file in one format must not depend on what
    the recipe says of another."""
    assert isinstance(request.quality, Aim)
    settings = Settings(chroma=request.settings.chroma)
    drafts = EncodeRequest(Format.AVIF, request.quality, settings)
    known = probe.drafted(drafts)
    quality = known.quality(warped(request.quality.look or PERFECT))
    return source.drafted(drafts).value(quality) - known.value(quality)


def _fewest_colours(source: EncodeSource, request: EncodeRequest, look: float) -> EncodeResult:
    """A PNG with a palette that reaches the look; lossless if none does, or if lossless
    is lighter."""
    tries: list[float] = []

    def good(data: bytes) -> bool:
        tries.append(source.score(data, request.format))
        return tries[-1] >= look

    settings = replace(request.settings, colours=None)
    plain = encode(source.image, request.format, None, settings, request.dpi)
    fewer = encode_with_fewest_colours(source.image, good, request.settings, request.dpi)
    encodes = len(tries) + 1
    if fewer is None or len(plain) <= len(fewer):
        limit = "" if fewer else f"no palette reaches look {look:g}; the PNG has all its colours"
        return EncodeResult(None, plain, encodes, score=PERFECT, limit=limit)
    return EncodeResult(None, fewer, encodes, score=min(s for s in tries if s >= look))


def with_chroma(source: EncodeSource, look: float, format: Format, settings: Settings) -> Settings:
    """Settings with the chroma decided: full colour only if half colour would take more than its
    share of the allowed loss. Encoders themselves choose by quality alone, or not at all."""
    if settings.chroma is not Chroma.AUTO:
        return settings
    facts = FORMATS[format]
    share = typical_of(format).colour_share
    if source.reaches_with_half_colour(PERFECT - share * (PERFECT - look)):
        return replace(settings, chroma=Chroma.HALF)
    return replace(settings, chroma=Chroma.FULL) if facts.chooses_chroma else settings


def _or_nearly_lossless(
    found: EncodeResult,
    format: Format,
    look: float,
    nearly: Callable[[int], bytes],
    score: Callable[[bytes], float],
) -> EncodeResult:
    """The lighter of the lossless and nearly lossless files, if it is lighter than the lossy one,
    or if the lossy one misses the look."""
    best, reached = nearly(LOSSLESS), PERFECT
    lighter = nearly(NEARLY)
    if len(lighter) < len(best) and (looks := score(lighter)) >= look:
        best, reached = lighter, looks
    encodes = found.encodes + 2
    if not found.short and len(best) >= len(found.data):
        return replace(found, encodes=encodes)
    label = FORMATS[format].label
    how = "without loss" if reached == PERFECT else "nearly without loss"
    limit = (
        f"{label} {how} weighs {weight(len(best))}; at quality {found.quality} it weighs"
        f" {weight(len(found.data))} and has {found.score or 0:.1f}"
    )
    return replace(
        found,
        quality=None,
        data=best,
        encodes=encodes,
        score=reached,
        limit=limit,
        short=False,
    )

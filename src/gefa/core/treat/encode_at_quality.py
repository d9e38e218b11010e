"""One variant's file, at a given quality or at one that is searched for."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from math import log2
from typing import TYPE_CHECKING

import pyvips

from gefa.core.treat.curves import PERFECT, Curve
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import FORMATS, Format, typical_of
from gefa.core.treat.nature import Nature
from gefa.core.treat.quality_search import MOST_ENCODES, EncodeResult, for_budget, for_look
from gefa.core.treat.recipe import Aim, Chroma, Settings
from gefa.core.treat.shown import shown
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.core.treat.score import AlphaReference

PROBE_WIDTH = 480
"""px of the smaller copy of a picture on which searches for larger ones begin. A fixed width, so
that what is found for a width does not depend on which others a ladder has"""
PROBED_FROM = 2 * PROBE_WIDTH
"""px of width from which that pays: a probe costs a few encodes of its own"""
FINE_COLOUR = 90.0
"""the score from which halving the resolution of colours is no loss worth looking at; it only gets
better with more pixels"""
COLOUR_SHARE = 0.5
"""of what a look allows to be lost, how much coarse colour may take alone"""


class EncodeSource:
    """A picture as it is to be encoded (8-bit sRGB), and how much like it a file looks.

    ``still`` is its first frame where it moves. ``nature`` is what kind of picture it is; flat art
    is tried without loss, too. ``probe`` gives the same picture at PROBE_WIDTH, if it is larger.
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
        self._search_lock = threading.RLock()

    @property
    def pixels(self) -> int:
        return int(self.image.width * self.image.height)

    @cached_property
    def probe(self) -> EncodeSource | None:
        """None for pictures that are small enough to be searched at once."""
        return self._probe() if self._probe is not None else None

    def score(self, data: bytes, format: Format) -> float:
        """Of a file's bytes as browsers show them, SSIMULACRA2."""
        return self._scored(shown(data, format))

    @cached_property
    def half_colour(self) -> float:
        """The score of the picture with nothing lost but half the resolution of its colours."""
        if self.probe is not None and self.probe.half_colour >= FINE_COLOUR:
            return self.probe.half_colour
        from gefa.core.treat.score import half_coloured

        return self._scored(half_coloured(self._still))

    def _scored(self, image: pyvips.Image) -> float:
        with self._lock:
            if self._reference is None:
                # Here: fixed qualities do without, and it takes time and memory to load.
                from gefa.core.treat.score import AlphaReference

                self._reference = AlphaReference(self._still)
        return self._reference.score(image)

    # -- where searches begin --------------------------------------------------------------

    def start_for_look(self, request: EncodeRequest) -> Curve:
        """The curve of scores that a search starts from: what the probe needed, moved to this
        width, or what is typical."""
        typical = typical_of(request.format)
        if self.probe is None:
            return typical.scores
        found = self.probe.searched(request).curve or typical.scores
        return found.moved(typical.drift * log2(self._still.width / self.probe.image.width))

    def searched(self, request: EncodeRequest) -> EncodeResult:
        """What a search finds on this picture, remembered: a probe is asked for every width, and
        may be one of them itself."""
        with self._search_lock:
            if request not in self._searches:
                self._searches[request] = _for_look(self, request)
            return self._searches[request]


@dataclass(frozen=True)
class EncodeRequest:
    """What a file is to be."""

    format: Format
    quality: int | Aim | None
    settings: Settings
    dpi: float | None = None


def find(source: EncodeSource, request: EncodeRequest) -> EncodeResult:
    """The file, with what is known of it; EncodeError if the encoder refuses."""
    aim = request.quality
    if isinstance(aim, Aim) and aim.look is not None:
        return source.searched(request)

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
    settings = _with_chroma(source, look, request)

    def encoded(quality: int | None) -> bytes:
        return encode(source.image, request.format, quality, settings, request.dpi)

    def score(data: bytes) -> float:
        return source.score(data, request.format)

    # Flat art is often lighter without loss, and one encode is kept to try that.
    flat = FORMATS[request.format].lossless_too and source.nature is not Nature.PHOTOGRAPH
    start = source.start_for_look(request)
    found = for_look(request.format, look, encoded, score, start, MOST_ENCODES - int(flat))
    return _or_lossless(found, request.format, encoded) if flat else found


def _with_chroma(source: EncodeSource, look: float, request: EncodeRequest) -> Settings:
    """Settings that leave the choice open, with it made: full colour where half of it would take
    more than its share of what may be lost. Encoders choose by quality alone, and jump at 90."""
    settings = request.settings
    if settings.chroma is not Chroma.AUTO or not FORMATS[request.format].chooses_chroma:
        return settings
    too_coarse = PERFECT - source.half_colour > COLOUR_SHARE * (PERFECT - look)
    return replace(settings, chroma=Chroma.FULL if too_coarse else Chroma.HALF)


def _or_lossless(
    found: EncodeResult, format: Format, encoded: Callable[[int | None], bytes]
) -> EncodeResult:
    """The file without loss, where that is lighter, or where the format does not reach the look
    with loss."""
    data = encoded(None)
    if not found.short and len(data) >= len(found.data):
        return replace(found, encodes=found.encodes + 1)
    label = FORMATS[format].label
    limit = (
        f"{label} without loss weighs {weight(len(data))}; at quality {found.quality} it weighs"
        f" {weight(len(found.data))} and has {found.score or 0:.1f}"
    )
    return replace(
        found,
        quality=None,
        data=data,
        encodes=found.encodes + 1,
        score=PERFECT,
        limit=limit,
        short=False,
    )

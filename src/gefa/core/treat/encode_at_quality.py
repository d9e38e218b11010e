"""One variant's file, at a given quality or at one that is searched for."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import pyvips

from gefa.core.pixels import to_srgb
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.nature import Nature, PictureNature, nature_of
from gefa.core.treat.quality_search import MOST_ENCODES, EncodeResult, for_budget, for_look
from gefa.core.treat.recipe import Aim, Chroma, Settings
from gefa.core.treat.typical_curves import PERFECT, Curve
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.core.treat.score import AlphaReference


class EncodeSource:
    """A picture as it is to be encoded (8-bit sRGB), and how much like it a file looks. ``still``
    is its first frame where it moves, ``smaller`` the same picture at a smaller size."""

    def __init__(
        self,
        image: pyvips.Image,
        still: pyvips.Image | None = None,
        smaller: EncodeSource | None = None,
    ) -> None:
        self.image = image
        self._look = smaller.look_if_known if smaller is not None else None
        known = smaller is not None and smaller.image.width <= image.width
        self._smaller = smaller.half_colour_if_known if smaller is not None and known else None
        self._still = still if still is not None else image
        self._reference: AlphaReference | None = None
        self._lock = threading.Lock()

    def score(self, data: bytes) -> float:
        """Of a file's bytes, SSIMULACRA2."""
        return self._scored(decoded(data))

    @cached_property
    def look(self) -> PictureNature:
        """What kind of picture it is, judged at the first of its sizes."""
        return self._look or nature_of(self._still)

    @cached_property
    def half_colour(self) -> float:
        """The score of the picture with nothing lost but half the resolution of its colours."""
        if self._smaller is not None and self._smaller >= FINE_COLOUR:
            return self._smaller  # larger, it only gets better
        from gefa.core.treat.score import half_coloured

        return self._scored(half_coloured(self._still))

    @property
    def look_if_known(self) -> PictureNature | None:
        return self.__dict__.get("look")

    @property
    def half_colour_if_known(self) -> float | None:
        return self.__dict__.get("half_colour")

    def _scored(self, image: pyvips.Image) -> float:
        with self._lock:
            if self._reference is None:
                # Here: fixed qualities do without, and it takes time and memory to load.
                from gefa.core.treat.score import AlphaReference

                self._reference = AlphaReference(self._still)
        return self._reference.score(image)


FINE_COLOUR = 90.0
COLOUR_SHARE = 0.5
"""of what a look allows to be lost, that coarse colour alone may take"""


@dataclass(frozen=True)
class EncodeRequest:
    """What a file is to be. ``curve`` is what to start a search from, if one for its neighbour
    found that out."""

    format: Format
    quality: int | Aim | None
    settings: Settings
    dpi: float | None = None
    curve: Curve | None = None


def _with_chroma(looked: EncodeSource, look: float, format: Format, settings: Settings) -> Settings:
    """Settings that leave the choice open, with it made: full colour where half of it would take
    more than its share of what may be lost. Encoders choose by quality alone, and jump at 90."""
    if settings.chroma is not Chroma.AUTO or format not in (Format.AVIF, Format.JPEG):
        return settings
    too_coarse = PERFECT - looked.half_colour > COLOUR_SHARE * (PERFECT - look)
    return replace(settings, chroma=Chroma.FULL if too_coarse else Chroma.HALF)


def decoded(data: bytes) -> pyvips.Image:
    """A file's bytes as 8-bit sRGB."""
    return to_srgb(pyvips.Image.new_from_buffer(data, ""))


def find(looked: EncodeSource, wish: EncodeRequest) -> EncodeResult:
    """The file, with what is known of it; EncodeError if the encoder refuses."""

    aim = wish.quality
    settings = wish.settings
    if isinstance(aim, Aim) and aim.look is not None:
        settings = _with_chroma(looked, aim.look, wish.format, settings)

    def encoded(quality: int | None) -> bytes:
        return encode(looked.image, wish.format, quality, settings, wish.dpi)

    if isinstance(aim, Aim) and aim.look is not None:
        if wish.format is not Format.WEBP or looked.look.nature is Nature.PHOTOGRAPH:
            return for_look(wish.format, aim.look, encoded, looked.score, wish.curve)
        most = MOST_ENCODES - 1
        found = for_look(wish.format, aim.look, encoded, looked.score, wish.curve, most)
        return _or_lossless(found, encoded)
    if isinstance(aim, Aim) and aim.max_bytes is not None:
        return for_budget(wish.format, aim.max_bytes, encoded, wish.curve)
    assert not isinstance(aim, Aim)
    lossless = wish.format is Format.PNG and wish.settings.colours is None
    return EncodeResult(aim, encoded(aim), 1, score=PERFECT if lossless else None)


def _or_lossless(found: EncodeResult, encoded: Callable[[int | None], bytes]) -> EncodeResult:
    """WebP without loss, where that is lighter, as it often is for flat art, or where WebP with
    its halved colour does not reach the look."""
    data = encoded(None)
    if not found.short and len(data) >= len(found.data):
        return replace(found, encodes=found.encodes + 1)
    limit = (
        f"WebP without loss weighs {weight(len(data))}; at quality {found.quality} it weighs"
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

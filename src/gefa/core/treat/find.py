"""One variant's file, at a given quality or at one that is searched for."""

from __future__ import annotations

from dataclasses import dataclass

import pyvips

from gefa.core.pixels import to_srgb
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Aim, Settings
from gefa.core.treat.score import PERFECT, AlphaReference
from gefa.core.treat.search import Found, for_budget, for_look


class Looked:
    """A picture as it is to be encoded (8-bit sRGB), and how much like it a file looks. ``still``
    is its first frame where it moves."""

    def __init__(self, image: pyvips.Image, still: pyvips.Image | None = None) -> None:
        self.image = image
        self._still = still if still is not None else image
        self._reference: AlphaReference | None = None

    def score(self, data: bytes) -> float:
        """Of a file's bytes, SSIMULACRA2."""
        if self._reference is None:
            self._reference = AlphaReference(self._still)
        return self._reference.score(decoded(data))


@dataclass(frozen=True)
class Wish:
    """What a file is to be: ``off`` is how far the picture is from the typical one, if a search
    for its neighbour found that out."""

    format: Format
    quality: int | Aim | None
    settings: Settings
    dpi: float | None = None
    off: float = 0.0


def decoded(data: bytes) -> pyvips.Image:
    """A file's bytes as 8-bit sRGB."""
    return to_srgb(pyvips.Image.new_from_buffer(data, ""))


def find(looked: Looked, wish: Wish) -> Found:
    """The file, with what is known of it; EncodeError if the encoder refuses."""

    def encoded(quality: int | None) -> bytes:
        return encode(looked.image, wish.format, quality, wish.settings, wish.dpi)

    aim = wish.quality
    if isinstance(aim, Aim) and aim.look is not None:
        return for_look(wish.format, aim.look, encoded, looked.score, wish.off)
    if isinstance(aim, Aim) and aim.max_bytes is not None:
        return for_budget(wish.format, aim.max_bytes, encoded, wish.off)
    assert not isinstance(aim, Aim)
    lossless = wish.format is Format.PNG and wish.settings.colours is None
    return Found(aim, encoded(aim), 1, 0.0, score=PERFECT if lossless else None)

"""What is known of files that were made, and of the pixels that they were made from."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

from gefa.core.geometry import Rect
from gefa.core.pixels import AlphaKind
from gefa.core.treat.nature import Nature


class MadeVariant(BaseModel):
    """A variant that was made, without its bytes.

    ``quality`` is the encoder's number, ``score`` the SSIMULACRA2 if measured. ``limit`` names what
    stopped the search, and ``short`` says that the look was not reached. A variant over its budget
    (``fits`` false) keeps no bytes and has no ``sha256``. ``untouched`` says that this is the
    picture's own file, without metadata. ``gzip`` is the size in bytes in which a server sends a
    text file; 0 for other files.
    """

    model_config = ConfigDict(frozen=True)

    sha256: str
    bytes: int
    quality: int | None = None
    score: float | None = None
    limit: str = ""
    short: bool = False
    fits: bool = True
    untouched: bool = False
    gzip: int = 0

    @property
    def sent(self) -> int:
        """Bytes that a visitor loads."""
        return self.gzip or self.bytes


class CutFacts(BaseModel):
    """Facts measured once for a cut's pixels.

    ``crop`` is the recipe's crop (px within the cut, None for all), ``alpha`` the kind of
    transparency, ``baseline_bytes`` what savings compare with, ``nature`` the kind of picture,
    ``colours`` their number; ``edge`` is the mean colour of soft edges as ``#rrggbb``, empty
    without any. ``growth`` is the rough weight by width (px), if widths are chosen by weight.
    """

    model_config = ConfigDict(frozen=True)

    crop: Rect | None
    alpha: AlphaKind
    baseline_bytes: int
    nature: Nature
    colours: int
    edge: str
    growth: tuple[tuple[int, int], ...] = ()

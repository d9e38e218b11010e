"""Facts about files that were made, and the shelf that keeps them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

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


class VariantShelf(Protocol):
    """A store of single variants."""

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        """Keep a variant, completely or not at all; without bytes, only its record."""

    def note(self, key: str, made: MadeVariant) -> None:
        """Update the record of a variant whose look was measured."""

    def load(self, key: str) -> bytes | None:
        """The bytes of a variant; None if they are gone."""


class Shelf(VariantShelf, Protocol):
    """A store of everything made, by key. Records may outlive their bytes."""

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        """Records of variants made before."""

    def facts(self, key: str) -> CutFacts | None:
        """The facts kept under ``key``."""

    def put_facts(self, key: str, facts: CutFacts) -> None:
        """Keep facts under ``key``."""

    def place(self, key: str, path: str) -> bool:
        """Put the bytes of a variant at ``path`` too, where people find them; False if the bytes
        are gone. TakenPath if somebody else's file lies there."""

    def is_new(self, key: str) -> bool:
        """Whether this job made the variant, rather than found it."""

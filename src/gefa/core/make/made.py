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

    ``quality`` is the encoder's, ``score`` SSIMULACRA2 if it was measured. ``limit`` names what
    kept the encoder from what was asked for, and ``short`` tells that it looks worse than that. One
    that does not fit its budget (``fits`` false) has no bytes that are kept, and no ``sha256``.
    ``untouched`` tells that it is the picture's own file, without metadata. ``gzip`` is what a
    server sends of a text file, in bytes; 0 of all that is sent as it is.
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
    """What is measured of a cut's pixels once.

    ``crop`` is what its recipe takes of it (px within the cut, None for all), ``alpha`` its
    transparency, ``baseline_bytes`` what savings are measured against, ``nature`` what kind of
    picture it is, with so many ``colours``; ``edge`` is the mean colour of its soft edges as
    ``#rrggbb``, empty without such. ``growth`` is how heavy it roughly is by width (px), measured
    where widths are chosen by weight.
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
    """Where single variants are put and found again."""

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        """Keep a variant, whole or not at all; without bytes only what is known of it."""

    def note(self, key: str, made: MadeVariant) -> None:
        """Keep what is known now of a variant that was made: its look was measured."""

    def load(self, key: str) -> bytes | None:
        """The bytes of a variant; None if they are gone."""


class Shelf(VariantShelf, Protocol):
    """A place for what is made, by key. What is known of a thing may outlive its bytes."""

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        """What is known of variants made before."""

    def facts(self, key: str) -> CutFacts | None:
        """Measurements kept under ``key``."""

    def put_facts(self, key: str, facts: CutFacts) -> None:
        """Keep measurements under ``key``."""

    def place(self, key: str, path: str) -> bool:
        """Have the bytes of a variant also at ``path``, where a person finds them; False if they
        are gone."""

    def is_new(self, key: str) -> bool:
        """Whether a variant was made by this job, and not found."""

"""A shelf keeps what was made, under the keys of what it was made from."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from gefa.core.treat.made import CutFacts, MadeVariant


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

"""A shelf in memory, for files that are only measured."""

from __future__ import annotations

from collections.abc import Iterable

from gefa.core.treat.made import CutFacts, MadeVariant


class MemoryShelf:
    """A shelf in memory, for as long as the object lives."""

    def __init__(self) -> None:
        self._made: dict[str, MadeVariant] = {}
        self._facts: dict[str, CutFacts] = {}
        self._data: dict[str, bytes] = {}

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        return {key: self._made[key] for key in keys if key in self._made}

    def facts(self, key: str) -> CutFacts | None:
        return self._facts.get(key)

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        self._made[key] = made
        if data is not None:
            self._data[key] = data

    def note(self, key: str, made: MadeVariant) -> None:
        self._made[key] = made

    def put_facts(self, key: str, facts: CutFacts) -> None:
        self._facts[key] = facts

    def load(self, key: str) -> bytes | None:
        return self._data.get(key)

    def place(self, key: str, path: str) -> bool:
        return key in self._data

    def is_new(self, key: str) -> bool:
        return True

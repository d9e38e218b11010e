"""A shelf in memory."""

from __future__ import annotations

import hashlib
from typing import Any

from gefa.core.deliver.shelf import Stored


class MemoryShelf:
    """Keeps what is made in ``data`` by path."""

    def __init__(self) -> None:
        self.data: dict[str, bytes] = {}
        self.keys: dict[str, str] = {}
        self.facts: dict[str, dict[str, Any]] = {}

    def recall(self, key: str, path: str) -> Stored | None:
        known = self.keys.get(key)
        if known is None:
            return None
        self.data[path] = self.data[known]
        return self._stored(path, reused=True)

    def keep(self, key: str, path: str, data: bytes) -> Stored:
        self.data[path] = data
        self.keys[key] = path
        return self._stored(path, reused=False)

    def _stored(self, path: str, *, reused: bool) -> Stored:
        data = self.data[path]
        return Stored(sha256=hashlib.sha256(data).hexdigest(), bytes=len(data), reused=reused)

    def recall_facts(self, key: str) -> dict[str, Any] | None:
        return self.facts.get(key)

    def keep_facts(self, key: str, facts: dict[str, Any]) -> None:
        self.facts[key] = facts

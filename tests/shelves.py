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
        self.measured: dict[str, dict[str, Any]] = {}
        self.facts: dict[str, dict[str, Any]] = {}

    def recall(self, key: str, path: str) -> Stored | None:
        known = self.keys.get(key)
        if known is None:
            return None
        self.data[path] = self.data[known]
        self.measured[path] = self.measured[known]
        return self._stored(path, reused=True)

    def keep(
        self,
        key: str,
        path: str,
        data: bytes,
        *,
        quality: int | None = None,
        score: float | None = None,
    ) -> Stored:
        self.data[path] = data
        self.measured[path] = {"quality": quality, "score": score}
        self.keys[key] = path
        return self._stored(path, reused=False)

    def _stored(self, path: str, *, reused: bool) -> Stored:
        data = self.data[path]
        digest = hashlib.sha256(data).hexdigest()
        return Stored(sha256=digest, bytes=len(data), reused=reused, **self.measured[path])

    def load(self, stored: Stored, path: str) -> bytes:
        return self.data[path]

    def rate(self, key: str, score: float) -> None:
        self.measured[self.keys[key]]["score"] = score

    def discard(self, path: str) -> None:
        del self.data[path]

    def recall_facts(self, key: str) -> dict[str, Any] | None:
        return self.facts.get(key)

    def keep_facts(self, key: str, facts: dict[str, Any]) -> None:
        self.facts[key] = facts

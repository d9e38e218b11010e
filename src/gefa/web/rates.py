"""Rate limits by address and by key. They are generous: they stop runaway loops and guessing."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

from cachetools import LRUCache

REMEMBERED = 20_000
"""addresses and keys; who has not asked for longest is forgotten first"""


@dataclass(frozen=True)
class Rate:
    """``count`` in ``seconds``, all at once if need be."""

    count: int
    seconds: float = 60.0


CHANGES = Rate(1_200)
"""requests of an address that change something; a folder of thousands comes as one"""
API = Rate(3_000)
"""requests of a key"""
WRONG_KEYS = Rate(60)
"""of an address"""
TRIES_BY_NAME = Rate(10, 600.0)
"""to sign in; who knows the passphrase gets the try back"""
TRIES_BY_ADDRESS = Rate(30, 600.0)
"""an office may share one address"""


class Rates:
    """Counts for each name by a bucket that fills steadily (token bucket)."""

    def __init__(self, rate: Rate) -> None:
        self._rate = rate
        self._left: LRUCache[str, tuple[float, float]] = LRUCache(REMEMBERED)

    def wait(self, name: str) -> float:
        """Take one; seconds to wait if there is none, else 0."""
        wait = self.look(name)
        if wait == 0:
            left, now = self._now(name)
            self._left[name] = (left - 1, now)
        return wait

    def give_back(self, name: str) -> None:
        """Put one back that need not have counted."""
        left, now = self._now(name)
        self._left[name] = (min(float(self._rate.count), left + 1), now)

    def look(self, name: str) -> float:
        """Seconds to wait until there is one, without taking it."""
        left, _ = self._now(name)
        return 0.0 if left >= 1 else (1 - left) * self._rate.seconds / self._rate.count

    def _now(self, name: str) -> tuple[float, float]:
        now = time.monotonic()
        left, since = self._left.get(name, (float(self._rate.count), now))
        grown = left + (now - since) * self._rate.count / self._rate.seconds
        return min(float(self._rate.count), grown), now


class Tries:
    """Tries to sign in, counted for each name and each address. Threads may share it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._by_name, self._by_address = Rates(TRIES_BY_NAME), Rates(TRIES_BY_ADDRESS)

    def wait(self, name: str, address: str) -> float:
        """Count one; seconds to wait if there were too many."""
        with self._lock:
            return max(self._by_address.wait(address), self._by_name.wait(name))

    def give_back(self, name: str, address: str) -> None:
        """Give one back: the guess was right."""
        with self._lock:
            self._by_name.give_back(name)
            self._by_address.give_back(address)

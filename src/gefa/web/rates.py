"""Rate limits by address and by key. They are generous: they stop runaway loops and guessing."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass
from ipaddress import ip_address, ip_network

from cachetools import LRUCache

REMEMBERED = 20_000
"""addresses and keys; those silent for longest are forgotten first"""


@dataclass(frozen=True)
class Rate:
    """``count`` in ``seconds``, if need be all at once."""

    count: int
    seconds: float = 60.0


CHANGES = Rate(1_200)
"""changes from one address; a folder of thousands comes as one request"""
API = Rate(3_000)
"""requests of one key"""
WRONG_KEYS = Rate(60)
"""from one address"""
TRIES_BY_NAME = Rate(10, 600.0)
"""attempts to sign in; a correct passphrase gives its attempt back"""
TRIES_BY_ADDRESS = Rate(30, 600.0)
"""an office may share one address"""


class Rates:
    """Counts by name, with a bucket that refills steadily (token bucket)."""

    def __init__(self, rate: Rate) -> None:
        self._rate = rate
        self._left: LRUCache[str, tuple[float, float]] = LRUCache(REMEMBERED)

    def wait(self, name: str) -> float:
        """Take one; returns the seconds to wait if there is none, else 0."""
        wait = self.look(name)
        if wait == 0:
            left, now = self._now(name)
            self._left[name] = (left - 1, now)
        return wait

    def give_back(self, name: str) -> None:
        """Return one that should not count."""
        left, now = self._now(name)
        self._left[name] = (min(float(self._rate.count), left + 1), now)

    def look(self, name: str) -> float:
        """The seconds to wait until there is one, without taking it."""
        left, _ = self._now(name)
        return 0.0 if left >= 1 else (1 - left) * self._rate.seconds / self._rate.count

    def _now(self, name: str) -> tuple[float, float]:
        now = time.monotonic()
        left, since = self._left.get(name, (float(self._rate.count), now))
        grown = left + (now - since) * self._rate.count / self._rate.seconds
        return min(float(self._rate.count), grown), now


class Tries:
    """Attempts to sign in, counted for each name and each address. Thread-safe."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._by_name, self._by_address = Rates(TRIES_BY_NAME), Rates(TRIES_BY_ADDRESS)

    def wait(self, name: str, address: str) -> float:
        """Count one; returns the seconds to wait if there were too many."""
        with self._lock:
            return max(self._by_address.wait(_counted(address)), self._by_name.wait(name))

    def give_back(self, name: str, address: str) -> None:
        """Return one: the passphrase was correct."""
        with self._lock:
            self._by_name.give_back(name)
            self._by_address.give_back(_counted(address))


def _counted(address: str) -> str:
    """What counts as one address: of IPv6 the first 64 bits, since every connection has all the
    others to choose from (RFC 6177)."""
    try:
        found = ip_address(address.partition("%")[0])
    except ValueError:
        return address
    if found.version == 6 and found.ipv4_mapped is None:
        return str(ip_network((int(found) >> 64 << 64, 64)))
    return str(found.ipv4_mapped or found) if found.version == 6 else str(found)

"""How much of the machine a server gives to those who ask for it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """Bytes: ``source_bytes`` of one file that is brought in. ``local_webhooks`` lets addresses
    inside the machine and its network be told of uploads."""

    source_bytes: int = 4_000_000_000
    local_webhooks: bool = False

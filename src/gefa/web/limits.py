"""How much memory, disk and time a server gives to requests."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """Bytes: ``source_bytes`` of one file that is brought in, ``keep_free`` on the disk that
    nothing new may use: what was accepted needs it. ``local_webhooks`` lets addresses
    inside the machine and its network be told of uploads; ``metrics_key`` opens /metrics to
    others than this machine."""

    source_bytes: int = 4_000_000_000
    keep_free: int = 500_000_000
    local_webhooks: bool = False
    metrics_key: str = ""

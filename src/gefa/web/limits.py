"""How much memory, disk and time a server gives to requests."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """Limits of the server.

    ``source_bytes`` is the largest file to bring in, ``keep_free`` the bytes on the disk that
    nothing new may use, since accepted work needs them. ``local_webhooks`` allows notices to
    addresses inside the machine and its network; ``metrics_key`` opens /metrics to other machines.
    """

    source_bytes: int = 4_000_000_000
    keep_free: int = 500_000_000
    local_webhooks: bool = False
    metrics_key: str = ""

"""Several things measured at once: libvips, zlib and NumPy let other threads run meanwhile."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import TypeVar

from gefa.core.errors import SourceError

T = TypeVar("T")


def cores() -> int:
    """The number of cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def on_all_cores(measure: Callable[[T], object], things: Iterable[T]) -> None:
    """Call ``measure`` for each of ``things``; a SourceError costs only that one."""

    def quietly(thing: T) -> None:
        with suppress(SourceError):
            measure(thing)

    with ThreadPoolExecutor(cores()) as pool:
        for _ in pool.map(quietly, things):
            pass

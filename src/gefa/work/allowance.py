"""How much computing and memory a task may take.

Seconds are those that its process computes, not those that pass: a machine that is busy with other
things, or stopped for a while, makes no picture look hostile.
"""

from __future__ import annotations

import os
import signal
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from gefa.core.make.job import CutJob

READING_SECONDS = 60.0
"""to read a picture: the largest design we expect takes 5"""
BYTES_SECONDS = 2.0
"""for each MB of a file, whose size nobody can fake: designs have hundreds of layers in them"""
SOURCE_SECONDS = 2.0
"""for each megapixel of the source"""
MOVING_SECONDS = 3_000.0
"""for animations: hundreds of frames"""
MADE_SECONDS = 20.0
"""for each megapixel of a made file: AVIF takes about one, a search for a look six times that, and
a machine may be three times slower"""
OTHER_SECONDS = 600.0
"""for pictures for the screens, whose size is limited anyway"""
SHARE = 0.75
"""of the machine's memory for all pixel processes together"""
LEAST_MEMORY, MOST_MEMORY = 1_500_000_000, 6_000_000_000
"""bytes for one process: 100 megapixels take about 0.3 GB, libraries and the threads' stacks 0.6"""


@contextmanager
def computing(seconds: float) -> Iterator[None]:
    """End this process by SIGPROF after so many seconds of CPU time in the block."""
    signal.signal(signal.SIGPROF, signal.SIG_DFL)
    signal.setitimer(signal.ITIMER_PROF, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)


def allow(seconds: float) -> None:
    """Allow the current work so many more seconds of CPU time, if it is limited."""
    if signal.getitimer(signal.ITIMER_PROF)[0]:
        signal.setitimer(signal.ITIMER_PROF, seconds)


def reading_seconds(size: int) -> float:
    """Seconds to read a file of ``size`` bytes."""
    return READING_SECONDS + BYTES_SECONDS * size / 1e6


def making_seconds(jobs: Iterable[CutJob]) -> float:
    """Seconds to make the files of jobs whose picture was read."""
    seconds = READING_SECONDS
    for job in jobs:
        made = sum(variant.size.megapixels for variant in job.variants)
        seconds += SOURCE_SECONDS * job.extent.size.megapixels + MADE_SECONDS * made
        seconds += MOVING_SECONDS * any(variant.moves for variant in job.variants)
    return seconds


def memory_for(processes: int) -> int:
    """Bytes that each of so many processes may use on this machine."""
    return int(max(LEAST_MEMORY, min(MOST_MEMORY, SHARE * machine_memory() / max(1, processes))))


def machine_memory() -> int:
    """Memory of the machine, or of this process's share of it (cgroup v2), in bytes."""
    whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    try:
        given = Path("/sys/fs/cgroup/memory.max").read_text().strip()
    except OSError:
        return whole
    return min(whole, int(given)) if given.isdecimal() else whole

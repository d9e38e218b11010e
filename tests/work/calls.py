"""What the tests of the pool have its processes do: in a module that loads nothing else, since each
process that is started loads it."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

from gefa.core.errors import SourceError
from gefa.work.allowance import computing


def double(number: int) -> int:
    return 2 * number


def crash(marker: Path, times: int) -> str:
    """Kill this process the first ``times`` times it is called."""
    marker.write_text(marker.read_text() + "x" if marker.exists() else "x")
    if len(marker.read_text()) <= times:
        os.kill(os.getpid(), signal.SIGSEGV)
    return "survived"


def end_from_outside(marker: Path, times: int) -> str:
    """Somebody kills this process the first ``times`` times it is called."""
    marker.write_text(marker.read_text() + "x" if marker.exists() else "x")
    if len(marker.read_text()) <= times:
        os.kill(os.getpid(), signal.SIGKILL)
    return "survived"


def compute(seconds: float) -> None:
    with computing(seconds):
        while True:
            pass


def hold(megabytes: int) -> int:
    return len(bytearray(megabytes * 1_000_000))


def sleep(seconds: float) -> None:
    time.sleep(seconds)


def complain() -> None:
    raise SourceError("is broken.", file="x.png", advice="Mend it.")


def process_id() -> int:
    return os.getpid()


def end(code: int) -> None:
    os._exit(code)

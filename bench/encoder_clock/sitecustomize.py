"""Loaded by every Python that starts with this folder on its path. In processes for pixels it
measures the CPU time of the encoders alone, and writes each sum to a file of the process."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

FOLDER = os.environ.get("GEFA_ENCODER_CLOCK", "")


def _measured(encoder: Callable[..., bytes], file: Path) -> Callable[..., bytes]:
    spent = 0.0

    def encode(*args: object) -> bytes:
        nonlocal spent
        started = time.process_time()
        data = encoder(*args)
        spent += time.process_time() - started
        file.write_text(str(spent))
        return data

    return encode


def _measure() -> None:
    from gefa.core.treat import encode

    for format, encoder in encode._ENCODERS.items():
        file = Path(FOLDER, f"{os.getpid()}-{format.value}")
        encode._ENCODERS[format] = _measured(encoder, file)


if FOLDER and any("multiprocessing.spawn" in argument for argument in sys.orig_argv):
    _measure()

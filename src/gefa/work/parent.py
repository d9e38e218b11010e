"""Ends a process when the process that started it has ended."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable

_LOOK_SECONDS = 0.5
"""how long a process may outlive its parent"""


def when_gone(parent: int, then: Callable[[], None]) -> None:
    """Call ``then`` in a thread once the process ``parent`` is no longer this one's parent.

    The parent passes its own number, since it could be gone by the time this process asks. The
    system's own signal for this fires when the *thread* ends that started the process.
    """

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(_LOOK_SECONDS)
        then()

    threading.Thread(target=look, daemon=True).start()

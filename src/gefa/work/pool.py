"""Processes that do the work with pixels. One that crashes costs the call it was busy with."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
from collections.abc import Callable
from concurrent.futures import TimeoutError as FutureTimeout
from concurrent.futures import wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from importlib import import_module
from typing import Any

from pebble import ProcessExpired, ProcessFuture, ProcessPool

from gefa.core.errors import GefaError
from gefa.work.parent import when_gone

TRIES = 2
"""how often a call is made before a crash is put down to its picture"""
CALL_SECONDS = 900.0
"""a call that takes longer is taken for one that hangs"""
YIELDING = 10
"""niceness: about a tenth of the weight of a process that does not yield"""
_LOOK_SECONDS = 1.0
"""how long a broken pool may go unnoticed by a call that waits"""


class Crashed(GefaError):
    """The process working on something died, or took too long, as often as it may."""


@dataclass(frozen=True, slots=True)
class Call:
    """Something asked of a pool."""

    function: Callable[..., Any]
    args: tuple[Any, ...]
    future: ProcessFuture
    processes: ProcessPool

    def result(self) -> Any:
        """What came of it. Raises BrokenProcessPool also where the processes broke in the moment of
        the call: the pool itself then tells nobody."""
        while not wait([self.future], _LOOK_SECONDS).done:
            if not self.processes.active and not wait([self.future], _LOOK_SECONDS).done:
                raise BrokenProcessPool("the processes broke before they were asked")
        return self.future.result()


class Pool:
    """``workers`` processes, each with one thread for pixels. ``yielding`` ones take what time
    others leave: a server's visitors come before its batches."""

    def __init__(
        self, workers: int, seconds: float = CALL_SECONDS, *, yielding: bool = False
    ) -> None:
        # Read by libvips when the processes start: one thread each, together as many as cores.
        os.environ.setdefault("VIPS_CONCURRENCY", "1")
        self.workers = workers
        self._seconds = seconds
        self._niceness = YIELDING if yielding else 0
        self._lock = threading.Lock()
        self._closed = False
        self._pool = self._new()

    def _new(self) -> ProcessPool:
        return ProcessPool(
            max_workers=self.workers,
            initializer=_prepare_process,
            initargs=(os.getpid(), self._niceness),
            context=multiprocessing.get_context("spawn"),
        )

    def start(self, module: str) -> None:
        """Let the processes start up, and load what their calls need, while the caller does
        something else."""
        for _ in range(self.workers):
            self.submit(import_module, module)

    def submit(self, function: Callable[..., Any], *args: Any) -> Call:
        with self._lock:
            if self._closed:
                raise Crashed("the processes were stopped.", advice="Start it again.")
            if not self._pool.active:
                # It breaks for good when a process is killed that was busy with nothing.
                self._pool.stop()
                self._pool = self._new()
            future = self._pool.schedule(function, args=args, timeout=self._seconds)
            return Call(function, args, future, self._pool)

    def outcome(self, call: Call) -> Any:
        """The call's result. A crash is tried again; raises Crashed when tries are used up, and
        whatever the function itself raised."""
        for attempt in range(TRIES):
            try:
                return call.result()
            except (ProcessExpired, BrokenProcessPool, FutureTimeout) as error:
                reason = _in_words(error, self._seconds)
            if attempt + 1 < TRIES:
                call = self.submit(call.function, *call.args)
        raise Crashed(
            f"{reason}, {TRIES} times.", advice="The picture may be damaged; save it anew."
        )

    def call(self, function: Callable[..., Any], *args: Any) -> Any:
        """Call ``function`` in a process and wait; as ``outcome``."""
        return self.outcome(self.submit(function, *args))

    def close(self, *, wait: bool = True) -> None:
        """End the processes, once all calls are done or, without ``wait``, at once."""
        with self._lock:
            self._closed = not wait
        if wait:
            self._pool.close()
        else:
            self._pool.stop()
        self._pool.join()

    def __enter__(self) -> Pool:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self.close(wait=kind is None)


def _in_words(error: Exception, seconds: float) -> str:
    if isinstance(error, ProcessExpired):
        code = error.exitcode or 0
        how = f"by signal {signal.Signals(-code).name}" if code < 0 else f"with exit code {code}"
        return f"the process working on it ended {how}"
    if isinstance(error, BrokenProcessPool):
        return "the processes were ended from outside"
    return f"it took longer than {seconds:.0f} s"


def _prepare_process(parent: int, niceness: int) -> None:
    """End with the parent, leave Ctrl-C to it, and keep libvips small and strict."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    when_gone(parent, lambda: os._exit(1))
    os.nice(niceness)
    import pyvips

    # Operations are cached by file name, and files change: never remember any.
    pyvips.cache_set_max(0)
    pyvips.operation_block_set("VipsForeignLoad", True)
    for loader in ("Png", "Jpeg", "Webp", "Heif", "Nsgif", "Tiff", "Svg"):
        pyvips.operation_block_set(f"VipsForeignLoad{loader}", False)

"""A pool of encoding processes. One that crashes costs only the call it was busy with."""

from __future__ import annotations

import atexit
import logging
import multiprocessing
import os
import resource
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import TimeoutError as FutureTimeout
from concurrent.futures import wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing import forkserver
from pathlib import Path
from typing import Any

from pebble import ProcessExpired, ProcessFuture, ProcessPool

from gefa.core.errors import GefaError

TRIES = 2
"""how often a call may kill its process before its picture gets the blame"""
CALL_SECONDS = 3600.0
"""after which a call counts as hung: computing is ended far earlier, by its allowance
(``gefa.work.allowance``)"""
FROM_OUTSIDE = frozenset({signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP})
"""signals from operators and the kernel; no decoder ends its process with one"""
UNSEEN = 255
"""the exit code that multiprocessing gives to a process if its fork server ended before it: nobody
saw how it ended"""
UNSEEN_TRIES = 20
"""how often that is taken as an end from outside; a picture could end its process with this code"""
AGAIN_SECONDS = 0.2
"""before a call is repeated whose process was killed from outside; doubled up to 5 s"""
_LOOK_SECONDS = 1.0
"""how long a waiting call may overlook a broken pool"""
_END_SECONDS = 1.0
"""how long a process waits for its fork server when it ends"""

log = logging.getLogger("gefa.pool")
_SIMPLER = "Simplify it or save a smaller copy, and bring it in again."


class Crashed(GefaError):
    """The call killed its process too often, or took too long."""


@dataclass(frozen=True, slots=True)
class Call:
    """A call to a pool."""

    function: Callable[..., Any]
    args: tuple[Any, ...]
    future: ProcessFuture
    processes: ProcessPool

    def result(self) -> Any:
        """The result of the call. Raises BrokenProcessPool also if the processes died at the moment
        of the call: the pool itself then notifies nobody."""
        while not wait([self.future], _LOOK_SECONDS).done:
            if not self.processes.active and not wait([self.future], _LOOK_SECONDS).done:
                raise BrokenProcessPool("the processes broke before they were asked")
        return self.future.result()


class Pool:
    """``workers`` processes, each with one thread for pixels, and at most ``memory`` bytes, 0 for
    no limit. With a ``niceness`` (0 to 19) they use the time that others leave.

    They are copies of one process, the fork server, which has loaded ``module`` when it starts:
    each begins within 20 ms, and shares the memory of the libraries. All pools of a process have
    the same one, so the first pool chooses.
    """

    def __init__(
        self,
        workers: int,
        seconds: float = CALL_SECONDS,
        *,
        module: str = "gefa.folder.export_calls",
        niceness: int = 0,
        memory: int = 0,
    ) -> None:
        # Read by libvips when the fork server starts: one thread each, together as many as cores.
        os.environ.setdefault("VIPS_CONCURRENCY", "1")
        os.environ.setdefault("RAYON_NUM_THREADS", "1")  # of oxipng
        self.workers = workers
        self._seconds = seconds
        self._memory = memory
        self._niceness = niceness
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["__main__", module])
        self._lock = threading.Lock()
        self._closed = False
        self._pool = self._new()

    def _new(self) -> ProcessPool:
        return ProcessPool(
            max_workers=self.workers,
            initializer=_prepare_process,
            initargs=(self._niceness, self._memory),
            context=self._context,
        )

    def start(self) -> None:
        """Start the processes while the caller does other things."""
        for _ in range(self.workers):
            self.submit(os.getpid)

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
        """The call's result. A call whose process was killed from outside is repeated, however
        often; one that killed its process itself, once. Raises Crashed when that is used up or the
        call took too long, and any exception of the function."""
        crashes = ends = unseen = 0
        out_of_memory = _killed_for_memory()
        while True:
            try:
                return call.result()
            except FutureTimeout:
                reason = f"it took longer than {self._seconds:.0f} s."
                raise Crashed(reason, advice=_SIMPLER) from None
            except BrokenProcessPool:
                log.warning("the processes broke; %s is called again", call.function.__name__)
            except ProcessExpired as error:
                code = error.exitcode or 0
                if code == -signal.SIGPROF:
                    raise Crashed(
                        "it needs more computing time than one picture may use.", advice=_SIMPLER
                    ) from None
                # The kernel kills the largest process where memory runs out: likely this one.
                starved = code == -signal.SIGKILL and _killed_for_memory() > out_of_memory
                unseen += code == UNSEEN
                spared = code == UNSEEN and unseen <= UNSEEN_TRIES
                if starved or not (spared or -code in FROM_OUTSIDE):
                    crashes += 1
                    out_of_memory = _killed_for_memory()
                if crashes == TRIES:
                    raise Crashed(
                        f"the process working on it ended {_how(code)}, {TRIES} times.",
                        advice="The picture may be damaged, or need more memory than there is; save"
                        " it again.",
                    ) from None
            time.sleep(min(5.0, AGAIN_SECONDS * 2**ends))
            ends = min(ends + 1, 8)
            call = self.submit(call.function, *call.args)

    def call(self, function: Callable[..., Any], *args: Any) -> Any:
        """Call ``function`` in a process and wait; see ``outcome``."""
        return self.outcome(self.submit(function, *args))

    def close(self, *, wait: bool = True) -> None:
        """End the processes, after all calls or, without ``wait``, at once."""
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


def _how(code: int) -> str:
    return f"by signal {signal.Signals(-code).name}" if code < 0 else f"with exit code {code}"


def _killed_for_memory() -> int:
    """How many processes the kernel has killed since it started because memory ran out."""
    try:
        lines = Path("/proc/vmstat").read_text().splitlines()
    except OSError:
        return 0
    return next((int(line.split()[1]) for line in lines if line.startswith("oom_kill ")), 0)


def _prepare_process(niceness: int, memory: int) -> None:
    """End with the process of the pool, leave Ctrl-C to it, and limit libvips."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.nice(niceness)
    if memory:
        # What it holds of its own, not what it maps of files. Decoders then fail, or end the
        # process, before the machine has no memory left for others.
        resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    import pyvips

    # Operations are cached by file name, and files change: never remember any.
    pyvips.cache_set_max(0)
    pyvips.operation_block_set("VipsForeignLoad", True)
    for loader in ("Png", "Jpeg", "Webp", "Heif", "Nsgif", "Tiff", "Svg"):
        pyvips.operation_block_set(f"VipsForeignLoad{loader}", False)


def _end_with_parent() -> None:
    """The process of the pool counts as the parent, not the fork server."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


@atexit.register
def _end_fork_server() -> None:
    """Wait for the fork server of this process, so that its computing counts as computing of this
    process, and nothing outlives a command. The module has no public function for that."""
    server = vars(forkserver._forkserver)
    pid, alive = server["_forkserver_pid"], server["_forkserver_alive_fd"]
    if pid is None:
        return
    deadline = time.monotonic() + _END_SECONDS
    with suppress(OSError):
        os.close(alive)  # it ends when nobody holds this any more
        while not os.waitpid(pid, os.WNOHANG)[0] and time.monotonic() < deadline:
            time.sleep(0.01)

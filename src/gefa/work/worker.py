"""``gefa worker``: takes tasks from the queue and does them in processes of its own."""

from __future__ import annotations

import logging
import os
import signal
import threading
import time
from functools import partial
from pathlib import Path

from huey.consumer import Consumer

from gefa.core.errors import GefaError, SourceError
from gefa.core.files import lacks_room
from gefa.store.contracts import ANY, BELOW_UPLOADS, BY_PEOPLE, UPLOADS
from gefa.work.allowance import memory_for
from gefa.work.parent import when_gone
from gefa.work.perform import perform
from gefa.work.pool import Pool
from gefa.work.queue import Outcome, TaskMessage, WorkQueue, beat

OF_UPLOADS, OF_PEOPLE, OF_BATCHES = 3, 10, 12
"""niceness: the web process has 0; of two on one core, 3 gets 88 % beside 12, and 83 % beside 10
(the kernel's weights: 526, 70, 110). With 19 a batch would stand still on a busy machine."""
BEAT_SECONDS = 2.0
"""a fifteenth of STALE_SECONDS: several beats may be late before a worker counts as dead"""
FULL_SECONDS = 5.0
"""between two checks for free space on a full disk"""
_GRACE_SECONDS = 5.0
"""to put tasks back before a worker without a server ends itself"""
_ANSWER_WAITS = (0.2, 1.0, 5.0, 20.0)
"""seconds before an answer is written again"""
log = logging.getLogger("gefa.worker")


class Worker:
    """Does as many tasks at once as there are ``processes``, and two more: an upload, and a task
    that people at a screen wait for.

    The system's scheduler gives an upload nearly all cores while it is being made, so that neither
    a batch nor a slow picture delays it. Its process does nothing else: drawings of strangers may
    take long. Uploads that come while it is busy are made by the others, too. A worker started by a
    server ends when that ``server`` (a process number) is gone.
    """

    def __init__(self, folder: Path, processes: int, server: int | None = None) -> None:
        if server is not None:
            when_gone(server, _end)
        self._folder = folder
        memory = memory_for(processes + 2)
        pool = partial(Pool, module="gefa.work.perform", memory=memory)
        self._pool = pool(processes, niceness=OF_BATCHES)
        self._upload_pool = pool(1, niceness=OF_UPLOADS)
        self._people_pool = pool(1, niceness=OF_PEOPLE)
        self._makes_upload = False
        self._queue = WorkQueue(folder, partial(self._handle, self._pool), self._wanted)
        self._uploads = WorkQueue(folder, self._make_upload, lambda: UPLOADS)
        self._people = WorkQueue(
            folder, partial(self._handle, self._people_pool), lambda: BY_PEOPLE
        )
        self._held: set[str] = set()
        self._ending = False
        self._lock = threading.Lock()
        self._consumer = _consumer(self._queue, processes)
        self._more_consumers = [_consumer(queue, 1) for queue in (self._uploads, self._people)]

    def run(self) -> None:
        """Work until stopped; returns after all tasks are put back."""
        for pool in self._pools:
            pool.start()
        threading.Thread(target=self._keep_beating, daemon=True).start()
        try:
            for consumer in self._more_consumers:
                consumer.start()
            self._consumer.run()
        finally:
            self._ending = True
            for consumer in self._more_consumers:
                consumer.stop()
            for pool in self._pools:
                pool.close(wait=False)
            for queue in (self._queue, self._uploads, self._people):
                queue.close()

    @property
    def _pools(self) -> tuple[Pool, ...]:
        return self._pool, self._upload_pool, self._people_pool

    def _wanted(self) -> tuple[int, int]:
        """Priorities of tasks that the batch processes take: uploads only while the process that is
        kept for them is busy."""
        return ANY if self._makes_upload else BELOW_UPLOADS

    def _make_upload(self, task: TaskMessage) -> None:
        self._makes_upload = True
        try:
            self._handle(self._upload_pool, task)
        finally:
            self._makes_upload = False

    def _handle(self, pool: Pool, task: TaskMessage) -> None:
        """Do a task. Whatever goes wrong with the queue, the job is not held for ever: without a
        lease it is sent again."""
        with self._lock:
            self._held.add(task.job)
        try:
            self._queue.hold(task.job, beat())
            outcome = self._outcome(pool, task)
            # What was broken off because this worker ends is not answered, so it is sent again.
            if not self._ending:
                self._answer(outcome)
        finally:
            with self._lock:
                self._held.discard(task.job)

    def _answer(self, outcome: Outcome) -> None:
        """Write the result: try for a while before it is lost because the queue cannot
        be written."""
        for wait in _ANSWER_WAITS:
            try:
                self._queue.answer(outcome)
                return
            except Exception:
                log.exception("the outcome of %s cannot be put down; trying again", outcome.job)
                time.sleep(wait)
        self._queue.answer(outcome)

    def _outcome(self, pool: Pool, task: TaskMessage) -> Outcome:
        """The outcome of a task; a full disk only makes it wait."""
        while True:
            try:
                threads = self._threads(pool)
                report = pool.call(perform, self._folder, task.job, task.kind, task.body, threads)
                return Outcome(job=task.job, report=report)
            except SourceError as error:
                return Outcome(job=task.job, problem=str(error), refused=True)
            except GefaError as error:
                return Outcome(job=task.job, problem=str(error))
            except Exception as error:  # whatever it is, it must not be lost with the task
                if not lacks_room(error) or self._ending:
                    log.exception("task %s", task.job)
                    return Outcome(job=task.job, problem=f"{type(error).__name__}: {error}")
            log.warning("the disk is full; what was accepted goes on once there is room")
            time.sleep(FULL_SECONDS)

    def _threads(self, pool: Pool) -> int:
        """How many encoders a task may run at once: all cores if it is the only task, or an
        upload."""
        if pool is self._upload_pool:
            return self._pool.workers
        with self._lock:
            return max(1, self._pool.workers // max(1, len(self._held)))

    def _keep_beating(self) -> None:
        waiting = threading.Event()
        self._show_life()
        while not waiting.wait(BEAT_SECONDS):
            self._show_life()
            with self._lock:
                held = list(self._held)
            for job in held:
                self._beat(job)

    def _show_life(self) -> None:
        try:
            self._queue.show_life(sum(pool.workers for pool in self._pools))
        except Exception:
            log.exception("the queue cannot be told that this worker is there; trying again")

    def _beat(self, job: str) -> None:
        try:
            self._queue.hold(job, beat())
        except Exception:  # a queue that fails once must not make this worker look dead for ever
            log.exception("no beat for %s; trying again", job)


def _consumer(queue: WorkQueue, workers: int) -> Consumer:
    return Consumer(
        queue.huey,
        workers=workers,
        periodic=False,
        initial_delay=0.05,
        backoff=1.3,
        max_delay=0.08,
    )


def _end() -> None:
    log.warning("the server is gone; ending")
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(_GRACE_SECONDS)
    os._exit(1)

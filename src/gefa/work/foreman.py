"""Keeps the database and the queue in step: sends jobs, takes in outcomes, notices lost ones.

It runs as a thread of the server and is the only one who writes what became of a job. After a
crash of anything it finds each unfinished job either waiting, held by a living worker, or lost,
and sends the lost ones again.
"""

from __future__ import annotations

import logging
import threading
import time

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from gefa.store.models import Task, TaskState
from gefa.store.store import Store
from gefa.work.queue import Lease, Outcome, TaskMessage, WorkQueue, alive
from gefa.work.settle import settle

MAX_SENT = 10
"""how often a job may be lost with its worker before it is given up"""
LOOK_SECONDS = 1.0
STALE_SECONDS = 30.0
"""after which a worker that shows no beat is taken for dead"""
UNSEEN_SECONDS = 3.0
"""how long a job may be neither waiting nor held: between being taken and being held"""
log = logging.getLogger("gefa.foreman")


class Foreman:
    """Start it once per data folder; ``wake`` it when jobs were added."""

    def __init__(self, store: Store, queue: WorkQueue) -> None:
        self._store = store
        self._queue = queue
        self._stop = threading.Event()
        self._woken = threading.Event()
        self._beats: dict[str, tuple[int, float]] = {}
        self._unseen: dict[str, float] = {}
        self._looked = 0.0
        self._thread = threading.Thread(target=self._loop, name="foreman", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._woken.set()
        self._thread.join(timeout=10)

    def wake(self) -> None:
        self._woken.set()

    def _loop(self) -> None:
        while not self._stop.is_set():
            try:
                busy = self.turn()
            except Exception:
                log.exception("the foreman's turn failed; trying again")
                busy = False
                self._stop.wait(1)
            self._woken.wait(0.03 if busy else 0.1)
            self._woken.clear()

    def turn(self) -> bool:
        """One round: outcomes, new jobs, lost jobs. True if there was something to do."""
        taken = self._take_outcomes()
        sent = self._send_new()
        if time.monotonic() - self._looked > LOOK_SECONDS:
            self._looked = time.monotonic()
            self._find_lost()
        return taken or sent

    def _take_outcomes(self) -> bool:
        any_taken = False
        while not self._stop.is_set() and (outcome := self._queue.next_outcome()):
            any_taken = True
            self._take(outcome)
        return any_taken

    def _take(self, outcome: Outcome) -> None:
        with self._store.changing() as session:
            job = session.get(Task, outcome.job)
            if job is not None and job.state is TaskState.QUEUED:
                settle(session, job, outcome)
        self._queue.forget(outcome.job)
        self._beats.pop(outcome.job, None)
        self._unseen.pop(outcome.job, None)

    def _send_new(self) -> bool:
        with self._store.session() as session:
            new = session.exec(_open_jobs().where(Task.sent == 0)).all()
            for job in new:
                self._send(session, job)
        return bool(new)

    def _send(self, session: Session, job: Task) -> None:
        # Counted before it is sent: a crash in between looks like a lost job, and is one.
        job.sent += 1
        session.add(job)
        session.commit()
        self._queue.send(TaskMessage(job=job.id, kind=job.kind.value, body=job.task))
        self._unseen.pop(job.id, None)

    def _find_lost(self) -> None:
        with self._store.session() as session:
            sent = session.exec(_open_jobs().where(Task.sent > 0)).all()
            if not sent:
                return
            waiting = self._queue.waiting()
            for job in sent:
                if job.id not in waiting and self._is_lost(job.id):
                    self._send_again(session, job)

    def _is_lost(self, job: str) -> bool:
        lease = self._queue.lease(job)
        if lease is not None:
            self._unseen.pop(job, None)
            # A process of that number may be another by now, so it has to show its beat, too.
            return alive(lease) is False or self._is_stale(job, lease)
        since = self._unseen.setdefault(job, time.monotonic())
        return time.monotonic() - since > UNSEEN_SECONDS

    def _is_stale(self, job: str, lease: Lease) -> bool:
        beat, since = self._beats.get(job, (lease.beat, time.monotonic()))
        if beat != lease.beat:
            since = time.monotonic()
        self._beats[job] = (lease.beat, since)
        return time.monotonic() - since > STALE_SECONDS

    def _send_again(self, session: Session, job: Task) -> None:
        self._queue.forget(job.id)
        self._beats.pop(job.id, None)
        if job.sent >= MAX_SENT:
            problem = f"the worker that had it ended {job.sent} times without an answer."
            settle(session, job, Outcome(job=job.id, problem=problem))
            return
        log.warning("job %s was lost with its worker; sending it again", job.id)
        self._send(session, job)


def _open_jobs() -> SelectOfScalar[Task]:
    return (
        select(Task)
        .where(Task.state == TaskState.QUEUED)
        .order_by(col(Task.created), col(Task.position))
    )

"""The foreman keeps database and queue in step: sends tasks, takes outcomes in, finds lost tasks.

It runs as a thread of the server and is the only one who writes what became of a job. After a
crash of anything it finds each unfinished job either waiting, held by a living worker, or lost,
and sends the lost ones again.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from sqlmodel import Session, col, func, select

from gefa.core.files import lacks_room
from gefa.store.contracts import priority_of
from gefa.store.models import Task, TaskState
from gefa.store.store import Store
from gefa.work.queue import Lease, Outcome, TaskMessage, WorkQueue, alive
from gefa.work.settlers import settle

LOOK_SECONDS = 2.0
"""between two checks for lost jobs"""
STALE_SECONDS = 30.0
"""after which a worker without a beat counts as dead"""
UNSEEN_SECONDS = 3.0
"""for which a job may be neither waiting nor leased: between being taken and being leased"""
LIST_SECONDS = 600.0
"""between two full readings of the queue while the numbers match; an obsolete message may hide for
this long that another is missing"""
FULL_SECONDS = 5.0
"""between two checks for free space on a full disk"""
MAX_TRIES = 6
RETRY_SECONDS = 0.5
"""before an outcome is written again; doubled each time, which gives a full disk half a minute"""
BUSY_SECONDS, IDLE_SECONDS, QUIET_SECONDS = 0.03, 0.15, 0.6
"""between two turns: people at a screen do not notice the first two"""
QUIET_AFTER = 20.0
"""seconds without tasks or outcomes, after which turns are rare"""
SENT_AT_ONCE = 200
"""so that outcomes are written between the jobs of a large batch"""
_OF_SOURCE = (col(Task.run_id), col(Task.source_id))
_IN_TURN = (
    col(Task.created),
    func.max(col(Task.cost)).over(partition_by=_OF_SOURCE).desc(),
    *_OF_SOURCE,
    col(Task.cost).desc(),
    col(Task.position),
)
"""of a run, the source with the largest job first, so that no long job is left for one core at the
end; its jobs follow each other, so that it is opened once"""
log = logging.getLogger("gefa.foreman")


_SENT = (Task.state == TaskState.QUEUED, col(Task.sent) > 0)


@dataclass(frozen=True, slots=True)
class _Trouble:
    """An outcome that could not be written so many times; tried again when ``due``."""

    tries: int
    due: float
    problem: str


class Foreman:
    """Start one per data folder; ``wake`` it after adding jobs."""

    def __init__(self, store: Store, queue: WorkQueue) -> None:
        self._store = store
        self._queue = queue
        self.on_settled: list[Callable[[str, str], None]] = []
        """called with the kind of each job that was written down, and whether it is done"""
        self._stop = threading.Event()
        self._woken = threading.Event()
        self._beats: dict[str, tuple[int, float]] = {}
        self._unseen: dict[str, float] = {}
        self._troubles: dict[str, _Trouble] = {}
        self._looked = self._listed = self._busy = 0.0
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
            woken = self._woken.is_set()
            self._woken.clear()
            try:
                busy = self.turn(woken=woken)
            except Exception:
                log.exception("the foreman's turn failed; trying again")
                busy = False
                self._stop.wait(1)
            self._woken.wait(self._pause(busy=busy or woken))

    def _pause(self, *, busy: bool) -> float:
        """Seconds until the next turn."""
        now = time.monotonic()
        if busy:
            self._busy = now
            return BUSY_SECONDS
        return IDLE_SECONDS if now - self._busy < QUIET_AFTER else QUIET_SECONDS

    def turn(self, *, woken: bool = True) -> bool:
        """One round: outcomes, new jobs, lost jobs. True if there was any of these."""
        taken = self._take_outcomes()
        sent = False
        if woken or taken or time.monotonic() - self._looked > LOOK_SECONDS:
            sent = self._send_new()
        if time.monotonic() - self._looked > LOOK_SECONDS:
            self._looked = time.monotonic()
            self._find_lost()
        return taken or sent

    # -- outcomes ------------------------------------------------------------------------

    def _take_outcomes(self) -> bool:
        taken = False
        for name, outcome in self._queue.outcomes().items():
            if self._stop.is_set():
                break
            trouble = self._troubles.get(name)
            if trouble is not None and time.monotonic() < trouble.due:
                continue
            taken = True
            if self._take(name, outcome):
                self._queue.drop(name)
                if not outcome.more:
                    self._forget(outcome.job)
        return taken

    def _take(self, name: str, outcome: Outcome) -> bool:
        """Write an outcome; returns whether that is settled. One that cannot be written is tried
        again, and finally fails its job, so that nothing behind it waits for ever."""
        tries = self._troubles[name].tries if name in self._troubles else 0
        if tries >= MAX_TRIES:
            outcome = Outcome(job=outcome.job, problem=self._troubles[name].problem)
        try:
            self._settle(outcome)
        except Exception as error:
            if lacks_room(error):
                log.warning("the disk is full; outcomes are written down once there is room")
                self._troubles[name] = _Trouble(tries, time.monotonic() + FULL_SECONDS, "")
                return False
            log.exception("job %s could not be written down, try %d", outcome.job, tries + 1)
            problem = f"what came of it cannot be written down: {type(error).__name__}: {error}."
            wait = RETRY_SECONDS * 2 ** min(tries, MAX_TRIES)
            self._troubles[name] = _Trouble(tries + 1, time.monotonic() + wait, problem)
            return False
        self._troubles.pop(name, None)
        return True

    def _settle(self, outcome: Outcome) -> None:
        with self._store.changing() as session:
            job = session.get(Task, outcome.job)
            if job is None or job.state is not TaskState.QUEUED:
                return
            settle(session, job, outcome)
            kind = job.kind.value
        if not outcome.more:
            for call in self.on_settled:
                call(kind, "done" if outcome.report is not None else "failed")

    def _forget(self, job: str) -> None:
        self._queue.forget(job)
        self._beats.pop(job, None)
        self._unseen.pop(job, None)

    # -- new jobs ------------------------------------------------------------------------

    def _send_new(self) -> bool:
        with self._store.session() as session:
            new = session.exec(
                select(Task)
                .where(Task.state == TaskState.QUEUED, Task.sent == 0)
                .order_by(*_IN_TURN)
                .limit(SENT_AT_ONCE)
            ).all()
            if new:
                self._send(session, new)
        return bool(new)

    def _send(self, session: Session, jobs: Sequence[Task]) -> None:
        # Counted before they are sent: a crash in between looks like lost jobs, and those are.
        for job in jobs:
            job.sent += 1
            session.add(job)
        session.commit()
        for job in jobs:
            message = TaskMessage(job=job.id, kind=job.kind.value, body=job.task)
            self._queue.send(message, priority_of(job.kind, job.task))
            self._unseen.pop(job.id, None)

    # -- lost jobs -----------------------------------------------------------------------

    def _find_lost(self) -> None:
        leases = self._queue.leases()
        # What was answered and cannot be written yet is not lost.
        answered = {outcome.job for outcome in self._queue.outcomes().values()}
        lost = [
            job
            for job, lease in leases.items()
            if job not in answered and self._has_died(job, lease)
        ]
        with self._store.reading() as session:
            sent = session.exec(select(func.count()).select_from(Task).where(*_SENT)).one()
        due = time.monotonic() - self._listed > LIST_SECONDS
        # With a batch of thousands waiting it is enough to count, most of the time.
        if sent and (due or self._queue.size() + len(leases) < sent):
            lost += [job for job in self._vanished(leases) if job not in answered]
        if lost:
            self._send_again(lost)

    def _vanished(self, leases: Mapping[str, Lease]) -> list[str]:
        """Jobs that are neither leased nor queued. Reads all messages of the queue."""
        self._listed = time.monotonic()
        with self._store.reading() as session:
            sent = session.exec(select(Task.id).where(*_SENT)).all()
        waiting = self._queue.waiting()
        missing = [job for job in sent if job not in leases and job not in waiting]
        self._unseen = {job: self._unseen.get(job, self._listed) for job in missing}
        return [job for job in missing if self._listed - self._unseen[job] > UNSEEN_SECONDS]

    def _has_died(self, job: str, lease: Lease) -> bool:
        # A process of that number may be another by now, so it has to show its beat, too.
        return alive(lease) is False or self._is_stale(job, lease)

    def _is_stale(self, job: str, lease: Lease) -> bool:
        beat, since = self._beats.get(job, (lease.beat, time.monotonic()))
        if beat != lease.beat:
            since = time.monotonic()
        self._beats[job] = (lease.beat, since)
        return time.monotonic() - since > STALE_SECONDS

    def _send_again(self, lost: list[str]) -> None:
        for (
            job_id
        ) in lost:  # also of a run that was removed: its lease would be lost again and again
            self._forget(job_id)
        with self._store.session() as session:
            jobs = session.exec(
                select(Task).where(Task.state == TaskState.QUEUED, col(Task.id).in_(lost))
            ).all()
            for job in jobs:
                # Whatever ends a worker comes from outside: pictures are in processes of their own.
                log.warning("job %s was lost with its worker; sending it again", job.id)
            self._send(session, jobs)

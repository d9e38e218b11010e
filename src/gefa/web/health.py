"""Checks that everything the server needs works, in figures and in words."""

from __future__ import annotations

from dataclasses import dataclass

from sqlmodel import func, select

from gefa.core.files import free_bytes
from gefa.core.units import weight
from gefa.store.models import Task, TaskState
from gefa.web.services import Services


@dataclass(frozen=True)
class Check:
    """One thing that must work: ``told`` describes its state, and what to do if it fails."""

    name: str
    ok: bool
    told: str


@dataclass(frozen=True)
class Health:
    """All checks, and the figures behind them. ``free`` bytes on the disk."""

    checks: tuple[Check, ...]
    waiting: int
    working: int
    workers: int
    processes: int
    free: int

    @property
    def ready(self) -> bool:
        return all(check.ok for check in self.checks)


def health_of(given: Services) -> Health:
    """The current state. Reads the database and the queue."""
    database = _database(given)
    waiting = working = workers = processes = 0
    try:
        waiting, working = given.queue.size(), len(given.queue.leases())
        alive = given.queue.workers()
        workers, processes = len(alive), sum(alive)
        queue = Check("Queue", True, f"{waiting:,} waiting, {working:,} running.")
    except Exception as error:
        queue = Check("Queue", False, f"Cannot be read: {error}. See the log.")
    free = free_bytes(given.store.folder)
    checks = (database, queue, _workers(workers, processes), _disk(given, free), _sweep(given))
    return Health(checks, waiting, working, workers, processes, free)


def _database(given: Services) -> Check:
    try:
        with given.store.reading() as session:
            failed = session.exec(
                select(func.count()).select_from(Task).where(Task.state == TaskState.FAILED)
            ).one()
    except Exception as error:
        return Check("Database", False, f"Cannot be read: {error}. See the log.")
    return Check("Database", True, f"Reachable. Failed jobs: {failed:,}.")


def _workers(workers: int, processes: int) -> Check:
    if not workers:
        return Check(
            "Workers", False, "None running. Start one with `gefa worker`, or see the log."
        )
    told = "1 worker" if workers == 1 else f"{workers:,} workers"
    return Check("Workers", True, f"{told}, {processes:,} processes.")


def _disk(given: Services, free: int) -> Check:
    kept = given.limits.keep_free
    if free < kept:
        return Check(
            "Disk",
            False,
            f"{weight(free)} free, less than the reserve of {weight(kept)}: uploads are refused."
            " Free some space, or start with a smaller --keep-free.",
        )
    return Check("Disk", True, f"{weight(free)} free.")


def _sweep(given: Services) -> Check:
    done = given.housekeeper.sweep
    if done.told:
        return Check("Cleanup", False, done.told)
    return Check("Cleanup", True, f"Unused files moved to the trash: {done.taken:,}.")

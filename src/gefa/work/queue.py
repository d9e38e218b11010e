"""The queue between the one who plans and the ones who work.

A task goes in as a Huey message and its outcome comes back through a second queue. In between, a
lease says which process holds the task and that it is still alive. Workers need nothing else but
the blob store.
"""

from __future__ import annotations

import json
import os
import socket
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from huey import PriorityRedisHuey, SqliteHuey
from huey.storage import RedisStorage, SqliteStorage
from pydantic import BaseModel

from gefa.store.places import places

QUEUE_FILE = "queue.sqlite3"
PRIORITIES = {
    "proof": 25,
    "read": 20,
    "show": 15,
    "try": 12,
    "trial": 12,
    "upload": 10,
    "curve": 8,
    "pdf": 5,
    "score": 2,
    "take": 0,
    "cut": 0,
}
"""somebody waits at the screen for a reading, and a visitor for an upload; a batch can wait"""


class TaskMessage(BaseModel):
    """A job for a worker: ``kind`` chooses what to do, ``body`` is all it needs to know."""

    job: str
    kind: str
    body: dict[str, Any]


class Outcome(BaseModel):
    """What became of a task: a report, or the reason there is none.

    ``refused`` means that the file itself is at fault, not the machine.
    """

    job: str
    report: dict[str, Any] | None = None
    problem: str = ""
    refused: bool = False


class Lease(BaseModel):
    """Who holds a task. ``beat`` grows while the holder lives."""

    host: str
    pid: int
    beat: int


def host_id() -> str:
    """This machine since it was started; process ids mean something only within it."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
        space = os.readlink("/proc/self/ns/pid")
    except OSError:
        boot, space = "", ""
    return f"{socket.gethostname()} {boot} {space}"


class WorkQueue:
    """Tasks, outcomes, leases and progress, in Huey's SQLite storage, or in its Redis storage where
    workers run on other machines.

    ``handler`` is called with each task that a consumer of ``huey`` takes in this process.
    """

    def __init__(self, folder: Path, handler: Callable[[TaskMessage], None] | None = None) -> None:
        url = places().queue
        if url:
            self.huey = PriorityRedisHuey("gefa", url=url, results=False)
            self._outcomes = RedisStorage("gefaoutcomes", url=url, blocking=False)
        else:
            file = str(folder / QUEUE_FILE)
            self.huey = SqliteHuey("gefa", filename=file, results=False, fsync=True, timeout=30)
            self._outcomes = SqliteStorage("gefa-outcomes", filename=file, fsync=True, timeout=30)

        def work(text: str) -> None:
            if handler is not None:
                handler(TaskMessage.model_validate_json(text))

        self._work = self.huey.task(name="work")(work)

    # -- the planner's side --------------------------------------------------------------

    def send(self, task: TaskMessage) -> None:
        message = self._work.s(task.model_dump_json())
        message.priority = PRIORITIES.get(task.kind, 0)
        self.huey.enqueue(message)

    def waiting(self) -> set[str]:
        """Ids of the jobs whose tasks nobody has taken yet."""
        return {json.loads(message.args[0])["job"] for message in self.huey.pending()}

    def next_outcome(self) -> Outcome | None:
        message = self._outcomes.dequeue()
        return Outcome.model_validate_json(message) if message else None

    def lease(self, job: str) -> Lease | None:
        held = self._peek(f"lease:{job}")
        return Lease.model_validate_json(held) if held else None

    def progress(self, job: str) -> int:
        """How many files of the job are done."""
        count = self._peek(f"progress:{job}")
        return int(count) if count else 0

    def forget(self, job: str) -> None:
        for key in (f"lease:{job}", f"progress:{job}"):
            self.huey.storage.delete_data(key)

    # -- the worker's side ---------------------------------------------------------------

    def hold(self, job: str, beat: int) -> None:
        lease = Lease(host=host_id(), pid=os.getpid(), beat=beat)
        self.huey.storage.put_data(f"lease:{job}", lease.model_dump_json().encode())

    def answer(self, outcome: Outcome) -> None:
        self._outcomes.enqueue(outcome.model_dump_json().encode())

    def tell(self, job: str, files: int) -> None:
        self.huey.storage.put_data(f"progress:{job}", str(files).encode())

    def _peek(self, key: str) -> bytes | None:
        value = self.huey.storage.peek_data(key)
        return value if isinstance(value, bytes) else None

    def close(self) -> None:
        self.huey.storage.close()
        self._outcomes.close()


def alive(lease: Lease) -> bool | None:
    """Whether the holder lives; None if it is on another machine and cannot be asked."""
    if lease.host != host_id():
        return None
    try:
        os.kill(lease.pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def beat() -> int:
    return time.time_ns() // 1_000_000

"""The queue between the foreman and the workers.

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
from uuid import uuid4

from huey import Huey
from huey.storage import BaseStorage, PriorityRedisStorage, RedisStorage, SqliteStorage
from pydantic import BaseModel

from gefa.store.contracts import ANY
from gefa.store.places import places

ALIVE_MS, FORGOTTEN_MS = 15_000, 3_600_000
"""a worker shows life every few seconds; clocks of machines may differ a little"""
QUEUE_FILE = "queue.sqlite3"


class TaskMessage(BaseModel):
    """A job for a worker: ``kind`` chooses the function, ``body`` is its argument."""

    job: str
    kind: str
    body: dict[str, Any]


class Outcome(BaseModel):
    """The outcome of a task: a report, or the reason why there is none.

    ``refused`` means that the file itself is at fault, not the machine. ``more`` says that the task
    continues: this is what is known so far.
    """

    job: str
    report: dict[str, Any] | None = None
    problem: str = ""
    refused: bool = False
    more: bool = False

    def with_report(self, report: BaseModel) -> Outcome:
        return self.model_copy(update={"report": report.model_dump(mode="json")})


class Lease(BaseModel):
    """The holder of a task. ``beat`` grows while the holder lives."""

    host: str
    pid: int
    beat: int


def host_id() -> str:
    """This machine since its start; process ids only mean something within that."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
        space = os.readlink("/proc/self/ns/pid")
    except OSError:
        boot, space = "", ""
    return f"{socket.gethostname()} {boot} {space}"


class WorkQueue:
    """Tasks, outcomes, leases and progress, in Huey's SQLite storage, or in its Redis storage where
    workers run on other machines.

    An outcome stays until it was written down. ``handler`` is called with each task that a consumer
    of ``huey`` takes in this process: only with those whose priority lies between the two that
    ``wanted`` gives.
    """

    def __init__(
        self,
        folder: Path,
        handler: Callable[[TaskMessage], None] | None = None,
        wanted: Callable[[], tuple[int, int]] = lambda: ANY,
    ) -> None:
        url = places().queue
        if url:
            self.huey = Huey(
                "gefa", storage_class=_RedisByPriority, url=url, wanted=wanted, results=False
            )
        else:
            file = str(folder / QUEUE_FILE)
            self.huey = Huey(
                "gefa", storage_class=_SqliteByPriority, filename=file, wanted=wanted,
                results=False, fsync=True, timeout=30,
            )  # fmt: skip
            # Counting what waits would else read every message, and so would taking by priority.
            index = "CREATE INDEX IF NOT EXISTS gefa_urgent ON task (queue, priority)"
            self.huey.storage.sql(index)
        self._outcomes = _storage("outcomes", folder, url, durable=True)
        self._leases = _storage("leases", folder, url)
        self._progress = _storage("progress", folder, url)
        self._workers = _storage("workers", folder, url)

        def work(text: str) -> None:
            if handler is not None:
                handler(TaskMessage.model_validate_json(text))

        self._work = self.huey.task(name="work")(work)

    # -- the planner's side --------------------------------------------------------------

    def send(self, task: TaskMessage, priority: int = 0) -> None:
        message = self._work.s(task.model_dump_json())
        message.priority = priority
        self.huey.enqueue(message)

    def size(self) -> int:
        """The number of tasks that nobody has taken."""
        return self.huey.pending_count()

    def waiting(self) -> set[str]:
        """Ids of jobs whose tasks nobody has taken. Reads all messages."""
        texts = (message.args[0] for message in self.huey.pending())
        # Bodies are long, and of no interest here.
        return {json.loads(f"{text[: text.index(',')]}}}")["job"] for text in texts}

    def outcomes(self) -> dict[str, Outcome]:
        """Outcomes that are not written down yet, by the name for ``drop``, in order."""
        items = sorted(self._outcomes.result_items().items())
        return {name: Outcome.model_validate_json(value) for name, value in items}

    def drop(self, name: str) -> None:
        """Delete an outcome that was written down."""
        self._outcomes.delete_data(name)

    def leases(self) -> dict[str, Lease]:
        """The leases, by job."""
        return {
            job: Lease.model_validate_json(value)
            for job, value in self._leases.result_items().items()
        }

    def progress(self, job: str) -> int:
        """The number of finished files of the job."""
        count = self._progress.peek_data(job)
        return int(count) if isinstance(count, bytes) else 0

    def all_progress(self) -> dict[str, int]:
        """The number of finished files of each job in work."""
        return {job: int(count) for job, count in self._progress.result_items().items()}

    def workers(self) -> list[int]:
        """The number of processes of each worker that shows life."""
        since = beat() - ALIVE_MS
        found = [json.loads(value) for value in self._workers.result_items().values()]
        return [int(told["processes"]) for told in found if told["beat"] > since]

    def forget(self, job: str) -> None:
        """Delete a job's lease and progress."""
        self._leases.delete_data(job)
        self._progress.delete_data(job)

    # -- the worker's side ---------------------------------------------------------------

    def hold(self, job: str, beat: int) -> None:
        lease = Lease(host=host_id(), pid=os.getpid(), beat=beat)
        self._leases.put_data(job, lease.model_dump_json().encode())

    def show_life(self, processes: int) -> None:
        """Note that this worker is alive; workers that are long gone are deleted."""
        told = json.dumps({"beat": beat(), "processes": processes}).encode()
        self._workers.put_data(f"{host_id()} {os.getpid()}", told)
        for name, value in self._workers.result_items().items():
            if json.loads(value)["beat"] < beat() - FORGOTTEN_MS:
                self._workers.delete_data(name)

    def answer(self, outcome: Outcome) -> None:
        # By the time of answering, so that what is early of a job comes before what is last.
        name = f"{beat():015d} {outcome.job} {uuid4().hex[:8]}"
        self._outcomes.put_data(name, outcome.model_dump_json().encode())

    def tell(self, job: str, files: int) -> None:
        self._progress.put_data(job, str(files).encode())

    def close(self) -> None:
        for storage in (
            self.huey.storage,
            self._outcomes,
            self._leases,
            self._progress,
            self._workers,
        ):
            storage.close()


class _SqliteByPriority(SqliteStorage):
    """Returns only tasks whose priority lies between the two that are ``wanted`` now."""

    def __init__(self, *args: Any, wanted: Callable[[], tuple[int, int]], **more: Any) -> None:
        super().__init__(*args, **more)
        self._wanted = wanted

    def dequeue(self) -> Any:
        wanted = (self.name, *self._wanted())
        where = "FROM task WHERE queue = ? AND priority BETWEEN ? AND ?"
        # Looked for without the lock first: most of the time there is nothing.
        if not self.sql(f"SELECT 1 {where} LIMIT 1", wanted, results=True):
            return None
        with self.db(commit=True) as cursor:
            cursor.execute(f"SELECT id, data {where} ORDER BY priority DESC, id LIMIT 1", wanted)
            found = cursor.fetchone()
            if found is None:
                return None
            cursor.execute("DELETE FROM task WHERE id = ?", (found[0],))
            return found[1] if cursor.rowcount == 1 else None


_TAKE = """
local found = redis.call('ZRANGEBYSCORE', KEYS[1], ARGV[1], ARGV[2], 'LIMIT', 0, 1)
if #found == 0 then return nil end
redis.call('ZREM', KEYS[1], found[1])
return found[1]
"""


class _RedisByPriority(PriorityRedisStorage):
    """The same in Redis, where the highest priority has the lowest score."""

    def __init__(self, *args: Any, wanted: Callable[[], tuple[int, int]], **more: Any) -> None:
        super().__init__(*args, **more)
        self._wanted = wanted

    def dequeue(self) -> Any:
        least, most = self._wanted()
        if (least, most) == ANY:
            return super().dequeue()
        found = self.conn.eval(_TAKE, 1, self.queue_key, -most, -least)
        return found[8:] if found else None


def _storage(name: str, folder: Path, url: str, *, durable: bool = False) -> BaseStorage:
    """A store of values by key. Values that are not ``durable`` may be lost in a power failure: the
    workers they describe are gone then, too."""
    if url:
        return RedisStorage(f"gefa{name}", url=url, blocking=False)
    file = str(folder / QUEUE_FILE)
    return SqliteStorage(f"gefa-{name}", filename=file, fsync=durable, timeout=30)


def alive(lease: Lease) -> bool | None:
    """Whether the holder lives; None if it is on another machine, which cannot be asked."""
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

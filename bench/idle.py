"""What the web process costs while nothing happens, with many tasks waiting for a worker."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from huey.storage import SqliteStorage

from gefa.core.make.prepare import prepare
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.store.contracts import CutBody
from gefa.store.store import Store
from gefa.store.task_rows import enqueue
from gefa.work.queue import QUEUE_FILE, TaskMessage, WorkQueue

TASKS = 10_000
SECONDS = 30.0
SETTLING_SECONDS = 30.0
"""until the server has started, read its queue once, and found that nothing happens"""


@dataclass
class Idle:
    """``share`` of one core, 0..1, over so many seconds."""

    share: float
    seconds: float
    tasks: int


def idle(photo: Path, folder: Path) -> Idle:
    """A server without workers, whose tasks are all in the queue."""
    data = folder / "idle"
    store = Store(data)
    (job,) = prepare(survey(read(photo)), Plan()).jobs
    body = CutBody(blob="b" * 64, name=photo.name, job=job)
    queue = WorkQueue(data)
    # Not flushed to the disk message by message, which would take minutes and is not measured.
    queue.huey.storage = SqliteStorage("gefa", filename=str(data / QUEUE_FILE), fsync=False)
    with store.session() as session:
        for _ in range(TASKS):
            task = enqueue(session, body, sent=1)
            queue.send(TaskMessage(job=task.id, kind=task.kind.value, body=task.task))
    queue.close()
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "gefa", "serve", "--data", str(data), "--workers", "0"]
    server = subprocess.Popen([*command, "--port", str(port)], stdout=subprocess.DEVNULL)
    try:
        time.sleep(SETTLING_SECONDS)
        before = _cpu_seconds(server.pid)
        time.sleep(SECONDS)
        used = _cpu_seconds(server.pid) - before
    finally:
        server.send_signal(signal.SIGINT)
        server.wait()
        store.close()
    return Idle(used / SECONDS, SECONDS, TASKS)


def _cpu_seconds(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text("ascii").rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

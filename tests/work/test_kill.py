"""``kill -9`` in the middle of things, and what is there afterwards. ``make stress`` kills more."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlmodel import func, select

from gefa.store.keys import Right, new_key
from gefa.store.models import Task, TaskState, Upload, Variant
from gefa.store.slots import add_slot
from gefa.store.store import Store
from gefa.work.verify import verify
from tests.conftest import SLOWNESS, Server, eventually, settles, start
from tests.make import L, ora, photo

KILLS = int(os.environ.get("GEFA_KILLS", "10"))
RUNS = max(4, KILLS // 15)


def children(pid: int) -> list[int]:
    """All processes below ``pid``."""
    found = subprocess.run(["ps", "-eo", "pid=,ppid="], capture_output=True, text=True, check=True)
    pairs = [tuple(map(int, line.split())) for line in found.stdout.splitlines()]
    below: list[int] = []
    waiting = [pid]
    while waiting:
        parent = waiting.pop()
        own = [child for child, its in pairs if its == parent]
        below += own
        waiting += own
    return below


def command(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode()
    except OSError:
        return ""


def worker_of(server: Server) -> int:
    def found() -> int | None:
        pids = children(server.process.pid)
        return next((pid for pid in pids if "gefa worker" in command(pid)), None)

    return int(eventually(found, 20))


@pytest.fixture
def server(tmp_path: Path, free_port: Callable[[], int]) -> Iterator[Server]:
    opened = start("serve", tmp_path / "data", free_port(), "--workers", "2")
    yield opened
    opened.stop()


def test_when_only_the_server_is_killed_its_workers_end_by_themselves(server: Server) -> None:
    worker_of(server)
    below = children(server.process.pid)
    os.kill(server.process.pid, signal.SIGKILL)
    server.process.wait()
    eventually(
        lambda: not any("gefa" in command(pid) or "spawn_main" in command(pid) for pid in below), 20
    )


def test_a_stopped_server_leaves_nobody_behind(server: Server) -> None:
    worker_of(server)
    time.sleep(1)
    below = children(server.process.pid)
    server.process.send_signal(signal.SIGTERM)
    assert server.process.wait(timeout=20) == 0
    eventually(
        lambda: not any("gefa" in command(pid) or "spawn_main" in command(pid) for pid in below), 10
    )


class Site:
    """A server that is killed and started again, and those who use it meanwhile."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port = folder, port
        self.url = f"http://127.0.0.1:{port}"
        self.client = httpx.Client(base_url=self.url, timeout=30, follow_redirects=True)
        self.over = threading.Event()
        self.closed = False
        self.uploads: dict[str, str] = {}
        """ids by the key of their request"""
        self.runs: list[str] = []
        self.sources: list[str] = []
        self.trouble: list[str] = []
        self.server = self.started()

    def started(self) -> Server:
        return start("serve", self.folder, self.port, "--workers", "2")

    def ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        """The answer, however often the server is killed over the question."""
        while not self.closed:
            try:
                answer = self.client.request(method, path, **more)
            except httpx.HTTPError:
                time.sleep(0.2)
                continue
            if answer.status_code >= 500 and answer.status_code != 503:
                self.trouble.append(f"{method} {path}: {answer.status_code} {answer.text[:200]}")
            return answer
        raise AssertionError(f"nobody answers {method} {path} any more")

    def upload(self, key: str) -> None:
        """Uploads until it is over, each with a request of its own that is sent till it is taken."""
        number = 0
        while not self.over.is_set():
            number += 1
            request = f"{key}-{number}"
            seed = len(self.uploads) + 1000 * int(key)
            answer = self.ask(
                "POST",
                "/api/v1/slots/wall/uploads",
                files={"file": (f"{request}.jpg", bytes(photo(500, 300, seed).jpegsave_buffer()))},
                headers={"Authorization": f"Bearer {self.key}", "Idempotency-Key": request},
            )
            if answer.status_code in (201, 202):
                self.uploads[request] = answer.json()["id"]
            elif answer.status_code != 503:
                self.trouble.append(answer.text)
            self.over.wait(0.4)

    def bring_in(self, number: int) -> str:
        """A design with two cuts; the id of its source."""
        layers = [L(f"Scene {n} #figure", photo(300, 200, 50 * number + n)) for n in range(2)]
        design = ora(self.folder.parent / f"scenes-{number}.ora", 300, 200, layers)
        sent = self.ask(
            "POST",
            "/sources",
            files={"file": (design.name, design.read_bytes())},
            headers={"Accept": "application/json"},
        )
        return str(sent.json()["results"][0]["source"])

    def is_read(self, source: str) -> bool:
        return 'id="list"' in self.ask("GET", f"/sources/{source}").text

    def run(self) -> None:
        """Runs what was read before, and brings more in to be read, until it is over."""
        read = list(self.sources)
        number = len(read)
        while not self.over.is_set() or read:
            if read:
                started = self.ask("POST", f"/sources/{read.pop()}/runs")
                self.runs.append(started.url.path)
            number += 1
            self.sources.append(self.bring_in(number))
            self.over.wait(2)

    key = ""

    def kill(self, rng: random.Random) -> None:
        """Somebody or something, at random."""
        below = eventually(lambda: children(self.server.process.pid), 20)
        encoders = [pid for pid in below if "spawn_main" in command(pid)]
        workers = [pid for pid in below if "gefa worker" in command(pid)]
        dice = rng.random()
        if dice < 0.15:
            for pid in [self.server.process.pid, *below]:
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
            self.server.process.wait()
            self.server = self.started()
            return
        chosen = rng.choice(workers or below) if dice < 0.4 else rng.choice(encoders or below)
        with suppress(ProcessLookupError):
            os.kill(chosen, signal.SIGKILL)


@pytest.mark.timeout((400 + 8 * KILLS) * SLOWNESS)
def test_random_kills_lose_nothing_double_nothing_and_blame_nobody(
    tmp_path: Path, free_port: Callable[[], int]
) -> None:
    store = Store(tmp_path / "data")
    with store.session() as session:
        own = {"recipe": "figure", "crops": [{"name": "whole", "widths": [80, 160]}]}
        key = new_key(session, add_slot(session, "wall", own), "k", [Right.UPLOAD, Right.READ])
    store.close()
    site = Site(tmp_path / "data", free_port())
    site.key = key
    rng = random.Random(7)
    site.sources = [site.bring_in(number) for number in range(RUNS)]
    eventually(lambda: all(site.is_read(source) for source in site.sources), 60)
    users = [threading.Thread(target=site.upload, args=(str(n),), daemon=True) for n in (1, 2)]
    users.append(threading.Thread(target=site.run, daemon=True))
    for user in users:
        user.start()
    try:
        for _ in range(KILLS):
            time.sleep(rng.uniform(0.2, 1.2))
            site.kill(rng)
        site.over.set()
        for user in users:
            user.join(200)
        states = dict.fromkeys(site.uploads.values(), "")

        # What two hundred kills left behind takes as long as it takes.
        def unsettled() -> int:
            for id in [id for id, state in states.items() if state not in ("live", "failed")]:
                answer = site.ask("GET", f"/api/v1/uploads/{id}")
                states[id] = answer.json()["state"]
            return sum(state not in ("live", "failed") for state in states.values())

        settles(unsettled, "uploads are not settled")
        settles(
            lambda: sum("Bundle (zip)" not in site.ask("GET", run).text for run in site.runs),
            "runs have not ended",
        )
        settles(
            lambda: sum(not site.is_read(source) for source in site.sources),
            "sources are not read",
        )
    finally:
        site.over.set()
        site.closed = True
        site.server.stop()
    assert site.trouble == []
    assert set(states.values()) == {"live"}
    assert len(states) == len(site.uploads) >= KILLS / 4, "each request is one upload"
    assert len(site.runs) == len(set(site.runs)) == RUNS
    store = Store(tmp_path / "data")
    try:
        with store.reading() as session:
            failed = session.exec(select(Task).where(Task.state == TaskState.FAILED)).all()
            assert [(task.kind, task.problem) for task in failed] == []
            uploads = session.exec(select(func.count()).select_from(Upload)).one()
            assert uploads == len(site.uploads), "none twice"
            for run in site.runs:
                paths = session.exec(
                    select(Variant.path).where(Variant.run_id == run.rpartition("/")[2])
                ).all()
                assert len(paths) == len(set(paths)) > 0
        found = verify(store)
        assert (found.lost, found.damaged) == ([], [])
    finally:
        store.close()
    assert not list((tmp_path / "data").rglob("*.part"))

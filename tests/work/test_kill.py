"""``kill -9`` in the middle of things, and what is there afterwards."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from gefa.core.deliver.manifest import Manifest
from tests.conftest import Server, eventually, start
from tests.make import L, ora, photo

CUTS = 3
FILES = 3 * 2
"""of a cut: three formats at 480 and its natural 800 px"""


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


def begin(server: Server, tmp_path: Path) -> tuple[httpx.Client, str]:
    """A run of several heavy cuts, and the moment when some of its files are made."""
    layers = [L(f"Scene {n} #backdrop", photo(800, 560, n)) for n in range(CUTS)]
    design = ora(tmp_path / "scenes.ora", 800, 560, layers).read_bytes()
    client = server.client(follow_redirects=True)
    sent = client.post(
        "/sources", files={"file": ("scenes.ora", design)}, headers={"Accept": "application/json"}
    )
    source = sent.json()["results"][0]["source"]
    eventually(lambda: 'id="list"' in client.get(f"/sources/{source}").text)
    address = client.post(f"/sources/{source}/runs").url.path
    eventually(lambda: made_so_far(server.folder) >= 5, step=0.02)
    return client, address


def made_so_far(folder: Path) -> int:
    return len(list((folder / "made").rglob("*.json")))


def check(client: httpx.Client, address: str, folder: Path) -> None:
    """The run ends with every file made exactly once."""
    eventually(lambda: "Bundle (zip)" in client.get(address).text, 150)
    manifest = Manifest.model_validate_json(client.get(f"{address}/manifest.json").text)
    assert not manifest.failed
    paths = [file.path for file in manifest.files]
    assert len(paths) == len(set(paths)) == CUTS * FILES
    assert not any(file.reused for file in manifest.files)
    with sqlite3.connect(folder / "gefa.sqlite3") as database:
        rows = database.execute("SELECT path FROM variant WHERE run_id IS NOT NULL").fetchall()
    assert sorted(row[0] for row in rows) == sorted(paths)
    for file in manifest.files:
        assert len(client.get(f"{address}/files/{file.path}").content) == file.bytes
    assert not list(folder.rglob("*.part"))


@pytest.fixture
def server(tmp_path: Path, free_port: Callable[[], int]) -> Iterator[Server]:
    opened = start("serve", tmp_path / "data", free_port(), "--workers", "2")
    yield opened
    opened.stop()


def test_a_killed_worker_costs_nothing_but_time(server: Server, tmp_path: Path) -> None:
    client, address = begin(server, tmp_path)
    first = worker_of(server)
    os.kill(first, signal.SIGKILL)
    eventually(lambda: worker_of(server) != first, 20)
    check(client, address, server.folder)


def test_a_killed_encoding_process_is_replaced(server: Server, tmp_path: Path) -> None:
    client, address = begin(server, tmp_path)
    encoders = [pid for pid in children(worker_of(server)) if "spawn_main" in command(pid)]
    assert encoders
    os.kill(encoders[0], signal.SIGKILL)
    check(client, address, server.folder)


def test_after_everything_was_killed_a_restart_finishes_the_run(
    server: Server, tmp_path: Path, free_port: Callable[[], int]
) -> None:
    client, address = begin(server, tmp_path)
    client.close()
    everyone = [server.process.pid, *children(server.process.pid)]
    for pid in everyone:
        os.kill(pid, signal.SIGKILL)
    server.process.wait()
    again = start("serve", server.folder, free_port(), "--workers", "2")
    try:
        with again.client() as later:
            check(later, address, server.folder)
    finally:
        again.stop()


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

"""Fixtures: the sample world, and a real server with real workers on it."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import settings

from gefa.store.store import Store
from gefa_demo.pennants import draw_pennants
from gefa_demo.poster import draw_poster


def _measured() -> float:
    """How many times as long as on an idle machine of the usual kind a fixed piece of work takes,
    at least 1: what waits for a slow machine waits longer. Each core has one to do, since tests keep
    all of them busy: beside other programs a single short one would find a core that is free."""
    began = time.monotonic()
    work = [sys.executable, "-c", "sum(number * number for number in range(8_000_000))"]
    for one in [subprocess.Popen(work) for _ in range(os.cpu_count() or 1)]:
        one.wait()
    return max(1.0, min(10.0, (time.monotonic() - began) / USUAL_SECONDS))


USUAL_SECONDS = 1.2
"""for that piece of work on an idle machine"""
# Measured once: processes that run tests side by side get it from the one that starts them.
SLOWNESS = float(os.environ.setdefault("GEFA_SLOWNESS", f"{_measured():.2f}"))
SECONDS = 90.0 * SLOWNESS
TEST_SECONDS = 300
"""a test may take, on an idle machine"""
HTTP = httpx.Client(timeout=60, verify=False)
"""for single requests: ``httpx.get`` and its like load all certificates each time, which takes as
long as thirty answers"""


# How fast a single example runs says nothing on a machine that others use too.
settings.register_profile("gefa", deadline=None)
settings.load_profile("gefa")


FIRST = (
    "test_docs",
    "test_kill",
    "test_hostile_uploads",
    "test_scale",
    "test_accessibility",
    "test_by_keyboard",
    "test_site_api",
    "test_uploads",
    "test_site",
    "test_site_files",
    "test_weigh",
    "test_layout",
    "test_journey",
    "test_treating",
    "test_desk",
    "test_pool",
)
"""modules that take long, so that none is left alone at the end; those after the first need no demo,
since one process loads it and the others would wait"""


@pytest.hookimpl(tryfirst=True)
def pytest_configure(config: pytest.Config) -> None:
    if config.option.timeout is None:
        config.option.timeout = TEST_SECONDS * SLOWNESS


def pytest_report_header() -> str:
    return f"limits of time × {SLOWNESS:.1f}, as slow as this machine is"


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    order = {name: place for place, name in enumerate(FIRST)}
    items.sort(key=lambda item: order.get(item.path.stem, len(FIRST)))


def eventually(check: Callable[[], Any], seconds: float = SECONDS, step: float = 0.1) -> Any:
    """What ``check`` gives once it gives something true."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = check()
        if found:
            return found
        time.sleep(step)
    raise AssertionError(f"nothing came of {check} within {seconds} s")


def settles(left: Callable[[], int], what: str, patience: float = 2 * SECONDS) -> None:
    """Wait until nothing is ``left``, however long that takes, as long as something moves."""
    before, since = left(), time.monotonic()
    while before:
        time.sleep(0.3)
        now = left()
        if now != before:
            before, since = now, time.monotonic()
        if time.monotonic() - since > patience:
            raise AssertionError(f"{before} {what}, and none less for {patience:.0f} s")


@pytest.fixture(scope="session")
def poster(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("poster") / "poster.ora"
    draw_poster(path)
    return path


@pytest.fixture(scope="session")
def pennants(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("pennants") / "pennants.svg"
    draw_pennants(path)
    return path


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    opened = Store(tmp_path / "data")
    yield opened
    opened.close()


@dataclass
class Server:
    """A running ``gefa`` with its data folder."""

    process: subprocess.Popen[bytes]
    folder: Path
    url: str

    def client(self, **options: Any) -> httpx.Client:
        return httpx.Client(base_url=self.url, timeout=60, verify=False, **options)

    @property
    def key(self) -> str:
        return str(json.loads((self.folder / "demo.json").read_text())["slots"][0]["key"])

    @property
    def site_key(self) -> str:
        return str(json.loads((self.folder / "demo.json").read_text())["site_key"])

    def source(self, name: str) -> str:
        """The id of the source of the demo that is called so."""
        with self.client(headers={"Authorization": f"Bearer {self.site_key}"}) as client:
            return str(client.get("/api/v1/sources", params={"q": name}).json()["sources"][0]["id"])

    def stop(self) -> None:
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)
            try:
                self.process.wait(timeout=15)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()


def start(command: str, folder: Path, port: int, *more: str, log: Path | None = None) -> Server:
    """Start ``gefa serve`` or ``gefa demo`` and wait until it answers. What it says goes to
    ``log``."""
    words = [sys.executable, "-m", "gefa", command, "--data", str(folder), "--port", str(port)]
    said = log.open("w") if log else None
    process = subprocess.Popen(
        [*words, *more], env=os.environ | {"VIPS_WARNING": "0"}, stdout=said, stderr=said
    )
    server = Server(process, folder, f"http://127.0.0.1:{port}")

    def answers() -> bool:
        assert process.poll() is None, f"gefa {command} ended with {process.returncode}"
        try:
            return HTTP.get(f"{server.url}/healthz", timeout=2).is_success
        except httpx.HTTPError:
            return False

    # Drawing the demo takes a while where other tests keep all cores busy.
    try:
        eventually(answers, 4 * SECONDS)
    except AssertionError:
        server.stop()
        raise
    return server


@pytest.fixture(scope="session")
def free_port() -> Callable[[], int]:
    from gefa.serve import free_port as find

    return lambda: find("127.0.0.1", 0)


@pytest.fixture(scope="session")
def loaded_demo(tmp_path_factory: pytest.TempPathFactory, free_port: Callable[[], int]) -> Path:
    """The data folder of the demo with everything in it made: made once, whoever asks first, for
    all the processes that run tests, and anew if that failed. To be copied."""
    own = tmp_path_factory.getbasetemp()
    beside_others = "PYTEST_XDIST_WORKER" in os.environ
    folder = (own.parent if beside_others else own) / "loaded-demo"
    with (folder.parent / "loaded-demo.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            draft = folder.with_suffix(".draft")
            shutil.rmtree(draft, ignore_errors=True)
            server = start("demo", draft, free_port())
            try:
                desk = lambda: HTTP.get(server.url).text.count("ing…")  # noqa: E731
                settles(desk, "sources of the demo are being read")
                settles(lambda: open_tasks(draft), "tasks of the demo are open")
            finally:
                server.stop()
            draft.rename(folder)
    return folder


def open_tasks(folder: Path) -> int:
    """How many tasks of a server wait, or are being done."""
    with closing(sqlite3.connect(folder / "gefa.sqlite3", timeout=30)) as database:
        query = "SELECT count(*) FROM job WHERE state = 'QUEUED'"
        return int(database.execute(query).fetchone()[0])


@pytest.fixture(scope="session")
def demo(
    tmp_path_factory: pytest.TempPathFactory, loaded_demo: Path, free_port: Callable[[], int]
) -> Iterator[Server]:
    """The demo, loaded and served, shared by all tests of a process that only add to it."""
    folder = tmp_path_factory.mktemp("demo") / "data"
    shutil.copytree(loaded_demo, folder)
    server = start("demo", folder, free_port())
    yield server
    server.stop()


@pytest.fixture
def empty_server(tmp_path: Path, free_port: Callable[[], int]) -> Iterator[Server]:
    """A server with nothing in it."""
    server = start("serve", tmp_path / "data", free_port(), "--workers", "2")
    yield server
    server.stop()

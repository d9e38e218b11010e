"""Processes that crash, hang or complain."""

from __future__ import annotations

import os
import signal
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
from pebble import ProcessFuture

from gefa.core.errors import SourceError
from gefa.work import pool as pool_module
from gefa.work.allowance import computing
from gefa.work.pool import Crashed, Pool
from tests.conftest import eventually


def double(number: int) -> int:
    return 2 * number


def crash(marker: Path, times: int) -> str:
    """Kill this process the first ``times`` times it is called."""
    marker.write_text(marker.read_text() + "x" if marker.exists() else "x")
    if len(marker.read_text()) <= times:
        os.kill(os.getpid(), signal.SIGSEGV)
    return "survived"


def end_from_outside(marker: Path, times: int) -> str:
    """Somebody kills this process the first ``times`` times it is called."""
    marker.write_text(marker.read_text() + "x" if marker.exists() else "x")
    if len(marker.read_text()) <= times:
        os.kill(os.getpid(), signal.SIGKILL)
    return "survived"


def compute(seconds: float) -> None:
    with computing(seconds):
        while True:
            pass


def hold(megabytes: int) -> int:
    return len(bytearray(megabytes * 1_000_000))


def sleep(seconds: float) -> None:
    time.sleep(seconds)


def complain() -> None:
    raise SourceError("is broken.", file="x.png", advice="Mend it.")


def process_id() -> int:
    return os.getpid()


def test_work_is_done_in_other_processes() -> None:
    with Pool(2) as pool:
        calls = [pool.submit(double, n) for n in range(20)]
        assert [pool.outcome(call) for call in calls] == [2 * n for n in range(20)]
        assert pool.call(process_id) != os.getpid()


def test_a_crash_is_tried_again_once_and_then_put_down_to_its_picture(tmp_path: Path) -> None:
    with Pool(1) as pool:
        assert pool.call(crash, tmp_path / "once", 1) == "survived"
        with pytest.raises(Crashed, match="SIGSEGV, 2 times"):
            pool.call(crash, tmp_path / "always", 9)
        assert pool.call(double, 4) == 8, "the pool goes on after a crash"


def test_what_is_killed_from_outside_is_done_again_however_often(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pool_module, "AGAIN_SECONDS", 0.0)
    with Pool(1) as pool:
        assert pool.call(end_from_outside, tmp_path / "marker", 6) == "survived"


def test_what_the_kernel_kills_for_its_memory_is_to_blame(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    counts = iter(range(100))
    monkeypatch.setattr(pool_module, "_killed_for_memory", lambda: next(counts))
    with Pool(1) as pool, pytest.raises(Crashed, match=r"SIGKILL, 2 times.*more memory"):
        pool.call(end_from_outside, tmp_path / "marker", 99)


def test_computing_and_memory_have_their_limits() -> None:
    with Pool(1, memory=1_000_000_000) as pool:
        with pytest.raises(Crashed, match="more computing time than one picture may"):
            pool.call(compute, 0.3)
        assert pool.call(hold, 100) == 100_000_000
        with pytest.raises(MemoryError):
            pool.call(hold, 2_000)


def test_a_crash_costs_no_other_call(tmp_path: Path) -> None:
    with Pool(2) as pool:
        bad = pool.submit(crash, tmp_path / "bad", 9)
        good = [pool.submit(double, n) for n in range(30)]
        assert [pool.outcome(call) for call in good] == [2 * n for n in range(30)]
        with pytest.raises(Crashed):
            pool.outcome(bad)


def test_what_hangs_is_ended() -> None:
    with Pool(1, seconds=0.5) as pool:
        with pytest.raises(Crashed, match="longer than"):
            pool.call(sleep, 60)
        assert pool.call(double, 1) == 2


def test_idle_processes_that_are_killed_are_replaced() -> None:
    with Pool(2) as pool:
        for _ in range(3):
            os.kill(pool.call(process_id), signal.SIGKILL)
            time.sleep(0.3)
            assert pool.call(double, 3) == 6


def test_a_call_that_was_lost_with_its_processes_is_made_again() -> None:
    with Pool(1) as pool:
        call = pool.submit(double, 5)
        pool.outcome(call)
        os.kill(pool.call(process_id), signal.SIGKILL)
        eventually(lambda: not call.processes.active)
        lost = replace(call, future=ProcessFuture())
        assert pool.outcome(lost) == 10


def test_an_error_comes_back_whole() -> None:
    with Pool(1) as pool, pytest.raises(SourceError) as caught:
        pool.call(complain)
    assert (caught.value.file, caught.value.reason, caught.value.advice) == (
        "x.png",
        "is broken.",
        "Mend it.",
    )


def test_processes_outlive_the_thread_that_started_them() -> None:
    with Pool(1) as pool:
        found: list[int] = []
        thread = threading.Thread(target=lambda: found.append(pool.call(os.getpid)))
        thread.start()
        thread.join()
        time.sleep(0.3)
        assert pool.call(os.getpid) == found[0]


def test_a_call_that_is_under_way_when_all_is_stopped_starts_nothing_anew() -> None:
    pool = Pool(1)
    child = pool.call(process_id)
    told: list[Exception] = []

    def ask() -> None:
        try:
            pool.call(sleep, 60)
        except Crashed as error:
            told.append(error)

    thread = threading.Thread(target=ask, daemon=True)
    thread.start()
    time.sleep(0.3)
    pool.close(wait=False)
    thread.join(20)
    assert "were stopped" in str(told[0])
    eventually(lambda: not Path(f"/proc/{child}").exists(), seconds=5)


def test_nothing_is_left_running() -> None:
    with Pool(2) as pool:
        children = {pool.call(process_id) for _ in range(4)}
    eventually(lambda: not any(Path(f"/proc/{child}").exists() for child in children), seconds=5)

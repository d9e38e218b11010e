"""Processes that crash, hang or complain."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
from pebble import ProcessFuture

from gefa.core.errors import SourceError
from gefa.work import pool as pool_module
from gefa.work.pool import Crashed, Pool
from tests.conftest import eventually
from tests.work.calls import (
    complain,
    compute,
    crash,
    double,
    end,
    end_from_outside,
    hold,
    process_id,
    sleep,
)


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


def test_a_fork_server_that_is_killed_costs_no_call(tmp_path: Path) -> None:
    with Pool(2) as pool:
        waiting = pool.submit(sleep, 1)
        for _ in range(3):
            os.kill(pool.call(os.getppid), signal.SIGKILL)
            # Nobody sees any more how the process ends that is working.
            assert pool.call(end_from_outside, tmp_path / "marker", 1) == "survived"
            (tmp_path / "marker").unlink()
        assert pool.outcome(waiting) is None


def test_a_picture_that_ends_its_process_by_itself_is_to_blame(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(pool_module, "AGAIN_SECONDS", 0.0)
    with Pool(1) as pool:
        for code in (1, pool_module.UNSEEN):
            with pytest.raises(Crashed, match=f"exit code {code}, 2 times"):
                pool.call(end, code)


def test_processes_begin_with_what_they_need() -> None:
    started = (
        "from gefa.work.pool import Pool; import sys\n"
        "if __name__ == '__main__':\n"
        "    with Pool(1, module='gefa.work.perform') as pool:\n"
        "        print(pool.call(eval, \"'gefa.work.perform' in __import__('sys').modules\"))"
    )
    told = subprocess.run([sys.executable, "-c", started], capture_output=True, text=True)
    assert told.stdout == "True\n", told.stderr


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

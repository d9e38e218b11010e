"""Whatever fails once, at whatever place: one job is late, and none is lost."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import Any

import pytest
from sqlmodel import Session

from gefa.store.contracts import ScoreBody
from gefa.store.models import Task, TaskState
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue
from gefa.work import foreman, settlers
from gefa.work import foreman as foreman_module
from gefa.work import worker as worker_module
from gefa.work.foreman import Foreman
from gefa.work.queue import Outcome, TaskMessage, WorkQueue
from gefa.work.worker import Worker
from tests.work.jobs import cut_job

QUEUE = (
    "send", "size", "waiting", "outcomes", "drop", "leases", "forget", "hold", "answer",
)  # fmt: skip
TURNS = 40


class Shop:
    """A foreman and a worker, who take turns. What would be done with pixels is made up."""

    def __init__(self, store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
        self.store = store
        self.queue = WorkQueue(store.folder)
        self.foreman = Foreman(store, self.queue)
        self.worker = Worker(store.folder, 1)
        self.calls = 0
        self.failing = 0
        monkeypatch.setattr(self.worker._pool, "call", lambda *asked: {"made": {}})
        for name in QUEUE:
            monkeypatch.setattr(WorkQueue, name, self._counted(getattr(WorkQueue, name)))

    def _counted(self, method: Any) -> Any:
        def call(*given: Any) -> Any:
            self.calls += 1
            if self.calls == self.failing:
                raise OSError(28, "No space left on device")
            return method(*given)

        return call

    def add(self) -> str:
        body = ScoreBody(
            blob="b", name="n", job=cut_job(), width=9, height=9, key="k", format="jpeg"
        )
        with self.store.session() as session:
            return enqueue(session, body).id

    def turn(self) -> None:
        """As the threads of both do: what fails is logged, and they go on."""
        self.foreman._looked = self.foreman._listed = -1e9
        with suppress(OSError):
            self.foreman.turn()
        message = self.worker._queue.huey.dequeue()
        if message is not None:
            with suppress(OSError):
                self.worker._handle(
                    self.worker._pool, TaskMessage.model_validate_json(message.args[0])
                )

    def state(self, job: str) -> TaskState:
        with self.store.reading() as session:
            return session.get_one(Task, job).state

    def close(self) -> None:
        self.worker._pool.close(wait=False)
        self.worker._queue.close()
        self.queue.close()


@pytest.fixture
def shop(store: Store, monkeypatch: pytest.MonkeyPatch) -> Iterator[Shop]:
    monkeypatch.setattr(foreman_module, "UNSEEN_SECONDS", -1.0)
    monkeypatch.setattr(foreman_module, "RETRY_SECONDS", 0.0)
    monkeypatch.setattr(worker_module, "_ANSWER_WAITS", (0.0, 0.0))
    opened = Shop(store, monkeypatch)
    yield opened
    opened.close()


def test_the_queue_may_fail_at_any_call(shop: Shop) -> None:
    for failing in range(1, 60):
        job = shop.add()
        shop.calls, shop.failing = 0, failing
        for _ in range(TURNS):
            shop.turn()
            if shop.state(job) is not TaskState.QUEUED:
                break
        assert shop.state(job) is TaskState.DONE, failing
        if shop.calls < failing:
            break
    else:
        raise AssertionError("it never came through without a fault")
    assert failing > len(QUEUE), "each was asked for at least once"


def test_a_settlement_that_fails_is_tried_again(
    shop: Shop, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(foreman, "FULL_SECONDS", 0.0)
    fails = 2
    settled = settlers.SETTLERS[TaskKind.SCORE]

    def settle(session: Session, task: Task, outcome: Outcome) -> None:
        nonlocal fails
        fails -= 1
        if fails >= 0:
            raise OSError(28, "No space left on device")
        settled(session, task, outcome)

    monkeypatch.setitem(settlers.SETTLERS, TaskKind.SCORE, settle)
    job = shop.add()
    for _ in range(8):
        shop.turn()
    assert shop.state(job) is TaskState.DONE
    assert shop.queue.outcomes() == {}


def test_an_outcome_that_can_never_be_settled_costs_its_job_and_no_other(
    shop: Shop, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What a worker of another version answers, say."""
    monkeypatch.setattr(shop.worker._pool, "call", lambda *asked: {"made": "nonsense"})
    bad = shop.add()
    shop.turn()
    monkeypatch.setattr(shop.worker._pool, "call", lambda *asked: {"made": {}})
    good = shop.add()
    for _ in range(foreman_module.MAX_TRIES + 4):
        shop.turn()
    assert (shop.state(bad), shop.state(good)) == (TaskState.FAILED, TaskState.DONE)
    with shop.store.reading() as session:
        assert "cannot be written down" in session.get_one(Task, bad).problem


def test_a_kind_that_a_worker_does_not_know_is_answered(store: Store) -> None:
    worker = Worker(store.folder, 1)
    try:
        worker._handle(worker._pool, TaskMessage(job="j", kind="weave", body={}))
        (outcome,) = worker._queue.outcomes().values()
    finally:
        worker._pool.close()
        worker._queue.close()
    assert "does not know tasks of the kind 'weave'" in outcome.problem


def test_a_beat_that_fails_once_is_followed_by_others(
    shop: Shop, monkeypatch: pytest.MonkeyPatch
) -> None:
    shop.calls, shop.failing = 0, 1
    shop.worker._beat("j")
    shop.worker._beat("j")
    assert set(shop.queue.leases()) == {"j"}

"""The foreman against a queue that the test itself plays worker on."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from unittest.mock import Mock

import pytest
from sqlmodel import select

from gefa.store.blobs import Blob
from gefa.store.contracts import CONTRACTS
from gefa.store.models import Revision, RevisionState, Task, TaskState
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.work import foreman as module
from gefa.work.foreman import Foreman
from gefa.work.perform import FUNCTIONS
from gefa.work.queue import Lease, Outcome, TaskMessage, WorkQueue, alive, host_id
from gefa.work.settlers import SETTLERS


class Desk:
    """A foreman, his queue, and one job to read a source."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.queue = WorkQueue(store.folder)
        self.foreman = Foreman(store, self.queue)
        with store.session() as session:
            bring_in(session, "a.png", Blob("0" * 64, 9), "png")

    def job(self) -> Task:
        with self.store.session() as session:
            return session.exec(select(Task)).one()

    def revision(self) -> Revision:
        with self.store.session() as session:
            return session.exec(select(Revision)).one()

    def take(self) -> str | None:
        """As a worker does: the next task's job, no longer waiting."""
        task = self.queue.huey.dequeue()
        return TaskMessage.model_validate_json(task.args[0]).job if task else None

    def hold(self, job: str, lease: Lease) -> None:
        """As another worker does."""
        self.queue._leases.put_data(job, lease.model_dump_json().encode())

    def turn(self) -> None:
        self.foreman._looked = self.foreman._listed = -1e9
        self.foreman.turn()


@pytest.fixture
def desk(store: Store, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    monkeypatch.setattr(module, "UNSEEN_SECONDS", -1.0)
    opened = Desk(store)
    yield opened
    opened.queue.close()


def test_a_job_is_sent_once(desk: Desk) -> None:
    for _ in range(3):
        desk.turn()
    assert desk.take() == desk.job().id
    assert desk.take() is None
    assert desk.job().sent == 1


def test_an_outcome_is_settled_once_however_often_it_comes(desk: Desk) -> None:
    desk.turn()
    job = desk.take()
    assert job is not None
    for problem in ("first answer", "second answer"):
        desk.queue.answer(Outcome(job=job, problem=problem, refused=True))
        desk.turn()
    assert desk.job().state is TaskState.FAILED
    assert desk.revision().state is RevisionState.FAILED
    assert desk.revision().problem == "first answer"


def test_an_outcome_of_a_job_that_is_not_known_is_ignored(desk: Desk) -> None:
    desk.queue.answer(Outcome(job="nobody's"))
    desk.turn()
    assert desk.job().state is TaskState.QUEUED


def test_an_outcome_that_cannot_be_written_is_kept_and_its_job_not_sent_again(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.turn()
    job = desk.take()
    assert job is not None
    desk.queue.answer(Outcome(job=job, problem="damaged", refused=True))
    with monkeypatch.context() as patch:
        patch.setattr(module, "settle", Mock(side_effect=OSError("no such luck")))
        for _ in range(3):
            desk.turn()
    assert desk.take() is None, "its answer is there"
    assert (desk.job().state, desk.job().sent) == (TaskState.QUEUED, 1)
    desk.foreman._troubles.clear()
    desk.turn()
    assert desk.revision().problem == "damaged"


def test_a_job_held_by_a_living_worker_is_left_alone(desk: Desk) -> None:
    desk.turn()
    job = desk.take()
    assert job is not None
    desk.queue.hold(job, 1)
    desk.turn()
    assert desk.take() is None


def _dead_pid() -> int:
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    return gone.pid


def test_a_job_whose_worker_died_is_sent_again_however_often(desk: Desk) -> None:
    """What ends a worker is never the picture: that is in a process of its own."""
    desk.turn()
    for sent in range(1, 25):
        job = desk.take()
        assert job is not None
        assert desk.job().sent == sent
        desk.hold(job, Lease(host=host_id(), pid=_dead_pid(), beat=1))
        desk.turn()
    assert desk.job().state is TaskState.QUEUED


def test_a_job_taken_and_never_held_is_sent_again(desk: Desk) -> None:
    """The worker was killed between taking the task and saying so."""
    desk.turn()
    first = desk.take()
    desk.turn()
    assert desk.take() == first


def test_a_worker_on_another_machine_is_lost_when_its_beat_stops(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "STALE_SECONDS", 60.0)
    desk.turn()
    job = desk.take()
    assert job is not None

    def beats(beat: int) -> None:
        assert job is not None
        desk.hold(job, Lease(host="elsewhere", pid=1, beat=beat))
        desk.turn()

    beats(1)
    beats(2)
    assert desk.take() is None
    monkeypatch.setattr(module, "STALE_SECONDS", -1.0)
    beats(2)
    assert desk.take() == job


def test_whether_a_worker_lives() -> None:
    assert alive(Lease(host=host_id(), pid=os.getpid(), beat=1)) is True
    assert alive(Lease(host=host_id(), pid=_dead_pid(), beat=1)) is False
    assert alive(Lease(host="elsewhere", pid=1, beat=1)) is None


def test_every_kind_of_task_can_be_asked_for_done_and_settled() -> None:
    assert set(CONTRACTS) == set(FUNCTIONS) == set(SETTLERS) == set(TaskKind)


def test_an_upload_and_a_reading_go_before_a_batch(desk: Desk) -> None:
    for kind in ("cut", "upload", "cut", "read"):
        priority = CONTRACTS[TaskKind(kind)].priority
        desk.queue.send(TaskMessage(job=kind, kind=kind, body={}), priority)
    assert [desk.take() for _ in range(4)] == ["upload", "read", "cut", "cut"]


def test_progress_is_told_and_forgotten(desk: Desk) -> None:
    desk.queue.tell("j", 7)
    assert desk.queue.progress("j") == 7
    desk.queue.forget("j")
    assert desk.queue.progress("j") == 0


def test_the_source_with_the_largest_job_comes_first_and_stays_together(desk: Desk) -> None:
    with desk.store.session() as session:
        first = session.exec(select(Task)).one()
        for source, costs in (("one", (1.0, 3.0, 2.0)), ("other", (1.0, 9.0))):
            found, _ = bring_in(session, f"{source}.png", Blob(source[0] * 64, 9), "png")
            session.flush()
            for cost in costs:
                session.add(
                    Task(
                        kind=TaskKind.CUT,
                        task={},
                        source_id=found.id,
                        cost=cost,
                        created=first.created,
                    )
                )
    desk.turn()
    taken = []
    while (job := desk.take()) is not None:
        with desk.store.session() as session:
            task = session.get(Task, job)
            assert task is not None
            if task.kind is TaskKind.CUT:
                taken.append(task.cost)
    assert taken == [9.0, 1.0, 3.0, 2.0, 1.0]

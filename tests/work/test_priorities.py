"""Who takes what from the queue: uploads before everything that nobody waits for."""

from __future__ import annotations

from pathlib import Path

import pytest

from gefa.store.contracts import ANY, BELOW_UPLOADS, BY_PEOPLE, CONTRACTS, UPLOADS, priority_of
from gefa.store.task_kinds import TaskKind
from gefa.work.queue import TaskMessage, WorkQueue


def test_an_upload_comes_first_unless_nobody_waits_for_it() -> None:
    fresh = priority_of(TaskKind.UPLOAD, {})
    assert all(fresh > priority_of(kind, {}) for kind in CONTRACTS if kind is not TaskKind.UPLOAD)
    again = priority_of(TaskKind.UPLOAD, {"background": True})
    assert again == priority_of(TaskKind.CUT, {}) < priority_of(TaskKind.READ, {})


@pytest.mark.parametrize(
    ("wanted", "taken"),
    [
        (ANY, [TaskKind.UPLOAD, TaskKind.READ, TaskKind.CUT]),
        (UPLOADS, [TaskKind.UPLOAD]),
        (BY_PEOPLE, [TaskKind.READ]),
        (BELOW_UPLOADS, [TaskKind.READ, TaskKind.CUT]),
    ],
)
def test_each_process_takes_only_what_it_is_for(
    tmp_path: Path, wanted: tuple[int, int], taken: list[TaskKind]
) -> None:
    found: list[str] = []
    queue = WorkQueue(tmp_path, lambda task: found.append(task.job), lambda: wanted)
    for kind in (TaskKind.CUT, TaskKind.UPLOAD, TaskKind.READ):
        message = TaskMessage(job=kind.value, kind=kind.value, body={})
        queue.send(message, priority_of(kind, {}))
    while (task := queue.huey.dequeue()) is not None:
        queue.huey.execute(task)
    queue.close()
    assert found == [kind.value for kind in taken]

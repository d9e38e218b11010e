"""Jobs that a screen waits for: trials, proofs, curves, scores."""

from __future__ import annotations

from pydantic import BaseModel
from sqlmodel import Session, col, select

from gefa.store.contracts import kind_of
from gefa.store.models import Task, TaskState
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue

KEPT = 40
"""finished jobs of one name; earlier ones are deleted, their files stay"""


def request_task(
    session: Session, topic: str, body: BaseModel, *, name: str = "", planned: int = 0
) -> Task:
    """The job for ``body``, found by its ``topic``; queued the first time."""
    kind = kind_of(body)
    known = task_on(session, kind, topic)
    if known is not None:
        return known
    _forget(session, kind, name)
    job = enqueue(session, body, topic=topic, name=name, planned=planned)
    session.flush()
    return job


def task_on(session: Session, kind: TaskKind, topic: str) -> Task | None:
    """The job of that topic, if there is one."""
    return session.exec(select(Task).where(Task.topic == topic, Task.kind == kind)).first()


def requeue(session: Session, job: Task) -> None:
    """Queue a job again."""
    job.state, job.sent, job.problem, job.report = TaskState.QUEUED, 0, "", {}
    session.add(job)


def _forget(session: Session, kind: TaskKind, name: str) -> None:
    old = session.exec(
        select(Task)
        .where(Task.kind == kind, Task.name == name, Task.state != TaskState.QUEUED)
        .order_by(col(Task.created).desc())
        .offset(KEPT)
    ).all()
    for job in old:
        session.delete(job)

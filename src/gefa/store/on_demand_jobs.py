"""Jobs that somebody looks at while they are done: trials, proofs, curves, scores."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, select

from gefa.store.models import Job, JobKind, JobState

KEPT = 40
"""finished jobs of one name; those before are forgotten, what they made is not"""


def ask(
    session: Session,
    kind: JobKind,
    topic: str,
    task: dict[str, Any],
    *,
    name: str = "",
    planned: int = 0,
) -> Job:
    """The job that does ``task``, found again by its ``topic``; queued the first time."""
    known = asked(session, kind, topic)
    if known is not None:
        return known
    _forget(session, kind, name)
    job = Job(kind=kind, topic=topic, task=task, name=name, planned=planned)
    session.add(job)
    session.flush()
    return job


def asked(session: Session, kind: JobKind, topic: str) -> Job | None:
    """The job of that topic, if it was asked for."""
    return session.exec(select(Job).where(Job.topic == topic, Job.kind == kind)).first()


def ask_again(session: Session, job: Job) -> None:
    """Have a job done once more."""
    job.state, job.sent, job.problem, job.report = JobState.QUEUED, 0, "", {}
    session.add(job)


def _forget(session: Session, kind: JobKind, name: str) -> None:
    old = session.exec(
        select(Job)
        .where(Job.kind == kind, Job.name == name, Job.state != JobState.QUEUED)
        .order_by(col(Job.created).desc())
        .offset(KEPT)
    ).all()
    for job in old:
        session.delete(job)

"""Runs, revisions and tasks that go by themselves: without it the database would grow for ever."""

from __future__ import annotations

from datetime import timedelta

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict
from sqlalchemy import delete, exists
from sqlalchemy.orm import aliased
from sqlmodel import Session, col
from sqlmodel import select as rows

from gefa.store.models import Revision, Run, RunSource, Source, Task, TaskState, Variant, now
from gefa.store.removal import forget_run
from gefa.store.sources import newest_numbers
from gefa.store.standing import last_runs
from gefa.store.task_kinds import TaskKind

TASKS_AFTER = timedelta(days=30)
"""how long it is kept what made the files of an upload that were replaced since"""
AT_ONCE = 200
"""rows in one transaction: others wait for it"""


class Bounds(BaseSettings):
    """How much is kept. ``GEFA_KEEP_RUNS`` is a number of finished runs, ``GEFA_KEEP_DAYS`` the
    days for which earlier revisions of sources are kept."""

    model_config = SettingsConfigDict(env_prefix="GEFA_KEEP_", frozen=True)

    runs: int = Field(default=1_000, ge=1)
    days: int = Field(default=365, ge=1)


def old_runs(session: Session, most: int) -> list[str]:
    """Ids of finished runs that are more than ``most``, oldest first. The last run of a source is
    never among them: it says what is current."""
    finished = session.exec(
        rows(Run.id).where(col(Run.finished).is_not(None)).order_by(col(Run.id).desc()).offset(most)
    ).all()
    current = {last.run_id for last in last_runs(session).values()} if finished else set()
    return sorted(set(finished) - current)


def sweep_run(session: Session, run_id: str) -> None:
    """Delete a run with its files and tasks, if it is still there."""
    run = session.get(Run, run_id)
    if run is not None and run.finished is not None:
        forget_run(session, run)


def sweep_revisions(session: Session, days: int) -> int:
    """Delete revisions that were followed by others so long ago and that no run has; returns how
    many. Their files go with the next sweep of blobs."""
    newest = newest_numbers()
    old = session.exec(
        rows(Revision)
        .join(newest, newest.c.source_id == Revision.source_id)
        .where(
            col(Revision.number) < newest.c.number,
            col(Revision.created) < now() - timedelta(days=days),
            ~exists().where(
                col(RunSource.source_id) == col(Revision.source_id),
                col(RunSource.revision_id) == col(Revision.id),
            ),
        )
        .limit(AT_ONCE)
    ).all()
    for revision in old:
        session.execute(delete(Task).where(col(Task.revision_id) == revision.id))
        session.delete(revision)
    session.flush()
    return len(old)


def sweep_tasks(session: Session) -> int:
    """Delete tasks of uploads that were done long ago, and of whose files none is left; returns how
    many."""
    old = session.exec(
        rows(Task.id)
        .where(
            Task.kind == TaskKind.UPLOAD,
            Task.state != TaskState.QUEUED,
            col(Task.created) < now() - TASKS_AFTER,
            ~exists().where(col(Variant.job_id) == col(Task.id)),
        )
        .limit(AT_ONCE)
    ).all()
    session.execute(delete(Task).where(col(Task.id).in_(old)))
    return len(old)


def replace_waiting_runs(session: Session, source: Source, who: str) -> None:
    """Delete runs of this source alone that ``who`` started and that are not finished: a newer
    revision is about to be run. What they have made is known and made no second time."""
    other = aliased(RunSource)
    waiting = session.exec(
        rows(Run)
        .join(RunSource, col(RunSource.run_id) == col(Run.id))
        .where(
            RunSource.source_id == source.id,
            Run.who == who,
            col(Run.finished).is_(None),
            ~exists().where(col(other.run_id) == col(Run.id), col(other.source_id) != source.id),
        )
    ).all()
    for run in waiting:
        forget_run(session, run)

"""Taking sources and runs away for good. Their blobs go when nothing else refers to them."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.store.models import Revision, Run, Source, Task, Variant
from gefa.store.sources import forget_plan


def remove_run(session: Session, run: Run) -> None:
    """Forget a run and what it made; what is still to be done of it is not done any more."""
    session.execute(delete(Variant).where(col(Variant.run_id) == run.id))
    session.execute(delete(Task).where(col(Task.run_id) == run.id))
    session.delete(run)
    session.flush()


def remove_source(session: Session, source: Source) -> None:
    """Forget a source with its revisions, its plan and its runs."""
    for run in session.exec(select(Run).where(Run.source_id == source.id)).all():
        remove_run(session, run)
    revisions = select(Revision.id).where(Revision.source_id == source.id)
    session.execute(delete(Task).where(col(Task.revision_id).in_(revisions)))
    session.execute(delete(Revision).where(col(Revision.source_id) == source.id))
    forget_plan(session, source)
    session.delete(source)
    session.flush()

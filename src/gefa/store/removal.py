"""Deletes sources and runs. Their blobs go when nothing else refers to them."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.store.models import Outlook, Revision, Run, RunSource, Source, Task, Variant
from gefa.store.plans import forget_plan
from gefa.store.run_manifest import totals_of
from gefa.store.runs import name_of, runs_with, subtract_totals
from gefa.store.trail import Deed, note


def remove_run(session: Session, run: Run) -> None:
    """Delete a run and its files; its open jobs are cancelled."""
    note(session, Deed.RUN_REMOVED, name_of(session, run), f"of {run.created:%Y-%m-%d %H:%M}")
    forget_run(session, run)


def forget_run(session: Session, run: Run) -> None:
    session.execute(delete(Variant).where(col(Variant.run_id) == run.id))
    session.execute(delete(Task).where(col(Task.run_id) == run.id))
    session.execute(delete(RunSource).where(col(RunSource.run_id) == run.id))
    session.flush()
    session.delete(run)
    session.flush()


def _forget_in_run(session: Session, run: Run, source: Source) -> None:
    others = select(RunSource.source_id).where(
        RunSource.run_id == run.id, RunSource.source_id != source.id
    )
    if session.exec(others).first() is None:
        forget_run(session, run)
        return
    part = totals_of(session, run, source.id)
    jobs = select(Task.id).where(Task.run_id == run.id, Task.source_id == source.id)
    session.execute(delete(Variant).where(col(Variant.job_id).in_(jobs)))
    session.execute(
        delete(Task).where(col(Task.run_id) == run.id, col(Task.source_id) == source.id)
    )
    session.execute(
        delete(RunSource).where(
            col(RunSource.run_id) == run.id, col(RunSource.source_id) == source.id
        )
    )
    session.flush()
    subtract_totals(session, run, part)


def remove_source(session: Session, source: Source) -> None:
    """Delete a source with its revisions, plan and files; runs of nothing else go too."""
    for run in runs_with(session, source):
        _forget_in_run(session, run, source)
    revisions = select(Revision.id).where(Revision.source_id == source.id)
    session.execute(delete(Task).where(col(Task.revision_id).in_(revisions)))
    session.execute(delete(Outlook).where(col(Outlook.source_id) == source.id))
    session.execute(delete(Revision).where(col(Revision.source_id) == source.id))
    forget_plan(session, source)
    note(session, Deed.SOURCE_REMOVED, source.name)
    session.delete(source)
    session.flush()

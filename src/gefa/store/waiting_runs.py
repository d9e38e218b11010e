"""Runs that wait for sources which are still being read. Such a run is planned once they all are,
since its files are named together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.store.actor import actor
from gefa.store.models import Revision, RevisionState, Run, RunSource, now
from gefa.store.run_choice import Choice, PlannedRun, choose, plan_run

WAITS = "waits"
"""what ``Run.said`` has instead of remarks while the run waits; its value says what to do with
very large files"""


class Due(NamedTuple):
    """A run whose sources are read, and what it does."""

    run_id: str
    planned: PlannedRun
    refused: Sequence[Remark]


def wait_for(session: Session, choice: Choice, large: str) -> Run:
    """Store a run of these sources that begins once they are read. Very large files are left out
    unless ``large`` is "make"."""
    run = Run(said={WAITS: large or "ask"}, who=actor().name)
    session.add(run)
    session.flush()
    sources = [(one.source, one.revision) for one in choice.chosen] + choice.reading
    for source, revision in sources:
        session.add(
            RunSource(run_id=run.id, source_id=source.id, revision_id=revision.id, name=source.name)
        )
    return run


def is_waiting(run: Run) -> bool:
    return run.finished is None and WAITS in run.said


def still_read(session: Session, run: Run) -> int:
    """How many sources a waiting run waits for."""
    if not is_waiting(run):
        return 0
    rows = session.exec(
        select(RunSource.source_id)
        .join(Revision, col(Revision.id) == col(RunSource.revision_id))
        .where(RunSource.run_id == run.id, Revision.state == RevisionState.READING)
    )
    return len(rows.all())


def due_runs(session: Session) -> list[Due]:
    """Waiting runs that wait for no source any more, with what they do now. Reads only."""
    open_runs = session.exec(select(Run).where(col(Run.finished).is_(None))).all()
    found = (_due(session, run) for run in open_runs if is_waiting(run))
    return [due for due in found if due is not None]


def _due(session: Session, run: Run) -> Due | None:
    ids = set(session.exec(select(RunSource.source_id).where(RunSource.run_id == run.id)))
    choice = choose(session, ids)
    if choice.reading:
        return None
    planned = plan_run(session, choice.chosen)
    if run.said[WAITS] != "make":
        planned.without({job.cut.name for job in planned.large})
    return Due(run.id, planned, choice.refused)


def stop_waiting(session: Session, run_id: str) -> Run | None:
    """The run, ready to be started; None if it was stopped, removed or started meanwhile."""
    run = session.get(Run, run_id)
    if run is None or not is_waiting(run):
        return None
    for own in session.exec(select(RunSource).where(RunSource.run_id == run_id)):
        session.delete(own)
    session.flush()
    run.created = now()
    return run

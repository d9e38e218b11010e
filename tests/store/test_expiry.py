"""What goes by itself, and what stays."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlmodel import Session, col, func, select

from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.store.contracts import ReadReport
from gefa.store.models import Revision, Run, Source, Task, TaskState, now
from gefa.store.run_choice import choose, plan_run
from gefa.store.runs import start_run, stop_run
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.work.housekeeper import Housekeeper
from gefa.work.queue import Outcome
from gefa.work.settle import WATCHER
from gefa.work.settlers import settle
from tests.make import flat


def save(store: Store, name: str, colour: int, *, watched: bool = False) -> str:
    """A source with these pixels, read; returns the id of its revision."""
    blob = store.blobs.put(flat(8, 8, (colour, 0, 0)).pngsave_buffer())
    with store.changing() as session:
        source, revision = bring_in(session, name, blob, "png")
        source.watched = "/somewhere" if watched else ""
        task = session.exec(
            select(Task).where(Task.revision_id == revision.id, Task.kind == TaskKind.READ)
        ).one()
        seen = survey(read(store.blobs.path(blob.sha256), name))
        report = ReadReport(survey=seen).model_dump(mode="json")
        settle(session, task, Outcome(job=task.id, report=report))
        return revision.id


def run(store: Store, *names: str) -> str:
    """A finished run of these sources."""
    with store.changing() as session:
        ids = session.exec(select(Source.id).where(col(Source.name).in_(names))).all()
        started = start_run(session, plan_run(session, choose(session, ids).chosen))
        for task in session.exec(select(Task).where(Task.run_id == started.id)):
            settle(session, task, Outcome(job=task.id, problem="it was not tried"))
        return started.id


def swept(store: Store) -> None:
    housekeeper = Housekeeper(store)
    housekeeper._blobs_due = 0.0
    housekeeper.turn()


def count(session: Session, table: type[Run | Revision | Task]) -> int:
    return session.exec(select(func.count()).select_from(table)).one()


def test_of_many_runs_the_newest_and_the_last_of_each_source_stay(
    store: Store, monkeypatch: pytest.MonkeyPatch
) -> None:
    save(store, "old.png", 1)
    save(store, "new.png", 2)
    first = run(store, "old.png")
    runs = [run(store, "new.png") for _ in range(4)]
    monkeypatch.setenv("GEFA_KEEP_RUNS", "2")
    swept(store)
    with store.reading() as session:
        assert set(session.exec(select(Run.id))) == {first, *runs[-2:]}
        assert {task.run_id for task in session.exec(select(Task)) if task.run_id} == {
            first,
            *runs[-2:],
        }


def test_an_earlier_revision_goes_after_a_year_unless_a_run_has_it(store: Store) -> None:
    kept = save(store, "a.png", 1)
    run(store, "a.png")
    gone, young = save(store, "a.png", 2), save(store, "a.png", 3)
    newest = save(store, "a.png", 4)
    with store.changing() as session:
        for id in (kept, gone, newest):
            revision = session.get_one(Revision, id)
            revision.created = now() - timedelta(days=366)
            session.add(revision)
    swept(store)
    with store.reading() as session:
        assert set(session.exec(select(Revision.id))) == {kept, young, newest}


def test_a_watched_save_replaces_the_run_that_is_not_finished(store: Store) -> None:
    save(store, "a.png", 1, watched=True)
    save(store, "a.png", 2, watched=True)
    with store.reading() as session:
        (first,) = session.exec(select(Run)).all()
        assert (first.who, first.finished) == (WATCHER, None)
    with store.changing() as session:  # somebody runs the same source by hand
        by_hand = start_run(session, plan_run(session, choose(session).chosen)).id
    save(store, "a.png", 3, watched=True)
    with store.reading() as session:
        left = session.exec(select(Run).order_by(col(Run.id))).all()
        assert first.id not in {run.id for run in left}
        assert [run.who for run in left] == ["", WATCHER]
        open_tasks = session.exec(
            select(Task).where(Task.state == TaskState.QUEUED, Task.kind == TaskKind.CUT)
        )
        assert {task.run_id for task in open_tasks} == {run.id for run in left}
    # A finished one stays.
    with store.changing() as session:
        for one in left:
            stop_run(session, session.get_one(Run, one.id))
    save(store, "a.png", 4, watched=True)
    with store.reading() as session:
        assert count(session, Run) == 3
        assert by_hand in set(session.exec(select(Run.id)))

"""Recipes that all sources share, jobs that are looked at, and runs that are tried again."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from sqlmodel import select

from gefa.core.cut.cut import Origin, Remark
from gefa.core.deliver.manifest import CutRecord, File
from gefa.core.errors import PlanError
from gefa.core.make.report import JobReport
from gefa.core.treat.formats import Format
from gefa.core.treat.made import MadeVariant
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store.contracts import ReadBody
from gefa.store.ledger import enter
from gefa.store.made_by_recipe import made_by_recipe
from gefa.store.models import Revision, Run, RunSource, Source, Task, TaskState, Variant, now
from gefa.store.on_demand_jobs import KEPT, request_task, requeue, task_on
from gefa.store.recipes import (
    can_undo,
    library,
    remove_recipe,
    removed_last,
    save_recipe,
    shelf_of_recipes,
    undo_recipe,
)
from gefa.store.run_manifest import manifest_of
from gefa.store.runs import run_again, runs_beside
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind

SMALL = Recipe(formats=("jpeg",), widths=(90,))


def test_a_recipe_is_kept_changed_undone_removed_and_had_back(store: Store) -> None:
    with store.session() as session:
        save_recipe(session, "hero", SMALL, "Began it")
        larger = SMALL.model_copy(update={"widths": (900,)})
        save_recipe(session, "hero", larger, "Changed it")
        save_recipe(session, "hero", larger, "Said again")
    with store.session() as session:
        assert library(session)["hero"] == larger
        assert can_undo(session, "hero") == "Changed it"
        assert undo_recipe(session, "hero") == "Changed it"
        assert library(session)["hero"] == SMALL
        remove_recipe(session, "hero")
        assert "hero" not in shelf_of_recipes(session)
        assert removed_last(session) == "hero"
        undo_recipe(session, "hero")
        assert library(session)["hero"] == SMALL
        undo_recipe(session, "hero")
        assert undo_recipe(session, "hero") == ""
        assert undo_recipe(session, "never") == ""


def test_a_built_in_recipe_can_be_changed_and_be_as_it_came(store: Store) -> None:
    with store.session() as session:
        save_recipe(session, "icon", SMALL, "Changed it")
        assert shelf_of_recipes(session)["icon"] == SMALL
        remove_recipe(session, "icon")
        assert shelf_of_recipes(session)["icon"] == BUILT_IN["icon"]
        assert removed_last(session) == ""
        with pytest.raises(PlanError, match="not a recipe name"):
            save_recipe(session, "a b", SMALL, "Began it")


def test_what_is_asked_for_again_is_found_and_old_jobs_are_forgotten(store: Store) -> None:
    body = ReadBody(blob="b", name="b")
    with store.session() as session:
        first = request_task(session, "topic 0", body, name="hero")
        assert request_task(session, "topic 0", body, name="hero").id == first.id
        assert task_on(session, TaskKind.PROOF, "topic 0") is None
        for number in range(1, KEPT + 8):
            job = request_task(session, f"topic {number}", body, name="hero")
            job.state = TaskState.DONE
            session.add(job)
            session.flush()
        kept = session.exec(select(Task).where(Task.kind == TaskKind.READ)).all()
        assert len(kept) <= KEPT + 2
        assert first.id in {job.id for job in kept}, "it is still to be done"
        done = kept[-1]
        requeue(session, done)
        assert (done.state, done.sent, done.report) == (TaskState.QUEUED, 0, {})


def report(cut: str, *files: str, failed: bool = False) -> dict[str, Any]:
    record = CutRecord(
        name=cut,
        source="a.ora",
        part=cut,
        recipe="icon",
        origin=Origin.TAG,
        x=0,
        y=0,
        width=9,
        height=9,
        alpha=None,
        baseline_bytes=None,
        markup="",
    )
    made = [
        File(
            cut=cut,
            path=path,
            format=Format.PNG,
            width=9,
            height=9,
            bytes=9,
            sha256="0" * 64,
            quality=None,
            reused=False,
        )
        for path in files
    ]
    told = [Remark(cut=cut, reason="the encoder refused it")] if failed else []
    keys = {path: f"key of {path}" for path in files}
    return JobReport(record=record, files=made, failed=told, keys=keys).model_dump(mode="json")


def finished_run(store: Store) -> str:
    with store.session() as session:
        source = Source(name="a.ora")
        session.add(source)
        session.flush()
        revision = Revision(source_id=source.id, number=1, blob="b", bytes=1, format="openraster")
        session.add(revision)
        session.flush()
        run = Run(finished=now())
        session.add(run)
        session.flush()
        session.add(RunSource(run_id=run.id, source_id=source.id, revision_id=revision.id))
        outcomes: list[tuple[str, TaskState, dict[str, Any]]] = [
            ("good", TaskState.DONE, report("good", "good.png")),
            ("half", TaskState.DONE, report("half", "half.png", failed=True)),
            ("bad", TaskState.FAILED, {}),
        ]
        for position, (name, state, made) in enumerate(outcomes):
            job = Task(kind=TaskKind.CUT, run_id=run.id, position=position, name=name, sent=1)
            job.state, job.report, job.problem = state, made, "" if made else "it crashed"
            session.add(job)
            session.flush()
            for file in made.get("files", []):
                fields = {k: v for k, v in file.items() if k not in ("moves", "limit", "budget")}
                session.add(Variant(job_id=job.id, run_id=run.id, **fields))
        return run.id


def test_only_what_failed_is_made_once_more(store: Store) -> None:
    run_id = finished_run(store)
    with store.session() as session:
        run = session.get_one(Run, run_id)
        assert len(manifest_of(session, run).failed) == 2
        assert run_again(session, run) == 2
        assert run.finished is None
    with store.session() as session:
        jobs = {job.name: job for job in session.exec(select(Task).where(Task.run_id == run_id))}
        assert jobs["good"].state is TaskState.DONE
        assert {jobs[name].state for name in ("half", "bad")} == {TaskState.QUEUED}
        assert {v.path for v in session.exec(select(Variant))} == {"good.png"}
        assert run_again(session, session.get_one(Run, run_id)) == 0


def test_looks_that_were_measured_since_are_told_in_the_sheet(store: Store) -> None:
    run_id = finished_run(store)
    looked_at = MadeVariant(sha256="0" * 64, bytes=9, score=81.5)
    with store.session() as session:
        run = session.get_one(Run, run_id)
        assert [file.score for file in manifest_of(session, run).files] == [None, None]
        enter(session, {"key of good.png": looked_at})
        assert [file.score for file in manifest_of(session, run).files] == [81.5, None]
        assert runs_beside(session, run) == []


def test_what_a_recipe_made_is_that_of_the_newest_run_that_used_it(store: Store) -> None:
    with store.session() as session:
        for number, (name, recipe) in enumerate([("old", "a"), ("new", "a"), ("new", "b")]):
            if session.get(Run, name) is None:
                created = now() - timedelta(hours=2 if name == "old" else 1)
                session.add(Run(id=name, created=created))
                session.flush()
            job = Task(
                id=f"{name}{recipe}", kind=TaskKind.CUT, state=TaskState.DONE, run_id=name,
                report={"record": {"recipe": recipe}},
            )  # fmt: skip
            session.add(job)
            session.flush()
            for width in (48, 320, 640):
                session.add(
                    Variant(
                        job_id=job.id,
                        run_id=name,
                        cut=f"kite {number}",
                        path=f"{number}-{width}",
                        format="webp",
                        width=width,
                        height=width,
                        bytes=width,
                        sha256="0" * 64,
                    )
                )
    with store.reading() as session:
        found = made_by_recipe(session)
    assert {name: (one.run_id, one.cuts, one.files, one.bytes) for name, one in found.items()} == {
        "a": ("new", 1, 3, 1008), "b": ("new", 1, 3, 1008),
    }  # fmt: skip
    assert [(one.cut, one.width) for one in found["a"].examples] == [("kite 1", 320)]

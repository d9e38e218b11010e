"""Runs of a served site, written into its folder."""

from __future__ import annotations

from pathlib import Path

import pytest
from sqlmodel import col, select

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.plan.load import parse_plan
from gefa.folder.run_output import write_run
from gefa.store.models import Run, Task, TaskState
from gefa.store.plans import change_shared, shared_plan
from gefa.store.recipes import save_recipe
from gefa.store.run_choice import choose, plan_run
from gefa.store.runs import start_run
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.work.perform import perform
from gefa.work.queue import Outcome
from gefa.work.settlers import settle
from tests.make import photo

PLAN = """
default = "{recipe}"
[recipes.small]
formats = ["webp"]
widths = [20]
[recipes.large]
formats = ["webp"]
widths = [40]
"""


def do_all(store: Store, run_id: str | None) -> None:
    """Everything that waits for a worker: of a run, or of none."""
    while True:
        with store.reading() as session:
            task = session.exec(
                select(Task)
                .where(Task.state == TaskState.QUEUED, Task.run_id == run_id)
                .order_by(col(Task.id))
            ).first()
        if task is None:
            return
        report = perform(store.folder, task.id, task.kind.value, task.task, 1)
        with store.changing() as session:
            settle(session, session.get_one(Task, task.id), Outcome(job=task.id, report=report))


def start(store: Store, recipe: str) -> str:
    """A run by the recipe that has not begun."""
    plan = parse_plan(PLAN.format(recipe=recipe), "gefa.toml")
    with store.changing() as session:
        for name, one in plan.recipes.items():
            save_recipe(session, name, one, "saved")
        changed = shared_plan(session).model_copy(update={"default": recipe})
        change_shared(session, changed, recipe)
        return start_run(session, plan_run(session, choose(session).chosen)).id


@pytest.fixture
def site(tmp_path: Path, store: Store) -> tuple[Store, Path]:
    for number, name in enumerate(("a.png", "b.png")):
        photo(60, 40, number).pngsave(str(tmp_path / name))
        blob = store.blobs.put_file(tmp_path / name)
        with store.changing() as session:
            bring_in(session, name, blob, "png")
    do_all(store, None)
    return store, tmp_path


def written(folder: Path) -> list[str]:
    return sorted(path.name for path in (folder / "img").glob("*.webp"))


def write(store: Store, run_id: str, folder: Path) -> list[str]:
    return write_run(store, run_id, folder, folder / "img", parse_plan("", "gefa.toml"))


def test_a_run_that_ends_late_does_not_replace_a_newer_one(site: tuple[Store, Path]) -> None:
    store, folder = site
    older, newer = start(store, "small"), start(store, "large")
    do_all(store, newer)
    assert write(store, newer, folder) == []
    assert written(folder) == ["a-40.webp", "b-40.webp"]
    before = (folder / "img" / MANIFEST).read_text()
    do_all(store, older)
    assert write(store, older, folder) == []
    assert written(folder) == ["a-40.webp", "b-40.webp"]
    manifest = Manifest.model_validate_json((folder / "img" / MANIFEST).read_text())
    was = Manifest.model_validate_json(before)
    assert [file.key for file in manifest.files] == [file.key for file in was.files]
    assert manifest.memory == was.memory


def test_damaged_files_of_the_server_are_told_and_not_written(site: tuple[Store, Path]) -> None:
    store, folder = site
    run_id = start(store, "small")
    do_all(store, run_id)
    with store.reading() as session:
        assert session.get_one(Run, run_id).finished
    assert write(store, run_id, folder) == []
    made = Manifest.model_validate_json((folder / "img" / MANIFEST).read_text())
    file = next(file for file in made.files if file.path == "a-20.webp")
    blob = store.blobs.local(file.sha256)
    blob.write_bytes(blob.read_bytes()[:-9])
    (folder / "img" / "a-20.webp").unlink()
    (reason,) = write(store, run_id, folder)
    assert "a-20.webp is damaged in the server's data" in reason
    assert written(folder) == ["b-20.webp"]


def test_who_edits_a_file_in_place_changes_no_other(site: tuple[Store, Path]) -> None:
    store, folder = site
    run_id = start(store, "small")
    do_all(store, run_id)
    assert write(store, run_id, folder) == []
    file = folder / "img" / "a-20.webp"
    made = file.read_bytes()
    with file.open("r+b") as opened:
        opened.write(b"edited")
    assert write(store, run_id, folder) == []
    assert file.read_bytes() == made, "the server still has the bytes that it made"

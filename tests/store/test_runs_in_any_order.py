"""Sources, plans and runs in every order of events: what is said to be up to date has the files
that an export of the same sources and the same plan makes."""

from __future__ import annotations

import hashlib
import tempfile
from datetime import UTC, datetime
from functools import cache
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from sqlmodel import Session, col, select

from gefa.core.deliver.manifest import Totals
from gefa.core.errors import GefaError
from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import expand, give_names
from gefa.core.make.stems import stems
from gefa.core.plan.plan import Plan, SliceEntry, Split
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.core.treat.recipe import Recipe
from gefa.store import desk
from gefa.store.desk_rows import Standing, desk_rows
from gefa.store.models import Run, Source, Task, TaskState, Variant, new_id
from gefa.store.plans import change_plan, change_shared, prepared_for, shared_plan, whole_plan
from gefa.store.recipes import save_recipe
from gefa.store.removal import remove_source
from gefa.store.run_choice import choose, plan_run
from gefa.store.run_manifest import manifest_of
from gefa.store.runs import run_again, start_run, stop_run, tally
from gefa.store.shown_cuts import cuts_mark, shown_cuts
from gefa.store.sources import bring_in, latest_revision, present
from gefa.store.standing import changed_sources, last_runs
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.store.waiting_runs import wait_for
from gefa.work.outlooks import start_waiting_runs
from gefa.work.perform import perform
from gefa.work.queue import Outcome
from gefa.work.settlers import settle
from tests.make import flat

NAMES = ("a.png", "a.jpg", "sea/a.png", "b.png")
HALVES = SliceEntry(split=Split(columns=2, rows=1))
"""two cuts of each source, so that one may fail and the other be stopped"""
PLACES = st.sampled_from([*NAMES, "sea/b.png", "old/a.png"])


@cache
def _store() -> Store:
    """One for all examples: opening one takes longer than a whole example."""
    return Store(Path(tempfile.mkdtemp(prefix="gefa-runs-")) / "data")


@cache
def _picture(number: int) -> bytes:
    return bytes(flat(40 + number, 30, (60 * number, 90, 120)).pngsave_buffer())


@cache
def _exported(pictures: tuple[tuple[str, int], ...], plans: tuple[str, ...]) -> dict[str, set[str]]:
    """What an export of exactly these pictures by these plans makes: paths and digests by source."""
    shared = stems(name for name, _ in pictures)
    documents = {name: read(_on_disk(number), name) for name, number in pictures}
    prepared = []
    for (name, _), text in zip(pictures, plans, strict=True):
        surveyed = survey(documents[name]).called(name, shared.get(name, ""))
        plan = Plan.model_validate_json(text)
        prepared.append(expand(surveyed, plan, default=True, folder=plan.folder_for(name)))
    give_names(prepared)
    found: dict[str, set[str]] = {}
    for (name, _), one in zip(pictures, prepared, strict=True):
        shelf = MemoryShelf()
        reports = [carry_out(job, lambda name=name: documents[name], shelf) for job in one.jobs]  # type: ignore[misc]
        found[name] = {f"{f.path} {f.sha256}" for report in reports for f in report.files}
    return found


@cache
def _on_disk(number: int) -> Path:
    file = Path(tempfile.mkdtemp()) / "picture.png"
    file.write_bytes(_picture(number))
    return file


class Runs(RuleBasedStateMachine):
    """A site of a few small pictures, whose tasks are done in this process, one at a time."""

    def __init__(self) -> None:
        super().__init__()
        self.store = _store()
        self.weighed: dict[str, list[str]] = {}
        with self.store.changing() as session:
            for source in present(session):
                desk.remove(session, [source])
            for source in session.exec(select(Source)).all():
                # Names of earlier examples are out of the way.
                source.name = f"{source.name.rpartition('/')[2]} {new_id()}"
                session.add(source)
            for task in session.exec(select(Task).where(Task.state == TaskState.QUEUED)).all():
                session.delete(task)
            for run in session.exec(select(Run).where(col(Run.finished).is_(None))).all():
                stop_run(session, run)
            save_recipe(session, "tiny", _recipe(20), "Began")
            change_shared(session, Plan(default="tiny", slices=(HALVES,)), "Began")
            bring_in(session, "a.png", self.store.blobs.put(_picture(0)), "png")

    # -- what people do ------------------------------------------------------------------

    @rule(name=st.sampled_from(NAMES), number=st.integers(0, 3))
    def save(self, name: str, number: int) -> None:
        with self.store.changing() as session:
            bring_in(session, name, self.store.blobs.put(_picture(number)), "png")

    @rule(width=st.sampled_from([20, 30]), whose=st.sampled_from(["recipe", "default", *NAMES]))
    def edit(self, width: int, whose: str) -> None:
        with self.store.changing() as session:
            if whose == "recipe":
                save_recipe(session, "tiny", _recipe(width), f"{width} px")
            elif whose == "default":
                plan = shared_plan(session).model_copy(
                    update={"default": "tiny" if width == 20 else "icon"}
                )
                change_shared(session, plan, "Another default")
            else:
                for source in (one for one in present(session) if one.name == whose):
                    own = Plan(default="tiny" if width == 20 else None)
                    change_plan(session, source, own, "Its own")

    @rule(name=st.sampled_from(NAMES), to=PLACES)
    def move(self, name: str, to: str) -> None:
        with self.store.changing() as session:
            ids = [source.id for source in present(session) if source.name == name]
            try:
                desk.move(session, dict.fromkeys(ids, to))
            except GefaError:
                session.rollback()

    @rule(name=PLACES, back=st.booleans())
    def remove(self, name: str, back: bool) -> None:
        with self.store.changing() as session:
            there = [source for source in present(session) if source.name == name]
            if there and not back:
                desk.remove(session, there)
            elif back:
                gone = [source for source in desk.removed_sources(session) if source.name == name]
                try:
                    desk.restore(session, gone)
                except GefaError:
                    session.rollback()

    @rule(name=st.sampled_from(NAMES))
    def run_and_delete_one_for_good(self, name: str) -> None:
        self.save("b.png", 3)
        self.save(name, 1)
        self.run(all=True, between=None)
        self.work_off()
        self.remove(name, back=False)
        with self.store.changing() as session:
            for source in desk.removed_sources(session):
                if source.name == name:
                    remove_source(session, source)

    @rule(all=st.booleans(), between=st.sampled_from([None, 20, 30]))
    def run(self, all: bool, between: int | None) -> None:
        """``between``: somebody saves the recipe after the run was planned, before it starts."""
        with self.store.reading() as session:
            choice = choose(session, None if all else changed_sources(session))
            planned = plan_run(session, choice.chosen)
        if between is not None:
            self.edit(between, "recipe")
        if choice.empty:
            return
        with self.store.changing() as session:
            if choice.reading:
                wait_for(session, choice, "")
            else:
                start_run(session, planned, choice.refused)

    @rule(again=st.booleans())
    def stop_or_try_again(self, again: bool) -> None:
        with self.store.changing() as session:
            newest = session.exec(select(Run).order_by(col(Run.id).desc()).limit(1)).first()
            if newest is None:
                return
            if again:
                run_again(session, newest)
            else:
                stop_run(session, newest)

    @rule()
    def run_fail_stop_and_try_again(self) -> None:
        self.work_off()
        self.edit(30, "default")
        self.edit(20, "default")
        self.run(all=True, between=None)
        self.work("failed", last=False)
        self.stop_or_try_again(again=False)
        self.stop_or_try_again(again=True)

    @rule()
    def run_fail_in_part_and_try_again(self) -> None:
        self.work_off()
        self.run(all=True, between=20)
        self.work("partly", last=False)
        self.work_off()
        self.what_pages_weigh_is_never_stale()
        self.stop_or_try_again(again=True)
        self.work_off()

    # -- what the server does --------------------------------------------------------------

    @rule(how=st.sampled_from(["done", "done", "failed", "partly"]), last=st.booleans())
    def work(self, how: str, last: bool) -> None:
        with self.store.reading() as session:
            tasks = session.exec(
                select(Task).where(Task.state == TaskState.QUEUED).order_by(col(Task.id))
            ).all()
        if tasks:
            self._settle(tasks[-1 if last else 0], how)

    @rule()
    def work_off(self) -> None:
        while self._open():
            self.work("done", last=False)
            self.start_waiting()

    @rule()
    def start_waiting(self) -> None:
        start_waiting_runs(self.store)

    def _open(self) -> bool:
        with self.store.reading() as session:
            return bool(session.exec(select(Task.id).where(Task.state == TaskState.QUEUED)).first())

    def _settle(self, task: Task, how: str) -> None:
        outcome = Outcome(job=task.id, problem="it broke")
        if how != "failed":
            report = perform(self.store.folder, task.id, task.kind.value, task.task, 1)
            if how == "partly" and task.kind is TaskKind.CUT and report["files"]:
                lost = report["files"].pop()
                source, reason = report["record"]["source"], f"{lost['path']} broke"
                report["failed"].append({"cut": task.name, "source": source, "reason": reason})
            outcome = Outcome(job=task.id, report=report)
        with self.store.changing() as session:
            now = session.get(Task, task.id)
            if now is not None and now.state is TaskState.QUEUED:
                settle(session, now, outcome)

    # -- what has to hold -------------------------------------------------------------------

    @invariant()
    def what_is_up_to_date_is_what_an_export_makes(self) -> None:
        with self.store.reading() as session:
            said = [row.name for row in desk_rows(session) if row.standing is Standing.UP_TO_DATE]
            if not said:
                return
            runs = last_runs(session)
            expected = self._expected(session)
            for source in present(session):
                if source.name in said:
                    made = session.exec(
                        select(Variant)
                        .join(Task, col(Task.id) == col(Variant.job_id))
                        .where(
                            Variant.run_id == runs[source.id].run_id, Task.source_id == source.id
                        )
                    ).all()
                    assert {f"{f.path} {f.sha256}" for f in made} == expected[source.name]

    @invariant()
    def the_newest_run_has_the_sums_of_its_files(self) -> None:
        with self.store.reading() as session:
            run = session.exec(select(Run).order_by(col(Run.id).desc()).limit(1)).first()
            if run is not None and run.finished is not None:
                sums, counted = manifest_of(session, run).totals(), tally(session, run.id)
                assert Totals(**run.totals) == sums
                assert counted.files == sums.made + sums.reused
                assert (counted.reused, counted.bytes) == (sums.reused, sums.bytes)

    @invariant()
    def what_pages_weigh_is_never_stale(self) -> None:
        with self.store.reading() as session:
            mark = cuts_mark(session)
            names = session.exec(select(Task.name).where(col(Task.run_id).is_not(None))).all()
            files = shown_cuts(session, set(names)).manifest.files
            found = sorted(f"{file.source} {file.path} {file.sha256}" for file in files)
            assert self.weighed.setdefault(mark, found) == found

    def _expected(self, session: Session) -> dict[str, set[str]]:
        by_blob = {hashlib.sha256(_picture(n)).hexdigest(): n for n in range(4)}
        pictures, plans = [], []
        for source in sorted(present(session), key=lambda one: one.name):
            revision = latest_revision(session, source.id)
            assert revision is not None
            pictures.append((source.name, by_blob[revision.blob]))
            plans.append(whole_plan(session, source).model_dump_json())
        return _exported(tuple(pictures), tuple(plans))

    def teardown(self) -> None:
        self.work_off()
        self.start_waiting()
        self.work_off()
        with self.store.reading() as session:
            assert not session.exec(select(Run).where(col(Run.finished).is_(None))).first(), (
                "it ends"
            )
        self.what_is_up_to_date_is_what_an_export_makes()


def _recipe(width: int) -> Recipe:
    return Recipe(formats=("png",), widths=(width,))


TestRuns = Runs.TestCase
TestRuns.settings = settings(max_examples=10, stateful_step_count=20, deadline=None)


def test_year_and_month_are_those_of_the_day_a_source_came_in(store: Store) -> None:
    """Also when a new revision comes, and the recipe is run, in another year."""
    dated = _recipe(20).model_copy(update={"name": "{yyyy}/{mm}/{cut}.{ext}"})
    with store.changing() as session:
        save_recipe(session, "tiny", dated, "Dated")
        change_shared(session, Plan(default="tiny"), "Dated")
        source, _ = bring_in(session, "a.png", store.blobs.put(_picture(0)), "png")
        source.created = datetime(2024, 3, 9, tzinfo=UTC)
        session.add(source)
        bring_in(session, "a.png", store.blobs.put(_picture(1)), "png")
        revision = latest_revision(session, source.id)
        assert revision is not None
        revision.survey = survey(read(_on_disk(1), "a.png")).model_dump(mode="json")
        prepared = prepared_for(session, source, revision, whole_plan(session, source))
        assert [v.path for job in prepared.jobs for v in job.variants] == ["2024/03/a.png"]

"""Uploads in every order of events: nothing unseen is served, nothing approved is lost."""

from __future__ import annotations

import hashlib
import tempfile
from functools import cache
from pathlib import Path
from typing import Any

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule
from sqlmodel import Session, select

from gefa.core.errors import GefaError
from gefa.store.models import Slot, Task, TaskState, Upload, UploadState, new_id
from gefa.store.slots import add_slot, change_settings, settings_of
from gefa.store.store import Store
from gefa.store.sweep import sweep_blobs, sweep_originals
from gefa.store.uploads import (
    Described,
    accept,
    approve,
    describe,
    make_all_again,
    reject,
    remove,
    replace,
    restore,
)
from gefa.store.variants import newest_revision, newest_variants, variants_of_upload
from gefa.work.queue import Outcome
from gefa.work.settlers import settle
from tests.store.test_slots import report, sent


@cache
def _store() -> Store:
    """One for all examples, each with a slot of its own: opening one takes longer than a whole
    example."""
    return Store(Path(tempfile.mkdtemp(prefix="gefa-review-")) / "data")


class Review(RuleBasedStateMachine):
    """One upload to one slot. A picture is known by its number; its files' digests begin with it,
    as a worker's files depend on the picture."""

    def __init__(self) -> None:
        super().__init__()
        self.store = _store()
        self.number = 1
        with self.store.changing() as session:
            slot = add_slot(session, f"gallery-{new_id()}", {"review": True})
            self.upload = accept(session, slot, self._picture()).id
        self.swept = False
        self.allowed: set[int] = set()
        """pictures that somebody approved, or that were settled while nobody had to"""
        self.live: int | None = None
        """the picture that has to be served"""
        self.looked: tuple[str, int] | None = None
        """what a reviewer's open page shows: a revision, and its picture"""

    def teardown(self) -> None:
        while self._open():
            self.work(0, "made")
        with self.store.reading() as session:
            state = session.get_one(Upload, self.upload).state
            assert state not in (UploadState.PROCESSING, UploadState.RECEIVED), "it settles"

    def _picture(self) -> Any:
        return sent(self.store, f"picture {self.number}".encode(), f"{self.number}.jpg")

    def _number_of(self, blob: str) -> int:
        for number in range(1, self.number + 1):
            if hashlib.sha256(f"picture {number}".encode()).hexdigest() == blob:
                return number
        raise AssertionError(f"no picture has the blob {blob}")

    def _of(self, session: Session) -> tuple[Upload, Slot]:
        upload = session.get_one(Upload, self.upload)
        return upload, session.get_one(Slot, upload.slot_id)

    def _open(self) -> list[str]:
        with self.store.reading() as session:
            mine = Task.state == TaskState.QUEUED, Task.upload_id == self.upload
            query = select(Task.id).where(*mine).order_by(Task.id)
            return list(session.exec(query).all())

    # -- what people do ------------------------------------------------------------------

    @precondition(lambda self: self.number < 8)
    @rule(made=st.booleans())
    def replace(self, made: bool) -> None:
        self.number += 1
        with self.store.changing() as session:
            replace(session, *self._of(session), self._picture())
        if made:
            self.work(-1, "made")

    @rule(yes=st.booleans())
    def decide_on_an_old_page(self, yes: bool) -> None:
        if self.looked is None:
            return
        revision, picture = self.looked
        try:
            with self.store.changing() as session:
                upload, slot = self._of(session)
                waits = bool(upload.earlier)
                if yes:
                    approve(session, upload, slot, revision)
                else:
                    reject(session, upload, "Blurred", revision)
        except GefaError:
            return
        if yes:
            self.allowed.add(picture)
            self.live = picture
        elif not waits:
            self.live = None

    @rule(yes=st.sampled_from([True, True, False]))
    def look_and_decide(self, yes: bool) -> None:
        self.look()
        self.decide_on_an_old_page(yes)

    def look(self) -> None:
        with self.store.reading() as session:
            newest = newest_variants(session, self.upload)
            revision = newest_revision(session, self.upload)
        if newest and revision:
            self.looked = revision, int(newest[0].sha256[0])

    @rule(
        what=st.sampled_from(["remove", "restore", "focal point", "no review", "review", "sweep"])
    )
    def other_things_happen(self, what: str) -> None:
        if what == "sweep":
            self.sweep()
            return
        with self.store.changing() as session:
            upload, slot = self._of(session)
            if what == "remove":
                remove(session, upload)
            elif what == "restore":
                restore(session, upload)
            elif what == "focal point" and not upload.original_gone:
                described = Described(focal_x=self.number / 9, focal_y=0.5)
                describe(session, upload, slot, described)
            elif "review" in what:
                original = "never" if self.number % 2 else "always"
                changes = {"review": what == "review", "original": original}
                changes["name"] = f"{{source}}-{{width}}-{self.number}.{{ext}}"
                change_settings(session, slot, changes)
                make_all_again(session, slot)

    # -- what machines do ----------------------------------------------------------------

    @rule()
    def make_the_newest_and_look(self) -> None:
        self.work(-1, "made")
        self.look()

    @rule(at=st.integers(-1, 2), end=st.sampled_from(["made", "refused", "crashed", "twice"]))
    def work(self, at: int, end: str) -> None:
        """A worker answers, in any order; a crash is told after two tries, an answer may come
        twice."""
        tasks = self._open()
        if not tasks:
            return
        task_id = tasks[at % len(tasks)]
        for _ in range(2 if end == "twice" else 1):
            with self.store.changing() as session:
                task = session.get_one(Task, task_id)
                if task.state is not TaskState.QUEUED:
                    break
                self._settle(session, task, end, newest=task_id == tasks[-1])

    def _settle(self, session: Session, task: Task, end: str, *, newest: bool) -> None:
        upload, slot = self._of(session)
        number = self._number_of(str(task.task["blob"]))
        told = Outcome(job=task.id, report=report(str(number)))
        if end in ("refused", "crashed"):
            told = Outcome(job=task.id, problem="It broke.", refused=end == "refused")
        free = not settings_of(session, slot).review and not upload.reason
        counts = newest and task.task["blob"] == upload.blob
        settle(session, task, told)
        if told.report is not None and counts and (free or upload.approved):
            self.allowed.add(number)
            self.live = number

    def sweep(self) -> None:
        if self.swept:
            return  # it takes as long as ten other steps
        self.swept = True
        with self.store.changing() as session:
            sweep_originals(session, self.store.blobs, fresh=-1)
            sweep_blobs(session, self.store.blobs, unused=-1, anyway=True)

    # -- what always holds ---------------------------------------------------------------

    @invariant()
    def nothing_unseen_is_served_and_nothing_approved_is_lost(self) -> None:
        with self.store.reading() as session:
            upload = session.get_one(Upload, self.upload)
            served = {int(v.sha256[0]) for v in variants_of_upload(session, self.upload)}
            assert served <= self.allowed, "nobody approved it"
            assert served == ({self.live} if self.live else set()), upload.state
            if upload.blob and not upload.original_gone:
                assert self.store.blobs.path(upload.blob).exists(), "it was accepted"


Review.TestCase.settings = settings(max_examples=100, stateful_step_count=25, deadline=None)
TestReview = Review.TestCase

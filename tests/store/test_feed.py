"""The feed at any size: what triggers keep beside the uploads, and how queries read it."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import hypothesis.strategies as st
import pytest
from hypothesis import settings
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from sqlalchemy import event
from sqlmodel import Session, select

from gefa.store.feed import FeedQuery, all_tags, counts, feed, latest_live, uploads_of
from gefa.store.models import Slot, Task, TaskState, Upload, UploadState, Variant
from gefa.store.slots import add_slot, change_settings
from gefa.store.store import Store
from gefa.store.sweep import forget_upload
from gefa.store.task_kinds import TaskKind
from gefa.store.uploads import count_outdated, note_slot_treatments, outdated, treatment_by
from gefa.store.variants import newest_variants, variants_of_upload, variants_of_uploads

WORDS = ("Räume", "dune-at", "noon", "KITE", 'a "quoted" one', "x'); --", "日本")
TAGS = ("beach", "Wide", "räume", "2026")


def new_upload(slot: Slot, name: str, alt: str = "", tags: tuple[str, ...] = ()) -> Upload:
    return Upload(
        slot_id=slot.id, name=name, alt=alt, tags=list(tags), blob="b", bytes=1, format="jpeg"
    )


class Feed(RuleBasedStateMachine):
    """Counts, tags and words say what the uploads say, whatever is done to these in any order."""

    @initialize()
    def begin(self) -> None:
        self.folder = Path(_FOLDERS.mktemp("feed"))
        self.store = Store(self.folder)
        with self.store.changing() as session:
            self.slots = [add_slot(session, name) for name in ("gallery", "stalls")]
        self.ids: list[str] = []

    @rule(slot=st.integers(0, 1), word=st.sampled_from(WORDS), tags=st.sets(st.sampled_from(TAGS)))
    def send(self, slot: int, word: str, tags: set[str]) -> None:
        with self.store.changing() as session:
            upload = new_upload(self.slots[slot], f"{word}.jpg", tags=tuple(sorted(tags)))
            session.add(upload)
            self.ids.append(upload.id)

    @rule(
        at=st.integers(0, 99),
        alt=st.sampled_from(WORDS),
        tags=st.lists(st.sampled_from(TAGS), max_size=3),
        state=st.sampled_from(UploadState),
        removed=st.booleans(),
        slot=st.integers(0, 1),
    )
    def change(
        self, at: int, alt: str, tags: list[str], state: UploadState, removed: bool, slot: int
    ) -> None:
        if self.ids:
            with self.store.changing() as session:
                upload = session.get_one(Upload, self.ids[at % len(self.ids)])
                upload.alt, upload.tags, upload.state = alt, tags, state
                upload.slot_id = self.slots[slot].id
                upload.removed = datetime(2026, 1, 1, tzinfo=UTC) if removed else None
                session.add(upload)

    @rule(at=st.integers(0, 99))
    def forget(self, at: int) -> None:
        if self.ids:
            with self.store.changing() as session:
                id = self.ids.pop(at % len(self.ids))
                forget_upload(session, session.get_one(Upload, id))

    @invariant()
    def all_agree(self) -> None:
        with self.store.reading() as session:
            every = session.exec(select(Upload)).all()
            there = [upload for upload in every if upload.removed is None]
            assert counts(session) == Counter((one.slot_id, one.state) for one in there)
            assert all_tags(session) == sorted({tag for one in every for tag in one.tags})
            for slot in self.slots:
                own = [one for one in every if one.slot_id == slot.id]
                gone = sum(one.removed is not None for one in own)
                assert uploads_of(session, slot) == (len(own) - gone, gone)
            for tag in TAGS:
                tagged = [one.id for one in there if tag in one.tags]
                assert found(session, tag=tag) == sorted(tagged, reverse=True)
            for words, parts in (("RAUM", ("Räum", "räum")), ('"quoted', ("quoted",))):
                named = [
                    one.id
                    for one in there
                    if any(part in f"{one.name} {one.alt} {one.tags}" for part in parts)
                ]
                assert found(session, q=words) == sorted(named, reverse=True)

    def teardown(self) -> None:
        if hasattr(self, "store"):
            self.store.close()


_FOLDERS: pytest.TempPathFactory
TestFeedInAnyOrder = Feed.TestCase
TestFeedInAnyOrder.settings = settings(max_examples=15, stateful_step_count=15, deadline=None)


@pytest.fixture(autouse=True, scope="module")
def _folders(tmp_path_factory: pytest.TempPathFactory) -> None:
    global _FOLDERS
    _FOLDERS = tmp_path_factory


def found(session: Session, **wanted: Any) -> list[str]:
    return [one.id for one in feed(session, FeedQuery(**wanted), 100).uploads]


def test_words_are_found_by_their_beginnings_without_accents(store: Store) -> None:
    with store.changing() as session:
        slot = add_slot(session, "gallery")
        room = new_upload(slot, "IMG_1234.jpg", "Die Räume am Meer", ("Küste",))
        kite = new_upload(slot, "kites-at-noon.png")
        session.add_all((room, kite))
    with store.reading() as session:
        for words in ("raume", "RÄUME meer", "img", "1234", "kuste", "  räu "):
            assert found(session, q=words) == [room.id], words
        for words in ("kites-at", "kite noon", "png"):
            assert found(session, q=words) == [kite.id], words
        for words in (
            "raume noon",
            '"',
            "*",
            "OR",
            'a" OR "img',
            "NEAR(x)",
            "^",
            "-",
            "\0",
            "a\0b",
        ):
            assert found(session, q=words) in ([], [room.id], [kite.id, room.id]), words
        assert found(session, q="raume", slot="gallery", state="received") == [room.id]
        assert found(session, q="raume", slot="nowhere") == []


def test_files_of_a_page_are_those_of_each_upload(store: Store) -> None:
    with store.changing() as session:
        slot = add_slot(session, "gallery")
        uploads = [new_upload(slot, f"{n}.jpg") for n in range(3)]
        session.add_all(uploads)
        session.flush()
        for upload in uploads[:2]:
            for number, (waiting, gone) in enumerate(
                ((False, True), (False, False), (True, False))
            ):
                task = Task(kind=TaskKind.UPLOAD, state=TaskState.DONE, upload_id=upload.id)
                session.add(task)
                session.flush()
                retired = datetime(2026, 1, 1, tzinfo=UTC) if gone else None
                session.add(
                    Variant(
                        job_id=task.id, upload_id=upload.id, cut="whole", path=f"{number}.webp",
                        format="webp", width=9, height=9, bytes=1, sha256=str(number),
                        waiting=waiting, retired=retired,
                    )
                )  # fmt: skip
    with store.reading() as session:
        ids = [upload.id for upload in uploads]
        served = variants_of_uploads(session, ids, newest=False)
        newest = variants_of_uploads(session, ids, newest=True)
        for id in ids:
            assert served[id] == list(variants_of_upload(session, id))
            assert newest[id] == list(newest_variants(session, id))
        assert [len(served[id]) for id in ids] == [1, 1, 0]


def test_what_a_slot_would_make_otherwise_is_counted(store: Store) -> None:
    with store.changing() as session:
        slot = add_slot(session, "gallery")
        by = treatment_by(session, slot)
        now, busy, before = (new_upload(slot, name) for name in ("now", "busy", "before"))
        now.treatment, now.slot_treatment = by.of(now), by.of_slot
        busy.treatment, busy.slot_treatment = "x", "y"
        # From before there was a column for the slot's part.
        before.treatment = by.of(before)
        session.add_all((now, busy, before))
        session.flush()
        session.add(Task(kind=TaskKind.UPLOAD, upload_id=busy.id))
    with store.changing() as session:
        assert count_outdated(session, slot) == 0
        assert note_slot_treatments(session, 10) == 1
        assert note_slot_treatments(session, 10) == 0
        assert count_outdated(session, slot) == 0
        change_settings(session, slot, {"crops": [{"name": "card", "ratio": "3:2"}]})
        assert {one.name for one in outdated(session, slot)} == {"now", "before"}


LARGE = ("upload", "variant", "upload_tag", "upload_number", "job")


def test_no_query_of_the_feed_reads_a_large_table_through(store: Store) -> None:
    with store.changing() as session:
        slot = add_slot(session, "gallery")
        session.add(new_upload(slot, "a.jpg", "b", ("c",)))
    with store.reading() as session, Sent(session) as statements:
        for wanted in (
            {}, {"q": "a"}, {"slot": "gallery"}, {"tag": "c"}, {"state": "held"},
            {"state": "removed"}, {"q": "a", "slot": "gallery", "state": "live"},
        ):  # fmt: skip
            feed(session, FeedQuery.model_validate(wanted), 48)
        counts(session)
        latest_live(session, slot.id, 8)
        uploads_of(session, slot)
        count_outdated(session, slot)
        variants_of_uploads(session, ["a", "b"], newest=True)
    assert len(statements) > 15
    with store.engine.connect() as connection:
        for statement, values in statements:
            plan = connection.exec_driver_sql(f"EXPLAIN QUERY PLAN {statement}", values)
            for _, _, _, step in plan:
                table = step.removeprefix("SCAN ").split()[0]
                whole = step.startswith("SCAN ") and "INDEX" not in step
                assert not (whole and table in LARGE), f"{step}: {statement}"
                assert "TEMP B-TREE FOR ORDER BY" not in step or "variant" in statement, statement


class Sent:
    """The statements that a session sends within the block, with their values."""

    def __init__(self, session: Session) -> None:
        self._connection = session.connection()
        self._statements: list[tuple[str, Any]] = []

    def _note(self, _: object, __: object, statement: str, values: Any, *___: object) -> None:
        if statement.startswith("SELECT"):
            self._statements.append((statement, values))

    def __enter__(self) -> list[tuple[str, Any]]:
        event.listen(self._connection, "before_cursor_execute", self._note)
        return self._statements

    def __exit__(self, *_: object) -> None:
        event.remove(self._connection, "before_cursor_execute", self._note)

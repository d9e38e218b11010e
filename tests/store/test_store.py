from __future__ import annotations

import hashlib
import io
import os
from pathlib import Path

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import text
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlmodel import SQLModel, select

from gefa.core.files import write_whole
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.treat.made import MadeVariant
from gefa.store.blobs import Blob, BlobShelf, BlobStore
from gefa.store.models import Revision, RevisionState, Task, Variant, new_id
from gefa.store.plans import change_plan, own_plan, redo, undo, ways_of
from gefa.store.sources import all_sources, bring_in, latest_revision
from gefa.store.store import Store


def test_the_migrations_make_just_the_tables_of_the_models(store: Store) -> None:
    def modelled(name: str | None, kind: str, *_: object) -> bool:
        # The tables of a full-text index are SQLite's own.
        return kind != "table" or not str(name).startswith("upload_words")

    with store.engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"include_name": modelled})
        assert compare_metadata(context, SQLModel.metadata) == []


def test_the_database_is_set_up_to_last(store: Store) -> None:
    with store.session() as session:
        assert session.execute(text("PRAGMA journal_mode")).scalar() == "wal"
        assert session.execute(text("PRAGMA foreign_keys")).scalar() == 1
    with pytest.raises(IntegrityError), store.session() as session:
        session.add(
            Variant(
                job_id="none", cut="", path="", format="", width=1, height=1, bytes=1, sha256=""
            )
        )


def test_what_is_shown_is_of_one_moment_and_changes_nothing(store: Store) -> None:
    def called() -> list[str]:
        return [source.name for source, _ in all_sources(session)]

    with store.session() as session:
        bring_in(session, "a.png", store.blobs.put(b"a"), "png")
    with store.reading() as session:
        assert called() == ["a.png"]
        with store.session() as other:
            bring_in(other, "b.png", store.blobs.put(b"b"), "png")
        assert called() == ["a.png"]
    with pytest.raises(OperationalError, match="readonly"), store.reading() as session:
        bring_in(session, "c.png", store.blobs.put(b"c"), "png")
    with store.session() as session:
        bring_in(session, "d.png", store.blobs.put(b"d"), "png")
        assert sorted(called()) == ["a.png", "b.png", "d.png"]


def test_opening_a_store_again_keeps_what_is_in_it(tmp_path: Path) -> None:
    for _ in range(2):
        store = Store(tmp_path)
        with store.session() as session:
            bring_in(session, "a.png", Blob("1" * 64, 3), "png")
        store.close()
    store = Store(tmp_path)
    with store.session() as session:
        assert len(session.exec(select(Revision)).all()) == 1
    store.close()


def test_ids_sort_by_time_and_cannot_be_guessed() -> None:
    ids = [new_id() for _ in range(200)]
    assert len(set(ids)) == 200
    assert ids == sorted(ids), "also those of one millisecond"
    assert len({i[-12:] for i in ids}) == 200


def test_a_blob_is_stored_under_its_digest_once(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    data = os.urandom(3_000_000)
    blob = blobs.take(io.BytesIO(data))
    assert blob == Blob(hashlib.sha256(data).hexdigest(), len(data)) == blobs.put(data)
    assert blobs.path(blob.sha256).read_bytes() == data
    assert [path for path in tmp_path.rglob("*") if path.is_file()] == [blobs.path(blob.sha256)]


def test_what_breaks_off_leaves_nothing(tmp_path: Path) -> None:
    class Broken(io.BytesIO):
        def read(self, size: int | None = -1) -> bytes:
            raise ConnectionError

    with pytest.raises(ConnectionError):
        BlobStore(tmp_path).take(Broken())
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]


def test_what_a_killed_process_left_is_swept_away(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    (tmp_path / "incoming" / "tmpabc").write_bytes(b"half")
    blobs.sweep()
    assert not list((tmp_path / "incoming").iterdir())


def test_a_file_is_written_whole_or_not_at_all(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = tmp_path / "file"
    write_whole(target, b"old")

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space"):
        write_whole(target, b"new")
    assert target.read_bytes() == b"old"
    assert list(tmp_path.iterdir()) == [target]


def test_a_shelf_tells_its_own_from_what_was_there(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    made = MadeVariant(sha256=hashlib.sha256(b"data").hexdigest(), bytes=4)
    mine = BlobShelf(blobs, "job 1")
    assert mine.known(["k"]) == {}
    mine.put("k", made, b"data")
    again, other = BlobShelf(blobs, "job 1"), BlobShelf(blobs, "job 2")
    assert again.known(["k"]) == other.known(["k"]) == {"k": made}
    assert (again.is_new("k"), other.is_new("k")) == (True, False)
    looked_at = made.model_copy(update={"score": 71.5})
    other.note("k", looked_at)
    assert BlobShelf(blobs, "job 3").known(["k"]) == {"k": looked_at}
    assert other.load("k") == b"data"
    assert other.place("k", "anywhere")
    blobs.path(made.sha256).unlink()
    assert not mine.place("k", "anywhere"), "a note without its blob is no file"
    assert mine.load("k") is None


def test_notes_that_nobody_uses_are_swept(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    shelf = BlobShelf(blobs, "job")
    for key in ("used", "unused"):
        shelf.put(key, MadeVariant(sha256=blobs.put(key.encode()).sha256, bytes=6), None)
    for note in tmp_path.glob("made/*/*.json"):
        os.utime(note, (1, 1))
    assert shelf.place("used", "")
    assert blobs.sweep_notes(3600) == 1
    assert set(BlobShelf(blobs, "other").known(["used", "unused"])) == {"used"}


def test_the_same_name_makes_a_revision_and_the_same_bytes_nothing(store: Store) -> None:
    with store.session() as session:
        source, first = bring_in(session, "d.ora", Blob("1" * 64, 3), "openraster")
        assert bring_in(session, "d.ora", Blob("1" * 64, 3), "openraster")[1].id == first.id
        again, second = bring_in(session, "d.ora", Blob("2" * 64, 3), "openraster")
        assert again.id == source.id
        assert second.number == 2
        bring_in(session, "other.png", Blob("3" * 64, 3), "png")
        assert [(s.name, r.number) for s, r in all_sources(session)] == [
            ("other.png", 1),
            ("d.ora", 2),
        ]
        assert len(session.exec(select(Task)).all()) == 3


def test_a_revision_that_failed_can_be_brought_in_again(store: Store) -> None:
    with store.session() as session:
        source, first = bring_in(session, "d.ora", Blob("1" * 64, 3), "openraster")
        first.state = RevisionState.FAILED
        session.add(first)
        session.flush()
        assert bring_in(session, "d.ora", Blob("1" * 64, 3), "openraster")[1].number == 2
        newest = latest_revision(session, source.id)
        assert newest is not None
        assert newest.number == 2


def test_a_plan_can_be_undone_and_redone_step_by_step(store: Store) -> None:
    plans = [Plan(cuts=(CutEntry(part="a", name=f"v{n}"),)) for n in range(3)]
    with store.session() as session:
        source, _ = bring_in(session, "d.ora", Blob("1" * 64, 3), "openraster")
        for number, plan in enumerate(plans):
            change_plan(session, source, plan, f"step {number}")
        assert undo(session, source) == "step 2"
        assert undo(session, source) == "step 1"
        assert own_plan(session, source) == plans[0]
        assert ways_of(session, source) == ("step 0", "step 1")
        assert redo(session, source) == "step 1"
        change_plan(session, source, plans[0], "another way")
        assert redo(session, source) == ""
        change_plan(session, source, plans[0], "nothing new")
        for _ in range(5):
            undo(session, source)
        assert own_plan(session, source) == Plan()

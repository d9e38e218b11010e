"""Backups hold everything that the database needs, and bring it back."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlmodel import select

from gefa.store import backup
from gefa.store.backup import BackupError, FolderTarget, back_up, kept_of, restore
from gefa.store.database import DATABASE, FolderTrouble
from gefa.store.models import Source
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.sweep import backed_up


def bring(store: Store, name: str, data: bytes) -> str:
    blob = store.blobs.put(data)
    with store.changing() as session:
        bring_in(session, name, blob, "png")
    return blob.sha256


def names(store: Store) -> list[str]:
    with store.reading() as session:
        return sorted(session.exec(select(Source.name)).all())


def test_what_was_backed_up_comes_back(store: Store, tmp_path: Path) -> None:
    target = FolderTarget(tmp_path / "backup")
    first = bring(store, "a.png", b"one")
    unused = store.blobs.put(b"nothing needs it").sha256
    done = back_up(store.folder, target)
    assert (done.blobs, done.copied, done.lost) == (1, 1, [])
    assert backed_up(store.folder) == {first}
    bring(store, "b.png", b"two")
    again = back_up(store.folder, target)
    assert (again.blobs, again.copied) == (2, 1), "the first is there already"

    home = tmp_path / "home"
    back = restore(home, target)
    assert (back.blobs, back.fetched, back.lost) == (2, 2, [])
    there = Store(home)
    assert names(there) == ["a.png", "b.png"]
    assert there.blobs.path(first).read_bytes() == b"one"
    assert not there.blobs.path(unused).exists()
    there.close()
    with pytest.raises(FolderTrouble, match=r"has a database already.*--replace"):
        restore(home, target)


def test_an_older_state_can_be_had(
    store: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = FolderTarget(tmp_path / "backup")
    bring(store, "a.png", b"one")
    first = back_up(store.folder, target).generation
    later = datetime.now(UTC) + timedelta(hours=1)

    class Later(datetime):
        @classmethod
        def now(cls, tz: object = None) -> datetime:  # type: ignore[override]
            return later

    monkeypatch.setattr(backup, "datetime", Later)
    bring(store, "b.png", b"two")
    back_up(store.folder, target)
    store.close()
    done = restore(store.folder, target, first, replace=True)
    assert done.aside is not None
    assert (done.aside / DATABASE).exists()
    assert done.fetched == 0, "the pictures are all still there"
    there = Store(store.folder)
    assert names(there) == ["a.png"]
    there.close()
    with pytest.raises(BackupError, match="no generation 'never'"):
        restore(store.folder, target, "never", replace=True)


def test_what_is_lost_or_damaged_is_told_and_costs_nothing_else(
    store: Store, tmp_path: Path
) -> None:
    target = FolderTarget(tmp_path / "backup")
    lost, damaged, whole = (bring(store, f"{n}.png", str(n).encode() * 99) for n in range(3))
    store.blobs.path(lost).unlink()
    store.blobs.path(damaged).write_bytes(b"x" * 99)
    done = back_up(store.folder, target)
    assert sorted(done.lost) == sorted((lost, damaged))
    bad = tmp_path / "backup" / "blobs" / whole[:2] / whole
    bad.write_bytes(b"y")
    back = restore(tmp_path / "home", target)
    assert set(back.lost) >= {whole}
    assert not (tmp_path / "home" / "blobs" / whole[:2] / whole).exists(), "nothing wrong is kept"
    there = Store(tmp_path / "home", begin_anew=True)
    assert len(names(there)) == 3
    there.close()


def test_a_backup_is_one_state_while_somebody_writes(store: Store, tmp_path: Path) -> None:
    target = FolderTarget(tmp_path / "backup")
    bring(store, "a.png", b"one")
    with store.changing() as session:
        bring_in(session, "b.png", store.blobs.put(b"two"), "png")
        session.flush()
        generation = back_up(store.folder, target).generation
    copy = sqlite3.connect(tmp_path / "backup" / "generations" / f"{generation}.sqlite3")
    assert copy.execute("SELECT name FROM source").fetchall() == [("a.png",)]
    copy.close()


def test_old_generations_are_thinned() -> None:
    start = datetime(2026, 3, 1, tzinfo=UTC)
    hourly = [f"{start + timedelta(hours=hours):%Y%m%dT%H%M%S.%fZ}" for hours in range(24 * 200)]
    kept = sorted(kept_of(hourly))
    assert hourly[-3:] == kept[-3:]
    days = {name[:8] for name in hourly}
    assert all(any(name.startswith(day) for name in kept) for day in sorted(days)[-7:])
    assert {name[:6] for name in kept} == {name[:6] for name in hourly}, "one of each month"
    assert len(kept) < 25


def test_blobs_go_with_the_last_generation_that_needs_them(
    store: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = FolderTarget(tmp_path / "backup")
    blob = bring(store, "a.png", b"one")
    back_up(store.folder, target)
    with store.changing() as session:
        from gefa.store.removal import remove_source

        remove_source(session, session.exec(select(Source)).one())
    monkeypatch.setattr(backup, "kept_of", lambda generations: {max(generations)})
    done = back_up(store.folder, target)
    assert done.thinned == 1
    assert not list((tmp_path / "backup" / "blobs").glob("*/*"))
    assert blob not in backed_up(store.folder)

"""A data folder says what is wrong with it, and never forgets its pictures."""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import subprocess
import sys
from datetime import timedelta
from pathlib import Path

import pytest

from gefa.store.database import DATABASE, FolderTrouble
from gefa.store.folder import MARK, Mark, alone, check_folder, write_mark
from gefa.store.models import now
from gefa.store.store import Store


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    store = Store(tmp_path / "data")
    store.blobs.put(b"a picture")
    store.close()
    return tmp_path / "data"


def drop_database(folder: Path) -> None:
    for file in folder.glob(f"{DATABASE}*"):
        file.unlink()


@pytest.mark.parametrize("empty", [False, True])
def test_pictures_without_a_database_are_refused(folder: Path, empty: bool) -> None:
    drop_database(folder)
    if empty:
        (folder / DATABASE).touch()
    with pytest.raises(FolderTrouble, match=r"no database that names them.*gefa restore"):
        Store(folder)
    anew = Store(folder, begin_anew=True)
    assert not list(anew.blobs.all())
    (aside,) = folder.glob("blobs-before-*")
    assert [file.read_bytes() for file in aside.glob("*/*")] == [b"a picture"]
    anew.close()
    Store(folder).close()


def test_an_older_database_is_refused(folder: Path) -> None:
    shutil.copy(folder / DATABASE, folder.parent / "yesterday")
    later = Store(folder)
    later.show_life()
    later.close()
    drop_database(folder)
    shutil.copy(folder.parent / "yesterday", folder / DATABASE)
    with pytest.raises(FolderTrouble, match=r"is older than its pictures: it was last used 20\d\d"):
        Store(folder)
    Store(folder, begin_anew=True).close()
    Store(folder).close()


def test_the_database_of_another_folder_is_refused(folder: Path) -> None:
    Store(folder.parent / "other").close()
    drop_database(folder)
    shutil.copy(folder.parent / "other" / DATABASE, folder / DATABASE)
    with pytest.raises(FolderTrouble, match="not the one that this folder was used with"):
        Store(folder)


def test_damage_is_told_before_the_start(folder: Path) -> None:
    check_folder(folder, folder / "queue.sqlite3")
    (folder / "queue.sqlite3").write_bytes(b"rubbish" * 1000)
    with pytest.raises(FolderTrouble, match=r"queue\.sqlite3 cannot be used.*Move it away"):
        check_folder(folder, folder / "queue.sqlite3")
    database = bytearray((folder / DATABASE).read_bytes())
    with sqlite3.connect(folder / DATABASE) as live:
        live.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    live.close()
    database = bytearray((folder / DATABASE).read_bytes())
    database[4096:40960] = os.urandom(36864)
    (folder / DATABASE).write_bytes(database)
    with pytest.raises(FolderTrouble, match=r"gefa restore"):
        check_folder(folder, None)
    (folder / DATABASE).write_bytes(b"not a database at all" * 100)
    with pytest.raises(FolderTrouble, match="cannot be used: file is not a database"):
        Store(folder)


def test_a_clock_that_went_back_is_told(folder: Path) -> None:
    mark = Mark.model_validate_json((folder / MARK).read_bytes())
    write_mark(folder, mark.model_copy(update={"alive": now() + timedelta(hours=3)}))
    with pytest.raises(FolderTrouble, match=r"Set the clock, or start with --trust-clock"):
        check_folder(folder, None)
    check_folder(folder, None, trust_clock=True)
    (folder / MARK).unlink()
    with sqlite3.connect(folder / DATABASE) as live:
        live.execute("UPDATE installation SET alive = '2999-01-01 00:00:00.000000'")
    live.close()
    with pytest.raises(FolderTrouble, match=r"in use at 2999-01-01"):
        check_folder(folder, None)
    (folder / MARK).write_text("rubbish")
    with pytest.raises(FolderTrouble, match=r"alive\.json is damaged.*Delete alive\.json"):
        check_folder(folder, None)


def test_a_second_server_is_refused(folder: Path) -> None:
    command = [sys.executable, "-m", "gefa", "serve", "--data", str(folder), "--port", "0"]
    with alone(folder):
        second = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert second.returncode == 1
    told = second.stderr.strip().splitlines()
    assert len(told) == 1, "no traceback"
    assert re.search(rf"another server works with .*, process {os.getpid()}\. Stop it", told[0])


def test_data_of_a_newer_version_is_refused_in_words(folder: Path) -> None:
    with sqlite3.connect(folder / DATABASE) as database:
        database.execute("UPDATE alembic_version SET version_num = '9999_later'")
    database.close()
    command = [str(Path(sys.executable).with_name("gefa")), "serve", "--data", str(folder)]
    said = subprocess.run([*command, "--port", "0"], capture_output=True, text=True, timeout=120)
    assert said.returncode != 0
    assert "written by a newer version of Gefa" in " ".join(said.stderr.split())
    assert "Traceback" not in said.stderr

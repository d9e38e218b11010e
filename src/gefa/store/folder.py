"""Checks a data folder at start; says in one sentence what is wrong and what to do."""

from __future__ import annotations

import fcntl
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import quote

from pydantic import BaseModel, ValidationError
from sqlmodel import Session, select

from gefa.core.files import write_whole
from gefa.store.blobs import BlobStore
from gefa.store.database import DATABASE, FolderTrouble
from gefa.store.models import Installation, as_utc, now

MARK = "alive.json"
LOCK = "server.lock"
RESTORE = "Bring both back with `gefa restore`, or start with --begin-anew"
CLOCK_SLACK = timedelta(minutes=5)
"""by which clocks of machines sharing a folder may differ"""


class Mark(BaseModel):
    """The file beside the database: which database this folder belongs to, and when it was last
    used. Written right after the database notes the same, so that an older database can be
    recognised."""

    installation: str
    alive: datetime


def check_database(folder: Path, blobs: BlobStore, *, begin_anew: bool) -> None:
    """FolderTrouble if there is no database, but files that one must have known. With
    ``begin_anew`` these files are moved aside."""
    database = folder / DATABASE
    if database.exists() and database.stat().st_size:
        return
    if next(iter(blobs.all()), None) is None:
        return
    if begin_anew:
        blobs.put_aside(f"blobs-before-{now():%Y%m%d-%H%M%S}")
        return
    raise FolderTrouble(
        f"{folder} has pictures, but no database that names them.",
        advice=f"{RESTORE}: the pictures are put aside then, none is deleted.",
    )


def recognise(session: Session, folder: Path, *, begin_anew: bool) -> None:
    """Note that database and folder belong together. FolderTrouble if the folder was used with
    another database, or with a later state of this one."""
    here = session.exec(select(Installation)).first() or Installation()
    mark = _mark(folder)
    if mark is not None and not begin_anew:
        if mark.installation != here.id:
            raise FolderTrouble(
                f"the database in {folder} is not the one that this folder was used with.",
                advice=f"{RESTORE} to go on with this one.",
            )
        if mark.alive > as_utc(here.alive):
            raise FolderTrouble(
                f"the database in {folder} is older than its pictures: it was last used"
                f" {as_utc(here.alive):%Y-%m-%d %H:%M}, the folder {mark.alive:%Y-%m-%d %H:%M} UTC."
                " What came in between is not in it.",
                advice=f"{RESTORE} to go on with this one.",
            )
    session.add(here)
    session.flush()


def note_life(session: Session) -> Mark:
    """Note in the database that it is in use; returns the mark to write with ``write_mark`` after
    the commit."""
    here = session.exec(select(Installation)).one()
    # A clock that was set back must not make the folder look older than it is.
    here.alive = max(as_utc(here.alive), now())
    session.add(here)
    return Mark(installation=here.id, alive=here.alive)


def write_mark(folder: Path, mark: Mark) -> None:
    write_whole(folder / MARK, mark.model_dump_json().encode())


def _mark(folder: Path) -> Mark | None:
    """None without one; FolderTrouble for one that says nothing."""
    try:
        return Mark.model_validate_json((folder / MARK).read_bytes())
    except OSError:
        return None
    except ValidationError as error:
        raise FolderTrouble(
            f"{folder / MARK} is damaged, so nobody knows whether the database belongs to the"
            " pictures.",
            advice=f"Delete {MARK} if you are sure that it does, or bring both back with"
            " `gefa restore`.",
        ) from error


def _alive_in(database: Path) -> list[datetime]:
    """When the database was last in use, if it says so; it may be of an earlier version."""
    if not database.exists():
        return []
    with closing(sqlite3.connect(f"file:{quote(str(database))}?mode=ro", uri=True)) as opened:
        try:
            rows = opened.execute("SELECT alive FROM installation").fetchall()
        except sqlite3.Error:
            return []
    return [as_utc(datetime.fromisoformat(row[0])) for row in rows]


def _check_clock(folder: Path, alive: datetime) -> None:
    if alive > datetime.now(UTC) + CLOCK_SLACK:
        raise FolderTrouble(
            f"the clock of this machine says {datetime.now(UTC):%Y-%m-%d %H:%M} UTC, but {folder}"
            f" was in use at {alive:%Y-%m-%d %H:%M}.",
            advice="Set the clock, or start with --trust-clock if it is right.",
        )


def check_folder(folder: Path, queue: Path | None, *, trust_clock: bool = False) -> None:
    """Before a server starts: check that the folder is writable, its databases are intact, and the
    clock is not behind the folder's."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as error:
        raise FolderTrouble(
            f"{folder} cannot be written: {error.strerror}.",
            advice="Check who owns it, whether its disk is full or mounted read-only, or name"
            " another folder with --data.",
        ) from error
    _check_file(folder / DATABASE, "Bring it back with `gefa restore`, or start in another folder.")
    if queue is not None:
        _check_file(
            queue, "Move it away: what was accepted is in the database, and is done all the same."
        )
    mark = _mark(folder)
    times = [mark.alive] if mark is not None else []
    times += _alive_in(folder / DATABASE)
    if times and not trust_clock:
        _check_clock(folder, max(times))


def _check_file(file: Path, advice: str) -> None:
    """FolderTrouble if an SQLite file is damaged or read-only."""
    if not file.exists() or not file.stat().st_size:
        return
    try:
        with sqlite3.connect(file, timeout=30) as database:
            (state,) = database.execute("PRAGMA quick_check(1)").fetchone()
            # Taking the lock for writing shows whether the file and its folder can be written.
            database.execute("BEGIN IMMEDIATE")
            database.execute("ROLLBACK")
        database.close()
    except sqlite3.DatabaseError as error:
        raise FolderTrouble(f"{file} cannot be used: {error}.", advice=advice) from error
    if not os.access(file, os.W_OK):
        raise FolderTrouble(
            f"{file} cannot be written.", advice="Let the user that runs the server own it."
        )
    if state != "ok":
        raise FolderTrouble(f"{file} is damaged: {state}.", advice=advice)


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Lock the folder for this process. FolderTrouble if another process has it."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / LOCK).open("a+") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            lock.seek(0)
            raise FolderTrouble(
                f"another server works with {folder}, process {lock.read(20).strip() or '?'}.",
                advice="Stop it first, or name another folder with --data.",
            ) from error
        lock.truncate(0)
        lock.write(f"{os.getpid()}\n")
        lock.flush()
        yield

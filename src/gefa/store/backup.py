"""Backups: a consistent copy of the database and of every blob that it names, in a folder or a
bucket. What is there already is not copied again.

A backup holds::

    generations/20261126T063600.123456Z.sqlite3   the database as it was
    generations/20261126T063600.123456Z.names     the blobs that it names, one a line
    blobs/ab/ab12…                         each blob once, for all generations

A generation is written last, so each that is there is complete.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Protocol

from sqlmodel import Session, create_engine

from gefa.core.errors import GefaError
from gefa.core.files import lacks_room, sha256_of, write_whole
from gefa.store.blobs import BlobStore
from gefa.store.bucket import Bucket, blob_key
from gefa.store.database import DATABASE, FolderTrouble
from gefa.store.folder import MARK, alone
from gefa.store.places import blobs_for, places
from gefa.store.references import references
from gefa.store.sweep import NAMES_FILE, named

_STAMP = "%Y%m%dT%H%M%S.%fZ"
NEWEST = 3
"""generations that are always kept"""
DAYS, WEEKS, MONTHS = 7, 5, 12
"""days, weeks and months for which one generation each is kept"""
QUEUE_FILES = "queue.sqlite3"

Tell = Callable[[int, int], None]
"""called with the number of blobs done, and of all blobs"""


class BackupError(GefaError):
    """A backup that cannot be written or read."""


class Target(Protocol):
    """A place for backups."""

    def put(self, path: str, file: Path) -> None: ...
    def fetch(self, path: str, target: Path) -> None:
        """FileNotFoundError if there is no such file."""

    def list(self, folder: str) -> Iterator[str]:
        """Paths of all files under a folder."""

    def delete(self, path: str) -> None: ...


class FolderTarget:
    """A folder, preferably on another disk."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def put(self, path: str, file: Path) -> None:
        target = self._root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        draft = target.with_name(f".{target.name}.part")
        try:
            with file.open("rb") as source, draft.open("wb") as copy:
                shutil.copyfileobj(source, copy, 1 << 20)
                copy.flush()
                os.fsync(copy.fileno())
            os.replace(draft, target)
        finally:
            draft.unlink(missing_ok=True)

    def fetch(self, path: str, target: Path) -> None:
        shutil.copyfile(self._root / path, target)

    def list(self, folder: str) -> Iterator[str]:
        for file in (self._root / folder).rglob("*"):
            if file.is_file() and not file.name.startswith("."):
                yield file.relative_to(self._root).as_posix()

    def delete(self, path: str) -> None:
        (self._root / path).unlink(missing_ok=True)


class BucketTarget:
    """A bucket, or a prefix in one."""

    def __init__(self, bucket: Bucket) -> None:
        self._bucket = bucket

    def put(self, path: str, file: Path) -> None:
        self._bucket.put(path, file)

    def fetch(self, path: str, target: Path) -> None:
        self._bucket.fetch(path, target)

    def list(self, folder: str) -> Iterator[str]:
        for path, _ in self._bucket.list(f"{folder}/"):
            yield path

    def delete(self, path: str) -> None:
        self._bucket.delete(path)


def target_at(where: str) -> Target:
    """A folder, or ``s3://bucket/prefix``."""
    if where.startswith("s3://"):
        return BucketTarget(Bucket(where, places().s3_endpoint))
    return FolderTarget(Path(where))


@dataclass
class BackedUp:
    """The result of a backup: ``lost`` are blobs that the database needs and that are unreadable or
    damaged."""

    generation: str
    blobs: int = 0
    copied: int = 0
    bytes: int = 0
    lost: list[str] = field(default_factory=list)
    thinned: int = 0


def back_up(folder: Path, target: Target, tell: Tell = lambda done, of: None) -> BackedUp:
    """Back the data folder up while a server works with it."""
    if not (folder / DATABASE).exists():
        raise BackupError(f"there is no database in {folder}.", advice="Name it with --data.")
    with _one_backup(folder), tempfile.TemporaryDirectory(prefix="gefa-backup-") as room:
        copy = Path(room) / DATABASE
        _copy_database(folder / DATABASE, copy)
        blobs = blobs_for(folder)
        named_there, needed = _names_in(copy)
        present = set(blobs.all())
        # Digests of other things look like names of blobs.
        names = sorted(named_there & present)
        done = BackedUp(f"{datetime.now(UTC):{_STAMP}}", blobs=len(names))
        done.lost = sorted(needed - present)
        _copy_blobs(blobs, names, target, done, tell)
        listed = Path(room) / "names"
        listed.write_text("".join(f"{name}\n" for name in names))
        target.put(f"generations/{done.generation}.names", listed)
        target.put(f"generations/{done.generation}.sqlite3", copy)
        done.thinned = _thin(target)
        write_whole(folder / NAMES_FILE, listed.read_bytes())
    return done


@contextmanager
def _one_backup(folder: Path) -> Iterator[None]:
    with (folder / "backup.lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise BackupError(
                f"another backup of {folder} is under way.", advice="Wait until it is done."
            ) from error
        yield


def _copy_database(source: Path, target: Path) -> None:
    """SQLite's own backup: one consistent state of the database, even while others write."""
    try:
        with sqlite3.connect(source, timeout=30) as live, sqlite3.connect(target) as copy:
            live.backup(copy)
        live.close()
        copy.close()
    except sqlite3.DatabaseError as error:
        advice = "Check it with `gefa verify`; earlier backups are as they were."
        if lacks_room(error):
            advice = "Free some room for the copy, or set TMPDIR to a folder on a larger disk."
        raise BackupError(f"{source} cannot be copied: {error}.", advice=advice) from error


def _names_in(database: Path) -> tuple[set[str], set[str]]:
    """Everything in a database that looks like a blob's name, and the blobs it needs."""
    engine = create_engine(f"sqlite:///{database}")
    try:
        with Session(engine) as session:
            return named(session), {found.sha256 for found in references(session)}
    finally:
        engine.dispose()


def _copy_blobs(
    blobs: BlobStore, names: list[str], target: Target, done: BackedUp, tell: Tell
) -> None:
    there = {path.rpartition("/")[2] for path in target.list("blobs")}
    for number, name in enumerate(names, 1):
        if name not in there:
            path = blobs.path(name)
            # What is copied is read before: a backup must not keep what is damaged already.
            if blobs.is_whole(name):
                target.put(blob_key(name), path)
                done.copied += 1
                done.bytes += path.stat().st_size
            else:
                done.lost.append(name)
        tell(number, len(names))


def generations(target: Target) -> list[str]:
    """Names of the generations of a backup, oldest first."""
    return sorted(
        path.removeprefix("generations/").removesuffix(".sqlite3")
        for path in target.list("generations")
        if path.endswith(".sqlite3")
    )


def _thin(target: Target) -> int:
    """Delete old generations, and the blobs that only they need; returns how many generations."""
    there = generations(target)
    kept = kept_of(there)
    for generation in there:
        if generation not in kept:
            target.delete(f"generations/{generation}.sqlite3")
            target.delete(f"generations/{generation}.names")
    if len(kept) == len(there):
        return 0
    needed: set[str] = set()
    for generation in kept:
        needed.update(_names_of(target, generation))
    for path in list(target.list("blobs")):
        if path.rpartition("/")[2] not in needed:
            target.delete(path)
    return len(there) - len(kept)


def kept_of(generations: list[str]) -> set[str]:
    """The generations to keep: the newest, and for a while the last of each day, week and month."""
    newest_first = sorted(generations, reverse=True)
    kept = set(newest_first[:NEWEST])
    if not newest_first:
        return kept
    latest = _time_of(newest_first[0])
    for count, period in (
        (timedelta(days=DAYS), "%Y-%j"),
        (timedelta(weeks=WEEKS), "%G-%V"),
        (timedelta(days=31 * MONTHS), "%Y-%m"),
    ):
        seen = set()
        for generation in newest_first:
            time = _time_of(generation)
            if latest - time < count and f"{time:{period}}" not in seen:
                seen.add(f"{time:{period}}")
                kept.add(generation)
    return kept


def _time_of(generation: str) -> datetime:
    return datetime.strptime(generation, _STAMP).replace(tzinfo=UTC)


def _names_of(target: Target, generation: str) -> set[str]:
    with tempfile.NamedTemporaryFile() as file:
        target.fetch(f"generations/{generation}.names", Path(file.name))
        return set(Path(file.name).read_text().split())


@dataclass
class Restored:
    """The result of a restore; ``lost`` are blobs that are missing or damaged in the backup."""

    generation: str
    blobs: int = 0
    fetched: int = 0
    lost: list[str] = field(default_factory=list)
    aside: Path | None = None


def restore(
    folder: Path,
    target: Target,
    generation: str = "",
    *,
    replace: bool = False,
    tell: Tell = lambda done, of: None,
) -> Restored:
    """Restore a backup into a data folder: the newest generation, or the named one.

    An existing database is moved aside with ``replace``, and otherwise refused. No server may be
    running.
    """
    there = generations(target)
    if not there:
        raise BackupError("there is no backup at this place.", advice="Check the address.")
    if generation and generation not in there:
        raise BackupError(
            f"there is no generation {generation!r}.", advice=f"There are {', '.join(there)}."
        )
    done = Restored(generation or there[-1])
    with alone(folder):
        if (folder / DATABASE).exists() and (folder / DATABASE).stat().st_size and not replace:
            raise FolderTrouble(
                f"{folder} has a database already.",
                advice="Name an empty folder with --data, or move what is there aside with"
                " --replace.",
            )
        with tempfile.TemporaryDirectory(dir=folder, prefix="restore-") as room:
            database = Path(room) / DATABASE
            target.fetch(f"generations/{done.generation}.sqlite3", database)
            names = sorted(_names_of(target, done.generation))
            done.blobs = len(names)
            _fetch_blobs(blobs_for(folder), names, target, done, tell)
            done.aside = _move_aside(folder)
            os.replace(database, folder / DATABASE)
    return done


def _fetch_blobs(
    blobs: BlobStore, names: list[str], target: Target, done: Restored, tell: Tell
) -> None:
    for number, name in enumerate(names, 1):
        if not (blobs.touch(name) and blobs.is_whole(name)):
            draft = blobs.draft()
            try:
                draft.fill(lambda file, name=name: _fetch_whole(target, name, file))  # type: ignore[misc]
                done.fetched += 1
            except (FileNotFoundError, ValueError):
                done.lost.append(name)
            finally:
                draft.drop()
        tell(number, len(names))


def _fetch_whole(target: Target, name: str, file: Path) -> None:
    target.fetch(blob_key(name), file)
    if sha256_of(file) != name:
        raise ValueError(name)


def _move_aside(folder: Path) -> Path | None:
    """Move the existing database, its queue and its mark aside."""
    files = [
        file
        for pattern in (f"{DATABASE}*", f"{QUEUE_FILES}*", MARK)
        for file in folder.glob(pattern)
    ]
    if not files:
        return None
    aside = folder / f"replaced-{datetime.now(UTC):{_STAMP}}"
    aside.mkdir()
    for file in files:
        with suppress(FileNotFoundError):
            os.replace(file, aside / file.name)
    return aside

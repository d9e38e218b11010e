"""The folders that the server watches: what appears in one is brought in, and what is saved again
becomes a new revision."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlmodel import col, select
from watchfiles import watch

from gefa.core.errors import GefaError, PlanError
from gefa.core.files import sha256_of
from gefa.core.read import FileKind, kind_of
from gefa.core.read.completeness import looks_whole
from gefa.core.read.source_paths import clean_path
from gefa.folder.saves import PATIENCE_SECONDS, wait_until_still
from gefa.folder.site_files import files_below, folders_below, looks_like_source, name_problem
from gefa.store.blobs import Blob
from gefa.store.models import Source, now
from gefa.store.sources import bring_in, is_here, present
from gefa.store.store import Store
from gefa.store.trail import Deed, note
from gefa.store.watched import watched_folders

QUIET_MS = 300
"""after which the watching library reports that nothing happened"""
AGAIN_SECONDS = 120.0
"""between two complete checks: some file systems report no changes"""
RETRY_SECONDS = 2.0
"""after a failure"""
MOST_FOLDERS = 4_000
"""below one watched folder: the system allows some 8,000 to all programs together"""
log = logging.getLogger("gefa.watcher")


@dataclass(frozen=True)
class Place:
    """A folder that is watched with everything below it. ``wanted`` decides from its relative path
    whether a file is a source; if the folder is a ``whole_site``, sources go with their files."""

    folder: Path
    wanted: Callable[[str], bool] = lambda name: True
    without: tuple[Path, ...] = ()
    whole_site: bool = False

    def files(self) -> Iterator[tuple[Path, str]]:
        """All sources in it now, each with its relative path."""
        for path in files_below(self.folder, self.without):
            name = path.relative_to(self.folder).as_posix()
            if self.wanted(name):
                yield path, name


class Watcher:
    """A thread of the server. Only folders under ``root`` may be watched; ``site`` gives the folder
    of all sources, if the server runs on one."""

    def __init__(
        self,
        store: Store,
        root: Path,
        wake: Callable[[], None],
        site: Callable[[], Place] | None = None,
    ) -> None:
        self._store, self._wake = store, wake
        self._site = site
        self.root = root.resolve()
        self._seen: dict[Path, tuple[int, ...]] = {}
        self.problems: dict[Path, str] = {}
        """why files could not be brought in"""
        self._ending = False
        self._again = threading.Event()
        self._stop_watching = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="watcher", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._ending = True
        self.look_again()
        self._thread.join(timeout=10)

    def look_again(self) -> None:
        """The set of watched folders has changed."""
        self._stop_watching.set()
        self._again.set()

    def checked(self, folder: str) -> str:
        """The folder's path for watching; PlanError if it is not allowed or not possible."""
        try:
            path = Path(folder.strip()).expanduser()
            path = (path if path.is_absolute() else self.root / path).resolve()
        except (ValueError, RuntimeError, OSError) as error:
            raise PlanError("is not a possible folder.", file=folder[:80]) from error
        if not path.is_relative_to(self.root):
            raise PlanError(
                f"is not inside {self.root}.",
                file=folder,
                advice="Start the server with --watch-under and a folder that holds it.",
            )
        if not path.is_dir():
            raise PlanError("is not a folder on the server.", file=folder)
        if path == self._store.folder or self._store.folder.is_relative_to(path):
            raise PlanError(
                "holds Gefa's own data.", file=folder, advice="Name a folder beside the data."
            )
        return str(path)

    def _places(self) -> list[Place]:
        if self._site is not None:
            return [self._site()]
        with self._store.reading() as session:
            folders = [Path(folder.path) for folder in watched_folders(session)]
        return [Place(folder) for folder in folders if folder.is_dir()]

    def _loop(self) -> None:
        while not self._ending:
            self._again.clear()
            self._stop_watching.clear()
            try:
                self._watch()
            except Exception:
                log.exception("watching failed; trying again")
                self._again.wait(RETRY_SECONDS)

    def _watch(self) -> None:
        places = self._places()
        if not places:
            self._again.wait()
            return
        folders = [f for place in places for f in folders_below(place.folder, place.without)]
        if len(folders) > MOST_FOLDERS:
            log.warning("of %d folders %d are watched", len(folders), MOST_FOLDERS)
        watched = [str(folder) for folder in folders[:MOST_FOLDERS]]
        # Folders one by one: below them may be some that hold tens of thousands, and no source.
        changes = watch(
            *watched,
            debounce=100,
            step=20,
            recursive=False,
            stop_event=self._stop_watching,
            rust_timeout=QUIET_MS,
            yield_on_timeout=True,
        )
        # All is looked through while it is watched already, so that nothing is missed in between.
        due = 0.0
        for touched in changes:
            if time.monotonic() > due:
                for place in places:
                    self._look_through(place)
                due = time.monotonic() + AGAIN_SECONDS
            paths = [Path(name) for _, name in touched]
            if any(path.is_dir() or not path.exists() for path in paths):
                return  # folders came or something went: all is looked through again
            for place in places:
                self._look_at(place, paths)

    def _look_through(self, place: Place) -> None:
        """Bring in new and changed files of a place; drop sources that are gone from a site's
        folder."""
        found: dict[Path, str] = {}
        try:
            for path, name in place.files():
                if self._ending:
                    return
                found[path] = name
                self._bring_in(place, path, name)
        except GefaError as error:
            self._tell(place.folder, error.told)
            return
        self.problems = {path: why for path, why in self.problems.items() if path.exists()}
        for path in [p for p in self._seen if p.is_relative_to(place.folder) and p not in found]:
            del self._seen[path]  # it is gone, and brought in again if it comes back
        if place.whole_site:
            self._let_go(set(found.values()))

    def _let_go(self, names: set[str]) -> None:
        with self._store.reading() as session:
            gone = [source.id for source in present(session) if source.name not in names]
        if not gone:
            return
        with self._store.changing() as session:
            for source in session.exec(select(Source).where(col(Source.id).in_(gone))):
                source.removed = now()
                session.add(source)
                note(session, Deed.SOURCE_REMOVED, source.name, "its file is gone")

    def _look_at(self, place: Place, paths: list[Path]) -> None:
        for path in paths:
            if not path.is_relative_to(place.folder) or not looks_like_source(path):
                continue
            if any(path.is_relative_to(barred) for barred in place.without):
                continue
            name = path.relative_to(place.folder).as_posix()
            if place.wanted(name) and wait_until_still(path, self._stop_watching):
                self._bring_in(place, path, name)

    def _kind_when_whole(self, path: Path, name: str) -> FileKind:
        """The kind of a file once it is completely saved; a file that stays broken is brought in as
        it is, so that the error shows."""
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            kind = kind_of(path, name)
            if looks_whole(path, kind) or self._ending or time.monotonic() > deadline:
                return kind
            wait_until_still(path)

    def _bring_in(self, place: Place, path: Path, name: str) -> None:
        """A new source, or a new revision with the current bytes; the same bytes add nothing."""
        try:
            # From before it is read: what is saved while it is copied is another save.
            stamp = _stamp(path)
            if self._seen.get(path) == stamp:
                return
            if not path.resolve().is_relative_to(place.folder.resolve()):
                # Links to folders are followed when the folder is named; a file may be one later.
                raise PlanError(f"is a link out of {place.folder}; Gefa does not follow it.")
            self._check_name(place, name)
            kind = self._kind_when_whole(path, name)
            blob = self._blob_of(path, name)
            self.problems.pop(path, None)
        except GefaError as error:
            self._tell(path, error.told)
            return
        except OSError as error:
            self._tell(path, f"cannot be read: {error.strerror or error}.")
            return
        with self._store.changing() as session:
            source, _ = bring_in(session, name, blob, kind.value)
            if not place.whole_site and source.watched != str(place.folder):
                source.watched = str(place.folder)
                session.add(source)
        self._seen[path] = stamp
        self._wake()

    def _check_name(self, place: Place, name: str) -> None:
        if not place.whole_site and (usual := clean_path(name)) != name:
            raise PlanError("cannot have that name here.", advice=f"Rename it, as {usual!r}.")
        if problem := name_problem(name):
            raise PlanError(problem)
        with self._store.reading() as session:
            there = session.exec(select(Source).where(Source.name == name)).first()
        if there is not None and there.watched not in ("", str(place.folder)):
            raise PlanError(
                f"comes from {there.watched} already.", advice="Give one of the two another name."
            )

    def _tell(self, path: Path, reason: str) -> None:
        if self.problems.get(path) != reason:
            log.warning("%s: %s", path, reason)
            self.problems[path] = reason

    def _blob_of(self, path: Path, name: str) -> Blob:
        """Copies the file only if its bytes are not stored yet."""
        blob = Blob(sha256_of(path), path.stat().st_size)
        with self._store.reading() as session:
            here = is_here(session, name, blob)
        return blob if here else self._store.blobs.put_file(path)


def _stamp(path: Path) -> tuple[int, ...]:
    found = os.stat(path)
    return found.st_mtime_ns, found.st_size, found.st_ino

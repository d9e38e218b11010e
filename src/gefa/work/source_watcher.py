"""The folders that the server watches for new revisions of its sources."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from pathlib import Path

from sqlmodel import col, select

from gefa.core.errors import PlanError
from gefa.core.read import FileKind, kind_of
from gefa.core.read.completeness import looks_whole
from gefa.store.models import Source
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.work.saves import PATIENCE_SECONDS, saved, wait_until_still

IDLE_SECONDS = 2.0
"""between two looks where no source is watched"""
log = logging.getLogger("gefa.watcher")


class Watcher:
    """A thread of the server. Only folders under ``root`` may be watched."""

    def __init__(self, store: Store, root: Path, wake: Callable[[], None]) -> None:
        self._store, self._wake = store, wake
        self.root = root.resolve()
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
        """What is to be watched has changed."""
        self._stop_watching.set()
        self._again.set()

    def checked(self, folder: str) -> str:
        """The folder as it is watched; PlanError if it may not or cannot be."""
        try:
            path = Path(folder.strip()).expanduser()
            path = (path if path.is_absolute() else self.root / path).resolve()
        except (ValueError, RuntimeError, OSError) as error:
            raise PlanError("is no folder there can be.", file=folder[:80]) from error
        if not path.is_relative_to(self.root):
            raise PlanError(
                f"is not inside {self.root}.",
                file=folder,
                advice="Start the server with --watch-under and a folder that holds it.",
            )
        if not path.is_dir():
            raise PlanError("is not a folder on the server.", file=folder)
        return str(path)

    def _watched(self) -> dict[Path, str]:
        with self._store.reading() as session:
            found = session.exec(
                select(Source).where(Source.watched != "", col(Source.removed).is_(None))
            ).all()
            return {Path(source.watched) / source.name: source.name for source in found}

    def _loop(self) -> None:
        while not self._ending:
            self._again.clear()
            self._stop_watching.clear()
            try:
                self._watch()
            except Exception:
                log.exception("watching failed; trying again")
            self._again.wait(IDLE_SECONDS)

    def _watch(self) -> None:
        watched = {path: name for path, name in self._watched().items() if path.parent.is_dir()}
        for path, name in watched.items():
            if path.exists():
                self._bring_in(path, name)
        if not watched:
            self._again.wait()
            return
        for changed in saved(list(watched), self._stop_watching):
            for path in changed:
                self._bring_in(path, watched[path])

    def _kind_when_whole(self, path: Path, name: str) -> FileKind:
        """What the file is, once it is saved to its end; a file that stays broken is taken as it
        is, so that it is told."""
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            kind = kind_of(path, name)
            if looks_whole(path, kind) or self._ending or time.monotonic() > deadline:
                return kind
            wait_until_still(path)

    def _bring_in(self, path: Path, name: str) -> None:
        """A new revision of the bytes that lie there now; the same bytes add nothing."""
        try:
            if not path.resolve().is_relative_to(self.root):
                # Links to folders are followed when the folder is named; a file may be one later.
                raise PlanError(f"is a link out of {self.root}, and not followed.")
            kind = self._kind_when_whole(path, name)
            blob = self._store.blobs.put_file(path)
        except Exception as error:
            log.warning("%s: %s", path, error)
            return
        with self._store.changing() as session:
            bring_in(session, name, blob, kind.value)
        self._wake()

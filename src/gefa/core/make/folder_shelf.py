"""A shelf in an ordinary folder, which remembers what each file was made from."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Iterable, Mapping
from pathlib import Path

from pydantic import BaseModel, ValidationError

from gefa.core.files import write_whole
from gefa.core.make.own_files import OwnFiles
from gefa.core.treat.made import CutFacts, MadeVariant

MEMORY = ".gefa/memory.json"
FRESH = ".gefa/fresh"
"""folder for files of the running export; at the end kept files have a name in the out folder, and
the rest is deleted"""


class _Place(BaseModel):
    """``saved`` is the file's modification time in ns: while time and size are unchanged, so are
    the bytes."""

    path: str
    saved: int = 0


class _Memory(BaseModel):
    made: dict[str, MadeVariant] = {}
    places: dict[str, _Place] = {}
    facts: dict[str, CutFacts] = {}


class FolderShelf:
    """Worker processes only read the memory; the exporting process writes it, from the workers'
    reports. ``force`` forgets everything made before."""

    def __init__(self, folder: Path, *, force: bool = False) -> None:
        self.folder = folder
        self._memory = _Memory() if force else self._load()
        self._new: set[str] = set()
        self.own = OwnFiles(folder)

    def _load(self) -> _Memory:
        try:
            return _Memory.model_validate_json((self.folder / MEMORY).read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError):
            return _Memory()

    # -- as a job sees it ----------------------------------------------------------------

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        made = self._memory.made
        return {key: made[key] for key in keys if key in made}

    def facts(self, key: str) -> CutFacts | None:
        return self._memory.facts.get(key)

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        if data is not None:
            write_whole(self._fresh(key), data)
        self._new.add(key)

    def note(self, key: str, made: MadeVariant) -> None:
        """Does nothing: the job's report brings this back to the exporting process."""

    def put_facts(self, key: str, facts: CutFacts) -> None:
        """Does nothing: the job's report brings facts back to the exporting process."""

    def load(self, key: str) -> bytes | None:
        for file in self._files(key):
            try:
                return file.read_bytes()
            except OSError:
                continue
        return None

    def place(self, key: str, path: str) -> bool:
        """Raises TakenPath if something lies there that Gefa did not make."""
        target = self.folder / path
        own = self._memory.places.get(key)
        if own is not None and own.path == path and self._intact(key):
            return True
        for file in self._files(key):
            if file.is_file():
                self.own.check(path)
                self.own.claim(path, hashlib.sha256(file.read_bytes()).hexdigest())
                self._copy(file, target)
                return True
        return False

    def is_new(self, key: str) -> bool:
        return key in self._new

    def _fresh(self, key: str) -> Path:
        return self.folder / FRESH / key

    def _files(self, key: str) -> list[Path]:
        """Files that may hold the bytes: made in this export, or placed by an earlier one."""
        placed = self._memory.places.get(key)
        earlier = [self.folder / placed.path] if placed and self._intact(key) else []
        return [self._fresh(key), *earlier]

    def _intact(self, key: str) -> bool:
        """Whether the file of an earlier export still has its original bytes."""
        place, made = self._memory.places.get(key), self._memory.made.get(key)
        if place is None or made is None:
            return False
        file = self.folder / place.path
        try:
            found = file.stat()
            if found.st_size != made.bytes:
                return False
            if found.st_mtime_ns == place.saved:
                return True
            return hashlib.sha256(file.read_bytes()).hexdigest() == made.sha256
        except OSError:
            return False

    def _copy(self, file: Path, target: Path) -> None:
        target.parent.mkdir(parents=True, exist_ok=True)
        draft = target.with_name(f".gefa-{os.getpid()}-{target.name[-80:]}.part")
        try:
            draft.unlink(missing_ok=True)
            try:
                os.link(file, draft)
            except OSError:
                shutil.copyfile(file, draft)  # no links on this file system
            os.replace(draft, target)
        finally:
            draft.unlink(missing_ok=True)

    def intact(self, key: str, path: str) -> bool:
        """Whether the file of a key lies at that path, with its original bytes."""
        place = self._memory.places.get(key)
        return place is not None and place.path == path and self._intact(key)

    # -- as the one who runs the export sees it --------------------------------------------

    def remember(
        self,
        made: Mapping[str, MadeVariant],
        paths: Mapping[str, str],
        facts: Mapping[str, CutFacts],
    ) -> None:
        """Add to the memory: variants made, their places (key to path), and facts. An earlier place
        stays valid until another key takes its path."""
        claimed = set(paths.values())
        kept = {k: p for k, p in self._memory.places.items() if p.path not in claimed}
        new = {key: _Place(path=path, saved=self._saved(path)) for key, path in paths.items()}
        self._memory = _Memory(
            made=self._memory.made | dict(made),
            places=kept | new,
            facts=self._memory.facts | dict(facts),
        )
        text = json.dumps(self._memory.model_dump(mode="json"), separators=(",", ":"))
        write_whole(self.folder / MEMORY, text.encode())

    def sweep(self) -> None:
        """Delete files that were made but not placed."""
        shutil.rmtree(self.folder / FRESH, ignore_errors=True)

    def _saved(self, path: str) -> int:
        try:
            return (self.folder / path).stat().st_mtime_ns
        except OSError:
            return 0

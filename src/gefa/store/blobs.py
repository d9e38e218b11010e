"""Content-addressed files: a blob's name is the SHA-256 of its bytes."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from cachetools import LRUCache
from pydantic import BaseModel, ValidationError

from gefa.core.files import sha256_of, write_whole
from gefa.core.treat.made import CutFacts, MadeVariant

CHECKED = 100_000
"""blobs remembered as intact, about 20 MB"""
_DIGITS = 64
"""of a SHA-256 in hexadecimal"""


@dataclass(frozen=True, slots=True)
class Blob:
    """A stored content: its name, and its size in bytes."""

    sha256: str
    bytes: int


def _holds(path: Path, data: bytes) -> bool:
    """Whether the file has exactly these bytes: a disk may have lost or changed some."""
    try:
        return path.stat().st_size == len(data) and path.read_bytes() == data
    except OSError:
        return False


class BlobStore:
    """Blobs in a folder: written to a temporary file, flushed, renamed. Blobs never change."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._checked: LRUCache[str, tuple[int, int, int]] = LRUCache(CHECKED)
        self._checked_lock = threading.Lock()  # the cache itself is for one thread
        self._incoming = root / "incoming"
        self._incoming.mkdir(parents=True, exist_ok=True)

    def local(self, sha256: str) -> Path:
        """The blob's path in the folder, if it is there."""
        return self.root / "blobs" / sha256[:2] / sha256

    def path(self, sha256: str) -> Path:
        """A path to read the blob at."""
        return self.local(sha256)

    def put(self, data: bytes) -> Blob:
        sha256 = hashlib.sha256(data).hexdigest()
        target = self.local(sha256)
        if not self._touched(target) or not _holds(target, data):
            write_whole(target, data)
        return Blob(sha256, len(data))

    def touch(self, sha256: str) -> bool:
        """Whether the blob exists. Resets its age: the sweep spares young blobs, since the row that
        needs this one may not be written yet."""
        return self._touched(self.local(sha256)) or self._recalled(sha256)

    def is_whole(self, sha256: str) -> bool:
        """Whether the blob can be read, and its bytes match its name."""
        try:
            return sha256_of(self.path(sha256)) == sha256
        except OSError:
            return False

    def checked(self, sha256: str) -> Path | None:
        """A path to read the blob at, if it is intact. That is checked by reading it once, and
        again only if the file was written since."""
        path = self.path(sha256)
        try:
            found = path.stat()
            state = (found.st_ino, found.st_size, found.st_mtime_ns)
            with self._checked_lock:
                known = self._checked.get(sha256)
            if known != state:
                if sha256_of(path) != sha256:
                    return None
                with self._checked_lock:
                    self._checked[sha256] = state
        except OSError:
            return None
        return path

    @staticmethod
    def _touched(path: Path) -> bool:
        try:
            os.utime(path)
        except FileNotFoundError:
            return False
        return True

    def delete(self, sha256: str, older_than: float) -> bool:
        """Delete a blob for good, unless it was put or found within so many seconds; returns
        whether it is gone."""
        path = self.local(sha256)
        try:
            if time.time() - path.stat().st_mtime < older_than:
                return False
            path.unlink()
        except FileNotFoundError:
            return True
        return True

    # -- the trash -----------------------------------------------------------------------

    @property
    def trash(self) -> Path:
        """The folder of swept blobs, each under its own name, for some days."""
        return self.root / "trash"

    def age(self, sha256: str) -> float | None:
        """Seconds since the blob was put or found; None if there is none."""
        try:
            return time.time() - self.local(sha256).stat().st_mtime
        except FileNotFoundError:
            return None

    def discard(self, sha256: str) -> None:
        """Move a blob into the trash."""
        self.trash.mkdir(exist_ok=True)
        with suppress(FileNotFoundError):
            kept = self.trash / sha256
            os.replace(self.local(sha256), kept)
            os.utime(kept)  # its days in the trash begin now

    def set_aside(self, sha256: str) -> None:
        """Move a damaged blob into the trash, under another name, so that nobody takes it for the
        intact one."""
        self.trash.mkdir(exist_ok=True)
        with suppress(FileNotFoundError):
            os.replace(self.local(sha256), self.trash / f"{sha256}.damaged")

    def _recalled(self, sha256: str) -> bool:
        """Bring the blob back from the trash; returns whether it was there."""
        target = self.local(sha256)
        target.parent.mkdir(parents=True, exist_ok=True)
        try:
            os.replace(self.trash / sha256, target)
        except FileNotFoundError:
            return False
        return self._touched(target)

    def sweep_trash(self, older_than: float) -> int:
        """Delete blobs that were in the trash for so many seconds; returns how many."""
        before, gone = time.time() - older_than, 0
        for path in self.trash.glob("*"):
            with suppress(FileNotFoundError):
                if path.stat().st_mtime < before:
                    path.unlink()
                    gone += 1
        return gone

    def all(self) -> Iterator[str]:
        """The names of all blobs."""
        for path in (self.root / "blobs").glob("??/*"):
            if len(path.name) == _DIGITS:  # not what is being written
                yield path.name

    def put_file(self, path: Path) -> Blob:
        """Copy a file into the store; the file stays."""
        handle, draft = tempfile.mkstemp(dir=self._incoming)
        os.close(handle)
        try:
            shutil.copyfile(path, draft)
            return self.adopt(Path(draft))
        finally:
            Path(draft).unlink(missing_ok=True)

    def take(self, stream: IO[bytes]) -> Blob:
        """Store a stream without holding it in memory."""
        handle, draft = tempfile.mkstemp(dir=self._incoming)
        try:
            with os.fdopen(handle, "wb") as file:
                shutil.copyfileobj(stream, file, 1 << 20)
            return self.adopt(Path(draft))
        finally:
            Path(draft).unlink(missing_ok=True)

    def adopt(self, path: Path) -> Blob:
        """Move a file of the same file system into the store."""
        digest, size = hashlib.sha256(), 0
        with path.open("rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
                size += len(block)
            os.fsync(file.fileno())
        return self._place(path, digest.hexdigest(), size)

    def draft(self) -> Draft:
        """A file to write piece by piece, which then becomes a blob or vanishes without a trace."""
        return Draft(self, self._incoming)

    def _place(self, draft: Path, sha256: str, size: int) -> Blob:
        target = self.local(sha256)
        target.parent.mkdir(parents=True, exist_ok=True)
        draft.chmod(0o644)
        os.replace(draft, target)
        return Blob(sha256, size)

    def put_aside(self, name: str) -> None:
        """Move all blobs into a folder of that name beside them."""
        os.replace(self.root / "blobs", self.root / name)

    def sweep(self) -> None:
        """Delete half-received files of killed processes."""
        for draft in self._incoming.iterdir():
            draft.unlink(missing_ok=True)

    # -- notes on what was made from what ------------------------------------------------

    def _note_path(self, key: str) -> Path:
        return self.root / "made" / key[:2] / f"{key}.json"

    def note(self, key: str, value: dict[str, Any]) -> None:
        """Keep a small JSON value under a key."""
        write_whole(self._note_path(key), json.dumps(value, separators=(",", ":")).encode())

    def noted(self, key: str) -> dict[str, Any] | None:
        """The value kept under a key, if any."""
        try:
            value = json.loads(self._note_path(key).read_bytes())
        except (OSError, ValueError):
            return None
        return value if isinstance(value, dict) else None

    def keep_note(self, key: str) -> None:
        """Reset a note's age, since it was used."""
        self._touched(self._note_path(key))

    def sweep_notes(self, older_than: float) -> int:
        """Delete notes unused for so many seconds; returns how many."""
        before, gone = time.time() - older_than, 0
        for path in (self.root / "made").glob("??/*.json"):
            try:
                if path.stat().st_mtime < before:
                    path.unlink()
                    gone += 1
            except FileNotFoundError:
                continue
        return gone


class Draft:
    """A blob that is still being written."""

    def __init__(self, blobs: BlobStore, folder: Path) -> None:
        self._blobs = blobs
        handle, name = tempfile.mkstemp(dir=folder)
        self._path = Path(name)
        self._file = os.fdopen(handle, "wb")
        self._digest = hashlib.sha256()
        self.bytes = 0

    def write(self, data: bytes) -> None:
        self._digest.update(data)
        self._file.write(data)
        self.bytes += len(data)

    def fill(self, fetch: Callable[[Path], object]) -> Blob:
        """Let a function write it that knows its final content, and keep it."""
        fetch(self._path)
        return self._blobs.adopt(self._path)

    def close(self) -> None:
        """The draft is complete: flush it to disk."""
        if not self._file.closed:
            self._file.flush()
            os.fsync(self._file.fileno())
            self._file.close()

    def keep(self) -> Blob:
        """The draft is complete: store it."""
        self.close()
        return self._blobs._place(self._path, self._digest.hexdigest(), self.bytes)

    def drop(self) -> None:
        """The draft is not needed, or was kept already."""
        self._file.close()
        self._path.unlink(missing_ok=True)


class _Note(BaseModel):
    """A variant's record beside the blobs; ``maker`` is the task that made it."""

    made: MadeVariant
    maker: str


class BlobShelf:
    """The blob store as a ``Shelf`` for a job. Files of an earlier, interrupted try of the same job
    count as made by it, not as found."""

    def __init__(self, blobs: BlobStore, maker: str) -> None:
        self._blobs = blobs
        self._maker = maker
        self._made: dict[str, _Note] = {}

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        found = {}
        for key in keys:
            note = self._made.get(key) or self._noted(key)
            if note is not None:
                self._made[key] = note
                found[key] = note.made
        return found

    def _noted(self, key: str) -> _Note | None:
        try:
            return _Note.model_validate(self._blobs.noted(key))
        except ValidationError:
            return None  # none, or one of an edition before

    def facts(self, key: str) -> CutFacts | None:
        try:
            facts = CutFacts.model_validate(self._blobs.noted(key))
        except ValidationError:
            return None
        self._blobs.keep_note(key)
        return facts

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        if data is not None:
            self._blobs.put(data)
        self._keep(key, _Note(made=made, maker=self._maker))

    def note(self, key: str, made: MadeVariant) -> None:
        before = self._made.get(key)
        self._keep(key, _Note(made=made, maker=before.maker if before else ""))

    def _keep(self, key: str, note: _Note) -> None:
        self._made[key] = note
        self._blobs.note(key, note.model_dump(mode="json"))

    def put_facts(self, key: str, facts: CutFacts) -> None:
        self._blobs.note(key, facts.model_dump(mode="json"))

    def load(self, key: str) -> bytes | None:
        made = self.known([key]).get(key)
        if made is None or not made.sha256:
            return None
        try:
            return self._blobs.path(made.sha256).read_bytes()
        except FileNotFoundError:
            return None

    def place(self, key: str, path: str) -> bool:
        """Blobs have no paths: the report maps files to blobs."""
        made = self.known([key]).get(key)
        if made is None or not made.sha256 or not self._blobs.touch(made.sha256):
            return False
        self._blobs.keep_note(key)
        return True

    def is_new(self, key: str) -> bool:
        note = self._made.get(key)
        return note is not None and note.maker == self._maker

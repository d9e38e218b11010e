"""Where made files are put, and found again by what they were made from."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import IO, Any, Protocol

from pydantic import BaseModel, ConfigDict, ValidationError

from gefa.core.deliver.manifest import File


class Stored(BaseModel):
    """Bytes that stand on a shelf; ``bytes`` is their number, ``reused`` whether an earlier run
    made them. ``quality`` is the encoder's, ``score`` SSIMULACRA2 if it was measured."""

    model_config = ConfigDict(frozen=True)

    sha256: str
    bytes: int
    reused: bool
    quality: int | None = None
    score: float | None = None


class Shelf(Protocol):
    """A place for files. Keys say what a file was made from, paths where a person finds it."""

    def recall(self, key: str, path: str) -> Stored | None:
        """The file made from ``key`` before, now also at ``path``; None if it is not here."""

    def keep(
        self,
        key: str,
        path: str,
        data: bytes,
        *,
        quality: int | None = None,
        score: float | None = None,
    ) -> Stored:
        """Put ``data`` at ``path``, whole or not at all."""

    def load(self, stored: Stored, path: str) -> bytes:
        """The bytes of a file that was recalled or kept."""

    def discard(self, path: str) -> None:
        """Take a file away again that turned out to be worth nothing."""

    def recall_facts(self, key: str) -> dict[str, Any] | None:
        """Measurements kept under ``key``."""

    def keep_facts(self, key: str, facts: dict[str, Any]) -> None:
        """Remember measurements (JSON values) under ``key``."""


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there whole or not at all, also after a power cut; nothing half
    written is left by a process that is killed."""
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        handle = os.open(path.parent, os.O_TMPFILE | os.O_WRONLY, 0o644)
    except (AttributeError, OSError):
        _write_by_draft(path, data)  # no such files on this system
        return
    with os.fdopen(handle, "wb") as file:
        _put_down(file, data)
        _give_name(file.fileno(), path)


def _put_down(file: IO[bytes], data: bytes) -> None:
    file.write(data)
    file.flush()
    os.fchmod(file.fileno(), 0o644)
    os.fsync(file.fileno())


def _give_name(handle: int, path: Path) -> None:
    """Let a file that has no name yet have one, in place of another that has it (open(2))."""
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        # With a folder's descriptor the link in /proc is followed; without one it would be linked.
        nameless = f"/proc/self/fd/{handle}"
        try:
            os.link(nameless, path, src_dir_fd=folder, follow_symlinks=True)
        except FileExistsError:
            draft = path.with_name(f".gefa-{os.getpid()}-{threading.get_ident()}.part")
            draft.unlink(missing_ok=True)
            os.link(nameless, draft, src_dir_fd=folder, follow_symlinks=True)
            os.replace(draft, path)
    finally:
        os.close(folder)


def _write_by_draft(path: Path, data: bytes) -> None:
    handle, draft = tempfile.mkstemp(dir=path.parent, prefix=".gefa-", suffix=".part")
    try:
        with os.fdopen(handle, "wb") as file:
            _put_down(file, data)
        os.replace(draft, path)
    except BaseException:
        Path(draft).unlink(missing_ok=True)
        raise


class _RememberedFile(BaseModel):
    """``saved`` is the file's time in ns: while it and the size are the same, so are the bytes."""

    path: str
    sha256: str
    bytes: int
    saved: int = 0
    quality: int | None = None
    score: float | None = None


class _Memory(BaseModel):
    files: dict[str, _RememberedFile] = {}
    facts: dict[str, dict[str, Any]] = {}


class FolderShelf:
    """An ordinary folder, with a memory of what its files were made from in ``.gefa``.

    Worker processes only read the memory; the one who runs the export writes it, from what the
    workers report. ``force`` forgets everything made before.
    """

    def __init__(self, folder: Path, *, force: bool = False) -> None:
        self.folder = folder
        self._memory_file = folder / ".gefa" / "memory.json"
        self._memory = _Memory() if force else self._load()

    def _load(self) -> _Memory:
        try:
            return _Memory.model_validate_json(self._memory_file.read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError):
            return _Memory()

    def recall(self, key: str, path: str) -> Stored | None:
        entry = self._memory.files.get(key)
        if entry is None or not self._intact(entry):
            return None
        if entry.path != path:
            shutil.copyfile(self.folder / entry.path, self._draft(path))
            os.replace(self._draft(path), self.folder / path)
        return Stored(
            sha256=entry.sha256,
            bytes=entry.bytes,
            reused=True,
            quality=entry.quality,
            score=entry.score,
        )

    def _draft(self, path: str) -> Path:
        target = self.folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        return target.with_name(f".gefa-{os.getpid()}-{target.name}.part")

    def _intact(self, entry: _RememberedFile) -> bool:
        file = self.folder / entry.path
        try:
            found = file.stat()
            if found.st_size != entry.bytes:
                return False
            if found.st_mtime_ns == entry.saved:
                return True
            return hashlib.sha256(file.read_bytes()).hexdigest() == entry.sha256
        except OSError:
            return False

    def has(self, keys: Iterable[str]) -> bool:
        """Whether files of all these keys were made before."""
        return all(key in self._memory.files for key in keys)

    def keep(
        self,
        key: str,
        path: str,
        data: bytes,
        *,
        quality: int | None = None,
        score: float | None = None,
    ) -> Stored:
        write_whole(self.folder / path, data)
        return Stored(
            sha256=hashlib.sha256(data).hexdigest(),
            bytes=len(data),
            reused=False,
            quality=quality,
            score=score,
        )

    def load(self, stored: Stored, path: str) -> bytes:
        return (self.folder / path).read_bytes()

    def discard(self, path: str) -> None:
        (self.folder / path).unlink(missing_ok=True)

    def _saved(self, path: str) -> int:
        try:
            return (self.folder / path).stat().st_mtime_ns
        except OSError:
            return 0

    def recall_facts(self, key: str) -> dict[str, Any] | None:
        return self._memory.facts.get(key)

    def keep_facts(self, key: str, facts: dict[str, Any]) -> None:
        """Nothing: facts come back to the one who runs the export in the job's report."""

    def remember(self, files: dict[str, File], facts: dict[str, Any]) -> None:
        """Add to the memory: key to file, and key to facts. Older entries stay while their path
        is not claimed by another key."""
        claimed = {file.path for file in files.values()}
        kept = {k: e for k, e in self._memory.files.items() if e.path not in claimed}
        new = {
            key: _RememberedFile(
                path=file.path,
                sha256=file.sha256,
                bytes=file.bytes,
                saved=self._saved(file.path),
                quality=file.quality,
                score=file.score,
            )
            for key, file in files.items()
        }
        self._memory = _Memory(files=kept | new, facts=self._memory.facts | facts)
        text = json.dumps(self._memory.model_dump(), separators=(",", ":"))
        write_whole(self._memory_file, text.encode())

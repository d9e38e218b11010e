"""Writes files so that each exists whole or not at all."""

from __future__ import annotations

import errno
import hashlib
import os
import shutil
import tempfile
import threading
from pathlib import Path
from typing import IO

_FULL_IN_WORDS = ("database or disk is full", "No space left on device")
"""messages of SQLite and libvips for a full disk"""


def write_whole(path: Path, data: bytes) -> None:
    """Write a file completely or not at all, also if the power fails or the process is killed."""
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
    """Name an unnamed temporary file, replacing any file of that name (open(2))."""
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


def lacks_room(error: BaseException | None) -> bool:
    """Whether an error means a full disk or quota; some libraries only say so in text."""
    while error is not None:
        if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
            return True
        if any(words in str(error) for words in _FULL_IN_WORDS):
            return True
        error = error.__cause__ or error.__context__
    return False


def real(path: Path) -> Path:
    """The path without links. ``Path.resolve`` raises where links lead in circles; this does
    not."""
    return Path(os.path.realpath(path))


def stamp(path: Path) -> tuple[int, ...]:
    """A value that changes with each save, even within one tick of the file system's clock; empty
    if there is no file."""
    try:
        found = path.stat()
    except OSError:
        return ()
    return found.st_mtime_ns, found.st_size, found.st_ino


def sha256_of(path: Path) -> str:
    """The SHA-256 of a file's bytes. OSError if it cannot be read."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def sha256_or_empty(path: Path) -> str:
    """The SHA-256 of a file's bytes; empty if there is no readable file, or a link."""
    try:
        return "" if path.is_symlink() else sha256_of(path)
    except OSError:
        return ""


def free_bytes(folder: Path) -> int:
    """Free bytes on the disk of ``folder``."""
    return shutil.disk_usage(folder).free

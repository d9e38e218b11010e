"""A zip of files: each is a source of its own."""

from __future__ import annotations

import posixpath
import shutil
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from gefa.core.errors import SourceError, UnsupportedSource
from gefa.core.read.sniff import HEAD_BYTES, KINDS_IN_WORDS, ZIP_START, sniff
from gefa.core.read.source_paths import clean_path

MAX_MEMBERS = 5_000
"""of a zip of sources, as many as can be brought in at once"""
MAX_BYTES = 8_000_000_000
"""of all files in a zip, unpacked"""
_BROKEN = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError)


_ENCRYPTED = 0x1
"""a flag of a file in a zip (APPNOTE.TXT, section 4.4.4)"""


@dataclass(frozen=True, slots=True)
class Member:
    """A file in a zip: its path there, as sources are named, and how to read it."""

    name: str
    info: zipfile.ZipInfo
    archive: zipfile.ZipFile

    def open(self) -> IO[bytes]:
        """Its bytes; SourceError if they cannot be unpacked."""
        try:
            return self.archive.open(self.info)
        except _BROKEN as error:
            raise self.broken(error) from error

    def broken(self, error: Exception) -> SourceError:
        reason = "is damaged in the zip"
        if self.info.flag_bits & _ENCRYPTED:
            reason = "is locked with a password"
        elif isinstance(error, NotImplementedError):
            reason = "is packed in a way that Gefa does not read"
        return SourceError(f"{reason}.", file=self.name, advice="Pack the zip again.")


STACK = "stack.xml"
"""a zip with this file is an OpenRaster file, wherever its mimetype lies"""


def is_zip(head: bytes) -> bool:
    """Whether a file that begins with ``head`` is any kind of zip."""
    return head.startswith(ZIP_START)


def is_design(path: Path) -> bool:
    """Whether a zip is an OpenRaster file. A zip that cannot be listed is not."""
    try:
        with zipfile.ZipFile(path) as archive:
            return any(posixpath.normpath(name) == STACK for name in archive.namelist())
    except _BROKEN:
        return False


def is_pack(path: Path) -> bool:
    """Whether a file is a zip of files, and not a design stored as one."""
    with path.open("rb") as file:
        head = file.read(HEAD_BYTES)
    return is_zip(head) and sniff(head) is None and not is_design(path)


def members(path: Path, file: str) -> Iterator[Member]:
    """The files in a zip by their paths in it, without hidden system files.

    SourceError if the zip is broken or unpacks to too much.
    """
    try:
        archive = zipfile.ZipFile(path)
    except _BROKEN as error:
        raise SourceError(
            f"cannot be read as a zip: {error}.", file=file, advice="Pack it again."
        ) from error
    with archive:
        infos = [info for info in archive.infolist() if not info.is_dir() and not _hidden(info)]
        total = sum(info.file_size for info in infos)
        if len(infos) > MAX_MEMBERS or total > MAX_BYTES:
            raise SourceError(
                f"holds {len(infos):,} files of {total / 1e6:,.0f} MB; the limit is"
                f" {MAX_MEMBERS:,} files and {MAX_BYTES / 1e6:,.0f} MB.",
                file=file,
                advice="Split it into several zips.",
            )
        if not infos:
            raise UnsupportedSource("is a zip with no files in it.", file=file)
        for info in infos:
            yield Member(clean_path(info.filename), info, archive)


def _hidden(info: zipfile.ZipInfo) -> bool:
    steps = info.filename.replace("\\", "/").split("/")
    return any(step.startswith((".", "__MACOSX")) for step in steps if step not in (".", ".."))


def unpack(path: Path, folder: Path) -> list[Path]:
    """Unpack the files of a zip that Gefa reads into ``folder``; returns their paths. SourceError
    if the zip is damaged."""
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for member in members(path, path.name):
        with member.open() as packed:
            head = packed.read(HEAD_BYTES)
            if sniff(head) is None and not is_zip(head):
                continue
            target = folder / member.name
            try:
                target.parent.mkdir(parents=True, exist_ok=True)
                with target.open("wb") as file:
                    file.write(head)
                    shutil.copyfileobj(packed, file)
            except _BROKEN as error:
                raise member.broken(error) from error
        if sniff(head) is None and not is_design(target):
            target.unlink()
        else:
            written.append(target)
    if not written:
        raise UnsupportedSource(
            "is a zip that holds no picture or design that Gefa reads.",
            file=path.name,
            advice=f"It reads {KINDS_IN_WORDS}.",
        )
    return written

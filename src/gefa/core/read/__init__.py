"""Bring in: a file becomes a Document."""

from __future__ import annotations

from pathlib import Path

from gefa.core.errors import SourceError, UnsupportedSource
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Notice, Part
from gefa.core.read.flat import FlatPicture
from gefa.core.read.openraster import OpenRaster
from gefa.core.read.pages import PagedTiff
from gefa.core.read.scratch import Scratch
from gefa.core.read.sniff import HEAD_BYTES, KINDS_IN_WORDS, FileKind, sniff
from gefa.core.read.svg.drawing import Svg
from gefa.core.read.tiff import full_pages, pages_of
from gefa.core.read.zips import is_design, is_zip

__all__ = ["CANVAS_PATH", "Document", "FileKind", "Kind", "Notice", "Part", "kind_of", "read"]


def kind_of(path: Path, name: str | None = None) -> FileKind:
    """What the file is; UnsupportedSource if Gefa does not read it."""
    file = name or path.name
    try:
        with path.open("rb") as opened:
            head = opened.read(HEAD_BYTES)
    except OSError as error:
        raise SourceError(
            f"cannot be opened: {error.strerror or error}.",
            file=file,
            advice="Check the path and its permissions.",
        ) from error
    if not head:
        raise UnsupportedSource("is empty.", file=file, advice="Save it again, and check its size.")
    kind = sniff(head)
    if kind is None and is_zip(head) and is_design(path):
        return FileKind.OPENRASTER
    if kind is None and is_zip(head):
        raise UnsupportedSource(
            "is a zip of files, and this takes one file.",
            file=file,
            advice="Unpack it, or give it to an export or to the Sources page.",
        )
    if kind is None:
        raise UnsupportedSource(
            "is not a picture or design that Gefa reads.",
            file=file,
            advice=f"It reads {KINDS_IN_WORDS}.",
        )
    return kind


def read(path: Path, name: str | None = None, scratch: Scratch | None = None) -> Document:
    """Open a source. ``name`` is what people call it, if not the file's own name;
    ``scratch`` is where copies of large pictures and measurements are kept.

    Raises SourceError if it is broken or too large, UnsupportedSource if it is something else.
    """
    file = name or path.name
    kind = kind_of(path, file)
    if kind is FileKind.SVG:
        return Svg(path, file)
    if kind is FileKind.OPENRASTER:
        return OpenRaster(path, file, scratch)
    if kind is FileKind.TIFF and (pages := full_pages(pages_of(path))):
        if len(pages) > 1:
            return PagedTiff(path, file, pages, scratch)
        return FlatPicture(path, file, kind, scratch, pages[0])
    return FlatPicture(path, file, kind, scratch)

"""Bring in: a file becomes a Document.

In reading order:

- ``document``: An opened source: its canvas and its tree of parts
- ``sniff``: The kind of a file, from its first bytes
- ``limits``: How large a source may be before it is refused rather than read
- ``scratch``: Scratch space on disk
- ``survey``: A survey: a document's tree with its measurements
- ``source_paths``: What sources are called: by their paths within the site
- ``part_names``: From a layer's name to a part's name, tags and path
- ``likeness``: A rough likeness of a part, to recognise the part under another name
- ``strays``: Strays: objects so far from the rest that they blow up a part's extent
- ``embedded``: Bitmaps stored inside a design: what they are, from their bytes
- ``flat``: Flat pictures: one part, the picture itself
- ``orientation``: The EXIF orientation of a picture (CIPA DC-008
- ``colour_profile``: Whether the colour profile inside a flat picture can be used
- ``told_colour``: Profiles for files that describe their colours without an ICC profile
- ``icc``: Colour profiles made from what files say of their colours in other ways
- ``samples``: Scales samples of other types (float, 32 bit) to 8 or 16 bits by the range they use
- ``tiff``: What the pages of a TIFF are, and pages that libvips does not read as they are meant
- ``frames``: The frames of pictures that move, as browsers show them
- ``gif``: GIF frames as browsers show them
- ``heic``: HEIC photographs, through libheif's own decoder; everything else is left to libvips
- ``copyright``: The copyright notice in a picture's metadata
- ``completeness``: Whether a file has been saved to its end, from its last bytes
- ``broken``: Says what is wrong with a picture that its decoder refuses
- ``pages``: Multi-page TIFF: each page is a part with a name of its own
- ``openraster``: OpenRaster: a zip with a stack of layers, each a PNG of its own
- ``blend``: Laying pictures over each other as W3C Compositing and Blending Level 1 says
- ``bitmaps``: Unpacked bitmaps kept for a while, up to a number of bytes
- ``zips``: A zip of files: each is a source of its own
- ``xml``: Parsing XML that somebody else wrote
- ``svg``: drawings
"""

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
            "is a zip, and this takes a single file.",
            file=file,
            advice="Unpack it, or use it with an export or on the Sources page.",
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

"""Multi-page TIFF: each page is a part with a name of its own."""

from __future__ import annotations

from pathlib import Path
from warnings import catch_warnings

import pyvips
from PIL import Image, UnidentifiedImageError

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect
from gefa.core.pixels import visible_box
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Part
from gefa.core.read.flat import FlatPicture
from gefa.core.read.limits import MAX_PAGES, check_size
from gefa.core.read.part_names import PathBook, split_tags
from gefa.core.read.scratch import Scratch
from gefa.core.read.sniff import FileKind

# Only tags are looked at here; how large a picture may be is checked where it is read.
Image.MAX_IMAGE_PIXELS = None
PAGE_NAME = 285
"""TIFF 6.0, section 12"""


def page_names(path: Path) -> list[str]:
    """The PageName of every page, empty where a page has none; no list if there is one page."""
    try:
        with catch_warnings(action="ignore"), Image.open(path, formats=("TIFF",)) as tiff:
            count = min(getattr(tiff, "n_frames", 1), MAX_PAGES + 1)
            names = []
            for page in range(count):
                tiff.seek(page)
                names.append(str(tiff.tag_v2.get(PAGE_NAME, "")))  # type: ignore[attr-defined]
    except (
        OSError,
        UnidentifiedImageError,
        ValueError,
        KeyError,
        SyntaxError,
        EOFError,
        TypeError,
    ):
        return []
    return names if len(names) > 1 else []


class PagedTiff(Document):
    """A TIFF with several pages. Its canvas shows the first; the others are asked for by name."""

    def __init__(
        self, path: Path, name: str, names: list[str], scratch: Scratch | None = None
    ) -> None:
        if len(names) > MAX_PAGES:
            raise SourceError(
                f"has more than {MAX_PAGES:,} pages.",
                file=name,
                advice="Split it into several files and bring those in.",
            )
        self._path, self._file = path, name
        self._scratch = scratch or Scratch()
        self._open_page: tuple[int, FlatPicture] | None = None
        paths = PathBook()
        self._pages: dict[str, int] = {CANVAS_PATH: 0}
        parts = []
        for number, raw in enumerate(names):
            label, tags = split_tags(raw)
            label = label or f"Page {number + 1}"
            own = paths.path("", label)
            self._pages[own] = number
            parts.append(Part(own, "", label, Kind.PAGE, tags))
        first = self._page(0)
        check_size(first.size, name)
        canvas = Part(CANVAS_PATH, "", Path(name).stem or name, Kind.CANVAS, children=tuple(parts))
        super().__init__(name, "tiff", first.size, canvas, transparent=first.transparent)
        self._extents: dict[str, Rect] = {}

    def _page(self, number: int) -> FlatPicture:
        """The last page asked for stays open."""
        last = self._open_page
        if last is None or last[0] != number:
            page = FlatPicture(self._path, self._file, FileKind.TIFF, self._scratch, page=number)
            last = self._open_page = (number, page)
        return last[1]

    def _asked(self, part: Part) -> FlatPicture:
        return self._page(self._pages[part.path])

    def extent(self, part: Part) -> Rect:
        if part.path not in self._extents:
            page = self._asked(part)
            box = page.canvas_rect
            if page.transparent and part.path != CANVAS_PATH:
                box = visible_box(page.render(page.canvas, box, page.size.width))
            self._extents[part.path] = box
        return self._extents[part.path]

    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        page = self._asked(part)
        return page.render(page.canvas, region, width)

    def fingerprint(self, part: Part) -> str:
        page = self._asked(part)
        return f"{page.fingerprint(page.canvas)} {self.extent(part)}"

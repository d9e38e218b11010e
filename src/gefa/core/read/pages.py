"""Multi-page TIFF: each page is a part with a name of its own."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import pyvips

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect
from gefa.core.pixels import visible_box
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Part
from gefa.core.read.flat import FlatPicture
from gefa.core.read.limits import MAX_PAGES, check_size
from gefa.core.read.part_names import PathBook, split_tags
from gefa.core.read.scratch import Scratch
from gefa.core.read.sniff import FileKind
from gefa.core.read.tiff import TiffPage


class PagedTiff(Document):
    """A TIFF with several pages. Its canvas is the first page; others are parts."""

    def __init__(
        self, path: Path, name: str, pages: Sequence[TiffPage], scratch: Scratch | None = None
    ) -> None:
        if len(pages) > MAX_PAGES:
            raise SourceError(
                f"has more than {MAX_PAGES:,} pages.",
                file=name,
                advice="Split it into several files and bring those in.",
            )
        self._path, self._file = path, name
        self._scratch = scratch or Scratch()
        self._open_page: tuple[int, FlatPicture] | None = None
        paths = PathBook()
        self._pages: dict[str, TiffPage] = {CANVAS_PATH: pages[0]}
        parts = []
        for count, page in enumerate(pages, start=1):
            label, tags = split_tags(page.name)
            label = label or f"Page {count}"
            own = paths.path("", label)
            self._pages[own] = page
            parts.append(Part(own, "", label, Kind.PAGE, tags))
        first = self._page(pages[0])
        check_size(first.size, name)
        canvas = Part(CANVAS_PATH, "", Path(name).stem or name, Kind.CANVAS, children=tuple(parts))
        super().__init__(name, "tiff", first.size, canvas, transparent=first.transparent)
        self._extents: dict[str, Rect] = {}

    def _page(self, page: TiffPage) -> FlatPicture:
        """The page; the last one used stays open."""
        last = self._open_page
        if last is None or last[0] != page.number:
            opened = FlatPicture(self._path, self._file, FileKind.TIFF, self._scratch, page)
            last = self._open_page = (page.number, opened)
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

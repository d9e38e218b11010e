"""Flat pictures: one part, the picture itself."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pyvips

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import resize, to_srgb
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Notice, Part
from gefa.core.read.limits import check_size
from gefa.core.read.sniff import FileKind

SIDEWAYS = frozenset({5, 6, 7, 8})
"""EXIF orientations that swap width and height (CIPA DC-008, Orientation)."""

_LOADERS = {
    FileKind.PNG: pyvips.Image.pngload,
    FileKind.JPEG: pyvips.Image.jpegload,
    FileKind.WEBP: pyvips.Image.webpload,
    FileKind.AVIF: pyvips.Image.heifload,
    FileKind.GIF: pyvips.Image.gifload,
    FileKind.TIFF: pyvips.Image.tiffload,
}
"""Loaders by kind: libvips would read ``[...]`` in a file name as options."""

_WHAT_TO_DO = "Open it in the program that made it, save it again, and bring it in anew."


class FlatPicture(Document):
    """A PNG, JPEG, WebP, AVIF, GIF or TIFF."""

    def __init__(self, path: Path, name: str, kind: FileKind) -> None:
        self._path = path
        self._kind = kind
        self._file = name
        header = self._open()
        self._orientation = _orientation(header)
        sideways = self._orientation in SIDEWAYS
        size = Size(header.height, header.width) if sideways else Size(header.width, header.height)
        check_size(size, name)
        canvas = Part(CANVAS_PATH, CANVAS_PATH, Path(name).stem or name, Kind.CANVAS)
        super().__init__(
            name,
            kind.value,
            size,
            canvas,
            transparent=header.hasalpha(),
            stored_bytes=path.stat().st_size,
        )
        pages = header.get("n-pages") if header.get_typeof("n-pages") else 1
        if pages > 1:
            self.notices.append(
                Notice(CANVAS_PATH, f"has {pages} pages or frames; only the first is used")
            )

    def extent(self, part: Part) -> Rect:
        return self.canvas_rect

    def fingerprint(self, part: Part) -> str:
        digest = hashlib.sha256()
        with self._path.open("rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
        return digest.hexdigest()

    def render(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        shrink = _shrink_on_load(self._kind, self.size.width // max(1, width))
        try:
            return self._pixels(shrink, width, region)
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def _pixels(self, shrink: int, width: int, region: Rect) -> pyvips.Image:
        """One pass over the file: convert, reduce while streaming, then turn upright."""
        image = to_srgb(self._open(shrink=shrink))
        sideways = self._orientation in SIDEWAYS
        whole = region == self.canvas_rect
        natural = image.height if sideways else image.width
        wanted = 2 * width
        if whole and natural > wanted:
            scale = wanted / natural
            image = resize(
                image,
                Size(max(1, round(image.width * scale)), max(1, round(image.height * scale))),
            )
        image = image.copy_memory()
        if self._orientation > 1:
            image = image.copy()
            image.set_type(pyvips.GValue.gint_type, "orientation", self._orientation)
            image = image.autorot()
        if not whole:
            scale = image.width / self.size.width
            image = image.crop(*_scaled(region, scale, image))
        return image

    def _open(self, shrink: int = 1) -> pyvips.Image:
        options = {"shrink": shrink} if shrink > 1 else {}
        try:
            return _LOADERS[self._kind](
                str(self._path), access="sequential", fail_on="truncated", **options
            )
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def _unreadable(self, error: pyvips.Error) -> SourceError:
        return SourceError(
            f"cannot be read as {self._kind.upper()}: {_last_line(error)}.",
            file=self._file,
            advice=_WHAT_TO_DO,
        )


def _orientation(image: pyvips.Image) -> int:
    value = image.get("orientation") if image.get_typeof("orientation") else 1
    return value if 1 <= value <= 8 else 1


def _shrink_on_load(kind: FileKind, factor: int) -> int:
    """How far the JPEG decoder may reduce by itself and still leave twice the wanted width."""
    if kind is not FileKind.JPEG:
        return 1
    return next((shrink for shrink in (8, 4, 2) if factor >= 2 * shrink), 1)


def _scaled(region: Rect, scale: float, image: pyvips.Image) -> tuple[int, int, int, int]:
    x = min(image.width - 1, round(region.x * scale))
    y = min(image.height - 1, round(region.y * scale))
    width = max(1, min(image.width - x, round(region.width * scale)))
    height = max(1, min(image.height - y, round(region.height * scale)))
    return x, y, width, height


def _last_line(error: pyvips.Error) -> str:
    lines = [line.strip() for line in str(error.detail or error).splitlines() if line.strip()]
    return lines[-1].rstrip(".") if lines else "unknown reason"

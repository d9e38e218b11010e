"""Flat pictures: one part, the picture itself."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

import pyvips

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import outside_srgb, resize, to_srgb
from gefa.core.read.colour_profile import dropped_by_libpng, trouble_with
from gefa.core.read.copyright import copyright_of
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Notice, Part
from gefa.core.read.heic import heic_profile, heic_size, load_heic
from gefa.core.read.limits import MAX_MEGAPIXELS, check_size
from gefa.core.read.orientation import SIDEWAYS, orientation_of, stored_region, turned
from gefa.core.read.scratch import Scratch
from gefa.core.read.sniff import FileKind

_LOADERS = {
    FileKind.PNG: pyvips.Image.pngload,
    FileKind.JPEG: pyvips.Image.jpegload,
    FileKind.WEBP: pyvips.Image.webpload,
    FileKind.AVIF: pyvips.Image.heifload,
    FileKind.GIF: pyvips.Image.gifload,
    FileKind.TIFF: pyvips.Image.tiffload,
}
"""Loaders by kind: libvips would read ``[...]`` in a file name as options."""
_ANIMATED = frozenset({FileKind.GIF, FileKind.WEBP})

GAMUT_SEEN = 400
"""px of the shorter side that colours outside sRGB are looked for on"""
GAMUT_SHARE = 0.01
"""of the pixels, from which that is told"""
LARGE_MEGAPIXELS = 40.0
"""above which regions come from a tiled copy on disk, below from memory"""
_WHAT_TO_DO = "Open it in the program that made it, save it again, and bring it in anew."


class FlatPicture(Document):
    """A PNG, JPEG, WebP, AVIF, HEIC, GIF or TIFF, or one ``page`` (from 0) of it."""

    def __init__(
        self, path: Path, name: str, kind: FileKind, scratch: Scratch | None = None, page: int = 0
    ) -> None:
        self._path = path
        self._kind = kind
        self._file = name
        self._page = page
        self._scratch = scratch or Scratch()
        self._copyright = ""
        self._colours_told = False
        self._stored, self._orientation, alpha, pages = self._header()
        sideways = self._orientation in SIDEWAYS
        size = Size(self._stored.height, self._stored.width) if sideways else self._stored
        check_size(size, name)
        canvas = Part(CANVAS_PATH, "", Path(name).stem or name, Kind.CANVAS)
        super().__init__(
            name,
            kind.value,
            size,
            canvas,
            transparent=alpha,
            stored_bytes=path.stat().st_size,
            copyright=self._copyright,
        )
        if pages > 1 and kind in _ANIMATED:
            self._count_frames(pages)
        elif pages > 1 and kind is not FileKind.TIFF:
            self.notices.append(
                Notice(CANVAS_PATH, f"holds {pages} pictures; only the first is used")
            )

    def _header(self) -> tuple[Size, int, bool, int]:
        """Stored size in px, orientation, whether there is alpha, number of pages or frames."""
        if self._kind is FileKind.HEIC:
            try:
                width, height, alpha = heic_size(self._path)
            except pyvips.Error as error:
                raise self._unreadable(error) from error
            return Size(width, height), 1, alpha, 1
        image = self._open()
        pages = image.get("n-pages") if image.get_typeof("n-pages") else 1
        self._copyright = copyright_of(image)
        return Size(image.width, image.height), orientation_of(image), image.hasalpha(), pages

    def _count_frames(self, frames: int) -> None:
        if frames * self.size.megapixels > MAX_MEGAPIXELS:
            reason = f"has {frames} frames, more than can be kept moving; the first is used"
            self.notices.append(Notice(CANVAS_PATH, reason))
        else:
            self.frames = frames

    def measure(self, parts: Sequence[Part]) -> None:
        """Tells of a profile that cannot be used, and of colours that sRGB does not have."""
        if self._colours_told or not parts:
            return
        self._colours_told = True
        trouble = self.profile_trouble()
        if trouble:
            reason = f"its colour profile is not used: {trouble}. Check its colours"
            self.notices.append(Notice(CANVAS_PATH, reason))
        elif self._kind is not FileKind.HEIC:
            self._tell_of_gamut()

    def profile_trouble(self) -> str:
        return self._profile_trouble

    @cached_property
    def _profile_trouble(self) -> str:
        if self._kind is FileKind.HEIC:
            profile: bytes | None = heic_profile(self._path)
            return trouble_with(profile, "srgb") if profile else ""
        image = self._open()
        if image.get_typeof("icc-profile-data") != 0:
            profile = image.get("icc-profile-data")
        elif self._kind is FileKind.PNG:
            profile = dropped_by_libpng(self._path)
        else:
            return ""
        return "" if profile == b"" else trouble_with(profile, image.interpretation)

    def _tell_of_gamut(self) -> None:
        shrink = _shrink_on_load(self._kind, max(1, self.size.width // GAMUT_SEEN))
        image = self._open(shrink=shrink)
        if image.get_typeof("icc-profile-data") == 0:
            return
        try:
            step = max(1, min(image.width, image.height) // GAMUT_SEEN)
            share = outside_srgb(image.subsample(step, step).copy_memory())
        except pyvips.Error:
            return  # whoever draws it says what is wrong with it
        if share > GAMUT_SHARE:
            part = f"{share:.0%} of it".replace("%", " %")
            reason = f"has colours outside sRGB in {part}; they are brought to the nearest inside"
            self.notices.append(Notice(CANVAS_PATH, reason))

    # -- asking for it -------------------------------------------------------------------

    def extent(self, part: Part) -> Rect:
        return self.canvas_rect

    def fingerprint(self, part: Part) -> str:
        return self._digest

    @cached_property
    def _digest(self) -> str:
        digest = hashlib.sha256()
        with self._path.open("rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
        return digest.hexdigest() + (f" page {self._page}" if self._page else "")

    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        try:
            if region == self.canvas_rect:
                return self._reduced(width)
            return self._cropped(region, width)
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def _reduced(self, width: int) -> pyvips.Image:
        """One pass over the file: convert, reduce while streaming, then turn upright."""
        shrink = _shrink_on_load(self._kind, self.size.width // max(1, width))
        image = to_srgb(self._open(shrink=shrink))
        natural = image.height if self._orientation in SIDEWAYS else image.width
        if natural > 2 * width:
            scale = 2 * width / natural
            image = resize(
                image,
                Size(max(1, round(image.width * scale)), max(1, round(image.height * scale))),
            )
        return turned(image.copy_memory(), self._orientation)

    def _cropped(self, region: Rect, width: int) -> pyvips.Image:
        inside = stored_region(region, self._stored, self._orientation)
        cut = self._any_order.crop(inside.x, inside.y, inside.width, inside.height)
        piece = turned(cut.copy_memory(), self._orientation)
        if piece.width > 2 * width:
            piece = resize(
                piece, Size(2 * width, max(1, round(2 * width * piece.height / piece.width)))
            )
        return piece.copy_memory()

    @cached_property
    def _any_order(self) -> pyvips.Image:
        """All stored pixels as sRGB, readable in any order: in memory, or from a tiled copy on
        disk where that would be too much."""
        return self._in_any_order("picture", to_srgb(self._open()))

    def _in_any_order(self, what: str, image: pyvips.Image) -> pyvips.Image:
        if image.width * image.height <= LARGE_MEGAPIXELS * 1e6:
            return image.copy_memory()
        plain = image.copy()
        plain.remove("page-height")  # else the copy would be a file of pages
        return self._scratch.tiled(f"{self._digest} {what}", plain)

    def natural(self) -> pyvips.Image:
        try:
            return turned(self._any_order, self._orientation)
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def moving(self, region: Rect, size: Size) -> pyvips.Image:
        """``region`` (px) of all frames at ``size`` px under each other, with the fields that
        libvips writes an animation from: ``page-height``, ``delay`` (ms) and ``loop``."""
        try:
            strip = to_srgb(self._open(n=-1))
            times = {name: strip.get(name) for name in ("delay", "loop") if strip.get_typeof(name)}
            strip = self._in_any_order("frames", strip)
            tops = (at * self.size.height + region.y for at in range(self.frames))
            frames = [
                resize(strip.crop(region.x, top, region.width, region.height), size) for top in tops
            ]
            joined = pyvips.Image.arrayjoin(frames, across=1).copy_memory().copy()
        except pyvips.Error as error:
            raise self._unreadable(error) from error
        joined.set_type(pyvips.GValue.gint_type, "page-height", size.height)
        joined.set_type(pyvips.GValue.array_int_type, "delay", times.get("delay", []))
        joined.set_type(pyvips.GValue.gint_type, "loop", times.get("loop", 0))
        return joined

    def _open(self, shrink: int = 1, n: int = 1) -> pyvips.Image:
        options: dict[str, Any] = {"shrink": shrink} if shrink > 1 else {}
        if n != 1:
            options["n"] = n
        if self._page:
            options["page"] = self._page
        try:
            if self._kind is FileKind.HEIC:
                return load_heic(self._path)
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


def _shrink_on_load(kind: FileKind, factor: int) -> int:
    """How far the JPEG decoder may reduce by itself and still leave twice the wanted width."""
    if kind is not FileKind.JPEG:
        return 1
    return next((shrink for shrink in (8, 4, 2) if factor >= 2 * shrink), 1)


def _last_line(error: pyvips.Error) -> str:
    lines = [line.strip() for line in str(error.detail or error).splitlines() if line.strip()]
    return lines[-1].rstrip(".") if lines else "unknown reason"

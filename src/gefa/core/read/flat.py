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
from gefa.core.pixels import AlphaKind, alpha_kind, as_image, outside_srgb, resize, to_srgb
from gefa.core.read.broken import broken_picture, decoder_warnings, forget_errors
from gefa.core.read.colour_profile import dropped_by_libpng, trouble_with
from gefa.core.read.copyright import copyright_of
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Notice, Part, StoredFile
from gefa.core.read.frames import frame_count, frames_of
from gefa.core.read.heic import heic_copyright, heic_profile, load_heic
from gefa.core.read.limits import MAX_FRAMES, MAX_MEGAPIXELS, check_size
from gefa.core.read.orientation import SIDEWAYS, orientation_of, stored_region, turned
from gefa.core.read.samples import Range, as_levels, is_unusual
from gefa.core.read.scratch import Scratch
from gefa.core.read.sniff import FileKind
from gefa.core.read.tiff import TiffPage, load_double, load_lab8
from gefa.core.read.told_colour import ToldColour, colour_of_heif, colour_of_png, has_png_profile

_WHOLE = frozenset({FileKind.AVIF, FileKind.HEIC, FileKind.WEBP, FileKind.GIF})
"""kinds that are decoded whole; interlaced files of other kinds are too"""
_LOADERS = {
    FileKind.PNG: pyvips.Image.pngload,
    FileKind.JPEG: pyvips.Image.jpegload,
    FileKind.WEBP: pyvips.Image.webpload,
    FileKind.AVIF: pyvips.Image.heifload,
    FileKind.GIF: pyvips.Image.gifload,
    FileKind.TIFF: pyvips.Image.tiffload,
}
"""Loaders by kind: libvips would read ``[...]`` in a file name as options."""
_COMPOSED = frozenset({FileKind.GIF, FileKind.PNG, FileKind.AVIF})
"""kinds whose frames are composed here; libvips composes those of WebP"""
_SUSPECT = frozenset({FileKind.JPEG, FileKind.TIFF})
"""kinds whose decoders only warn of some damage, and continue with wrong pixels"""
_JPEG_END = b"\xff\xd9"
_PADDING = 64
"""bytes that programs may leave after the end marker of a JPEG"""

GAMUT_SEEN = 400
"""px of the shorter side of the copy that is searched for colours outside sRGB"""
GAMUT_SHARE = 0.01
"""share of the pixels from which such colours are reported"""
LARGE_MEGAPIXELS = 40.0
"""above which regions are read from a tiled copy on disk, below from memory"""
_GREYS = frozenset({"b-w", "grey16"})


class FlatPicture(Document):
    """A PNG, JPEG, WebP, AVIF, HEIC, GIF or TIFF, or one page of a TIFF."""

    def __init__(
        self,
        path: Path,
        name: str,
        kind: FileKind,
        scratch: Scratch | None = None,
        page: TiffPage | None = None,
    ) -> None:
        self._path = path
        self._kind = kind
        self._file = name
        self._page = page or TiffPage(0)
        self._scratch = scratch or Scratch()
        self._looked_at = False
        self._without_end = kind is FileKind.JPEG and _lacks_end(path)
        if self._page.unread:
            raise SourceError(
                f"is compressed with {self._page.unread}, which is not read.",
                file=name,
                advice="Save it with LZW, Deflate or no compression.",
            )
        header = self._opened()
        self._stored = Size(header.width, header.height)
        self._orientation = orientation_of(header)
        sideways = self._orientation in SIDEWAYS
        size = Size(self._stored.height, self._stored.width) if sideways else self._stored
        interlaced = header.get("interlaced") if header.get_typeof("interlaced") else 0
        check_size(size, name, whole=kind in _WHOLE or bool(interlaced))
        canvas = Part(CANVAS_PATH, "", Path(name).stem or name, Kind.CANVAS)
        super().__init__(
            name,
            kind.value,
            size,
            canvas,
            transparent=self._has_alpha(header),
            stored_bytes=path.stat().st_size,
            copyright=self._copyright_in(header),
        )
        self._count_frames(header)
        self._tell_samples()
        if kind is FileKind.WEBP and self._orientation != 1:
            # Seen in Chromium with a file of another encoder: it turns JPEG, PNG and AVIF.
            self._tell("is turned as its EXIF orientation says; Chromium shows WebP files unturned")

    def _has_alpha(self, header: pyvips.Image) -> bool:
        if self._kind is FileKind.GIF:
            return alpha_kind(header) is not AlphaKind.NONE
        return bool(header.hasalpha())

    def _copyright_in(self, header: pyvips.Image) -> str:
        if self._kind is FileKind.HEIC:
            return heic_copyright(self._path)
        return self._page.copyright or copyright_of(header)

    # -- what there is to tell of it -----------------------------------------------------

    def _tell(self, reason: str) -> None:
        self.notices.append(Notice(CANVAS_PATH, reason))

    def _count_frames(self, header: pyvips.Image) -> None:
        frames = header.get("n-pages") if header.get_typeof("n-pages") else 1
        if self._kind in _COMPOSED:
            frames = frame_count(self._path, self._kind)
        if frames < 2 or self._kind is FileKind.TIFF:
            return
        if self._kind is FileKind.HEIC:
            self._tell(f"holds {frames} pictures; Gefa uses only the first")
        elif frames > MAX_FRAMES or frames * self.size.megapixels > MAX_MEGAPIXELS:
            self._tell(f"has {frames} frames, too many to animate; Gefa uses only the first")
        else:
            self.frames = frames

    def _tell_samples(self) -> None:
        if self._kind is FileKind.TIFF and is_unusual(stored := self._loaded()):
            self._tell(as_levels(stored, self._range)[1])

    def measure(self, parts: Sequence[Part]) -> None:
        """Report damage, a profile that cannot be used, and colours that sRGB does not have."""
        if self._looked_at or not parts:
            return
        self._looked_at = True
        self._tell_of_damage()
        trouble = self.profile_trouble()
        if trouble:
            self._tell(f"its colour profile is not used: {trouble}. Check its colours")
        elif self._told_colour is not None and self._told_colour.problem:
            self._tell(self._told_colour.problem)
        else:
            self._tell_of_colours()

    def _tell_of_damage(self) -> None:
        if self._kind not in _SUSPECT:
            return
        shrink = _shrink_on_load(self._kind, 16)
        try:
            with decoder_warnings() as warnings:
                self._loaded(shrink=shrink, fail_on="warning").avg()
            damage = warnings[-1] if warnings else ""
        except pyvips.Error as error:
            damage = _last_line(error)
            try:
                self._loaded(shrink=shrink).avg()
            except pyvips.Error:
                return  # whoever draws it says that it cannot be
        if damage:
            self._tell(
                f"is damaged ({damage}); part of it may show wrong. Compare it with the original,"
                " and bring it in again"
            )
        elif self._without_end:
            self._tell("lacks its end marker, as if cut off; all of its picture could be read")

    def profile_trouble(self) -> str:
        return self._profile_trouble

    @cached_property
    def _profile_trouble(self) -> str:
        if self._kind is FileKind.HEIC:
            profile: bytes | None = heic_profile(self._path)
            return trouble_with(profile, "srgb") if profile else ""
        try:
            image = self._loaded()
        except pyvips.Error as error:
            raise self._unreadable(error) from error
        if image.get_typeof("icc-profile-data") != 0:
            profile = image.get("icc-profile-data")
        elif self._kind is FileKind.PNG and has_png_profile(self._path):
            profile = dropped_by_libpng(self._path)
        else:
            return ""
        return "" if profile == b"" else trouble_with(profile, image.interpretation)

    def _tell_of_colours(self) -> None:
        shrink = _shrink_on_load(self._kind, max(1, self.size.width // GAMUT_SEEN))
        image = self._opened(shrink=shrink)
        if image.get_typeof("icc-profile-data") == 0:
            if image.interpretation == "cmyk":
                self._tell(
                    "is CMYK without a colour profile; its colours are estimated. Save it as sRGB,"
                    " or with its profile"
                )
            return
        try:
            step = max(1, min(image.width, image.height) // GAMUT_SEEN)
            share = outside_srgb(image.subsample(step, step).copy_memory())
        except pyvips.Error:
            return  # whoever draws it says what is wrong with it
        if share > GAMUT_SHARE:
            part = f"{share:.0%} of it".replace("%", " %")
            self._tell(f"has colours outside sRGB in {part}; they become the nearest sRGB colours")

    @cached_property
    def _range(self) -> Range:
        """The range of a TIFF's samples; reads the whole picture."""
        try:
            return Range(self._loaded().min(), self._loaded().max())
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    @cached_property
    def _told_colour(self) -> ToldColour | None:
        """Colour that the file describes by other means than a profile."""
        if self._kind is FileKind.PNG:
            return colour_of_png(self._path, grey=self._loaded().interpretation in _GREYS)
        if self._kind in (FileKind.AVIF, FileKind.HEIC):
            return colour_of_heif(self._path)
        return None

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
        number = self._page.number
        return digest.hexdigest() + (f" page {number}" if number else "")

    def stored_file(self, part: Part) -> StoredFile | None:
        if self.frames > 1 or self._without_end or self._page.number:
            return None
        return StoredFile(self.format, self.size, self._path.read_bytes)

    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        try:
            if region == self.canvas_rect:
                return self._reduced(width)
            return self._cropped(region, width)
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def _reduced(self, width: int) -> pyvips.Image:
        """One pass over the file: convert, reduce while streaming, then rotate."""
        shrink = _shrink_on_load(self._kind, self.size.width // max(1, width))
        image = to_srgb(self._opened(shrink=shrink))
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
        """All stored pixels as sRGB, for random access: in memory, or from a tiled copy on disk if
        they are too many."""
        return self._in_any_order("picture", to_srgb(self._opened()))

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
            stills, delays, loop = self._frames()
            box = (region.x, region.y, region.width, region.height)
            frames = [resize(still.crop(*box), size).copy_memory() for still in stills]
            joined = pyvips.Image.arrayjoin(frames, across=1).copy_memory().copy()
        except pyvips.Error as error:
            raise self._unreadable(error) from error
        joined.set_type(pyvips.GValue.gint_type, "page-height", size.height)
        joined.set_type(pyvips.GValue.array_int_type, "delay", delays)
        joined.set_type(pyvips.GValue.gint_type, "loop", loop)
        return joined

    def _frames(self) -> tuple[list[pyvips.Image], list[int], int]:
        """All frames as sRGB, for random access; their delays (ms), and how often they play."""
        if self._kind in _COMPOSED:
            movement, rows = frames_of(self._path, self._kind)
            stored = self._scratch.frames(f"{self._digest} frames", self.size, rows)
            frames = [image.copy(interpretation="srgb") for image in stored]
            if self._colour_profile is not None:
                frames = [to_srgb(_with_profile(frame, self._colour_profile)) for frame in frames]
            return frames, list(movement.delays), movement.loop
        strip = self._loaded(n=-1)
        told = {name: strip.get(name) for name in ("delay", "loop") if strip.get_typeof(name)}
        strip = self._in_any_order("frames", to_srgb(strip))
        width, height = self.size.width, self.size.height
        frames = [strip.crop(0, at * height, width, height) for at in range(self.frames)]
        return frames, list(told.get("delay", [])), int(told.get("loop", 0))

    @cached_property
    def _colour_profile(self) -> bytes | None:
        still = self._opened()
        found = still.get_typeof("icc-profile-data")
        return bytes(still.get("icc-profile-data")) if found else None

    # -- opening it ----------------------------------------------------------------------

    def _opened(self, shrink: int = 1) -> pyvips.Image:
        """The still, as its file means it: with a profile for colour described by other means, and
        samples as levels. SourceError if it cannot be opened."""
        try:
            if self._kind is FileKind.GIF:
                _, frames = frames_of(self._path, self._kind)
                return as_image(next(frames).copy())
            image = self._loaded(shrink)
            if self._kind is FileKind.TIFF and is_unusual(image):
                image, _ = as_levels(image, self._range)
            told = self._told_colour
            if told is not None and told.profile is not None:
                image = _with_profile(image, told.profile)
            return image
        except pyvips.Error as error:
            raise self._unreadable(error) from error

    def _loaded(self, shrink: int = 1, n: int = 1, fail_on: str = "error") -> pyvips.Image:
        """The picture as the decoder gives it."""
        forget_errors()
        options: dict[str, Any] = {"shrink": shrink} if shrink > 1 else {}
        if n != 1:
            options["n"] = n
        if self._page.number:
            options["page"] = self._page.number
        options |= {"access": "sequential", "fail_on": fail_on}
        if self._kind is FileKind.HEIC:
            return load_heic(self._path)
        if self._page.is_lab8:
            return load_lab8(self._path, self._page.number)
        if self._page.is_double:
            return load_double(self._path, self._page.number)
        if self._without_end:
            # Strict: with the marker put in, data that is missing before it is only warned of.
            options["fail_on"] = "warning"
            return pyvips.Image.jpegload_buffer(self._path.read_bytes() + _JPEG_END, **options)
        return _LOADERS[self._kind](str(self._path), **options)

    def _unreadable(self, error: pyvips.Error) -> SourceError:
        return broken_picture(self._path, self._kind, self._file, _last_line(error))


def _lacks_end(path: Path) -> bool:
    """Whether a JPEG has no end marker, which costs no pixels if nothing else is missing."""
    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(max(0, size - _PADDING))
        return _JPEG_END not in file.read()


def _with_profile(image: pyvips.Image, profile: bytes) -> pyvips.Image:
    image = image.copy()
    image.set_type(pyvips.GValue.blob_type, "icc-profile-data", profile)
    return image


def _shrink_on_load(kind: FileKind, factor: int) -> int:
    """The factor by which the JPEG decoder may reduce and still leave twice the wanted width."""
    if kind is not FileKind.JPEG:
        return 1
    return next((shrink for shrink in (8, 4, 2) if factor >= 2 * shrink), 1)


def _last_line(error: pyvips.Error) -> str:
    lines = [line.strip() for line in str(error.detail or error).splitlines() if line.strip()]
    return lines[-1].rstrip(".") if lines else "unknown reason"

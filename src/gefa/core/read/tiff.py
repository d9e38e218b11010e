"""What the pages of a TIFF are, and pages that libvips does not read as they are meant.

TIFF 6.0 and TIFF Technical Note 1. The directory is read with tifffile, pixels with libvips; where
that has no reading of its own (8-bit Lab, 64-bit floats) with Pillow or tifffile.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyvips
from PIL import Image, TiffImagePlugin

from gefa.core.pixels import lab_to_srgb
from gefa.core.read.broken import decoder_error
from gefa.core.read.copyright import COPYRIGHT_TAG, copyright_line
from gefa.core.read.limits import MAX_PAGES

# Only the reading of Lab pages is left to Pillow; their size is checked before.
Image.MAX_IMAGE_PIXELS = None

_REDUCED, _MASK = 1, 4
"""bits of NewSubfileType"""
_LAB, _FLOAT, _SIGNED = 8, 3, 2
"""PhotometricInterpretation and SampleFormat"""
READ_COMPRESSIONS = frozenset({1, 2, 3, 4, 5, 6, 7, 8, 32771, 32773, 32946, 50001})
"""of the TIFF library in libvips: none, CCITT, LZW, JPEG, Deflate, PackBits, WebP"""
_BROKEN = (OSError, ValueError, TypeError, KeyError, IndexError, SyntaxError, ArithmeticError)


@dataclass(frozen=True, slots=True)
class TiffPage:
    """A page: its number in the file from 0, its PageName (or empty), and how it is stored."""

    number: int
    name: str = ""
    reduced: bool = False
    compression: int = 1
    compression_name: str = ""
    photometric: int = 2
    sample_format: int = 1
    bits: int = 8
    copyright: str = ""

    @property
    def is_lab8(self) -> bool:
        return self.photometric == _LAB and self.bits == 8

    @property
    def is_double(self) -> bool:
        return self.sample_format == _FLOAT and self.bits == 64

    @property
    def unread(self) -> str:
        """The compression, if it is not supported; else empty."""
        return "" if self.compression in READ_COMPRESSIONS else self.compression_name


def pages_of(path: Path) -> list[TiffPage]:
    """All pages, up to one more than ``MAX_PAGES``; none if the file is too broken."""
    import tifffile  # here: only TIFFs need it, and it takes a while to load

    found: list[TiffPage] = []
    try:
        with tifffile.TiffFile(path) as tiff:
            for number in range(MAX_PAGES + 1):
                try:
                    found.append(_page(number, tiff.pages[number]))
                except IndexError:
                    break
    except Exception:
        # tifffile raises whatever a broken directory leads to; who decodes it says what is wrong.
        return found
    return found


def full_pages(pages: list[TiffPage]) -> list[TiffPage]:
    """Pages that are pictures, not reduced copies or masks of others."""
    return [page for page in pages if not page.reduced] or pages[:1]


def _page(number: int, page: Any) -> TiffPage:
    tags = page.tags
    kind = int(tags.valueof(254, 0) or 0)
    bits = page.bitspersample
    return TiffPage(
        number,
        str(tags.valueof(285, "") or ""),
        bool(kind & (_REDUCED | _MASK)),
        int(page.compression),
        getattr(page.compression, "name", str(int(page.compression))).replace("_", " "),
        int(page.photometric) if page.photometric is not None else 2,
        int(page.sampleformat or 1),
        int(bits[0] if isinstance(bits, tuple) else bits or 8),
        copyright_line(str(tags.valueof(COPYRIGHT_TAG, "") or "")),
    )


def load_lab8(path: Path, number: int) -> pyvips.Image:
    """A page of 8-bit CIELAB as 8-bit sRGB; pyvips.Error if it cannot be decoded."""
    try:
        with TiffImagePlugin.TiffImageFile(str(path)) as tiff:
            tiff.seek(number)
            pixels = np.asarray(tiff)
            orientation = int(tiff.getexif().get(274, 1))
    except _BROKEN as error:
        raise decoder_error(str(error) or "it cannot be decoded") from error
    lab = np.empty(pixels.shape, np.float32)
    lab[..., 0] = pixels[..., 0] * np.float32(100 / 255)
    lab[..., 1:] = pixels[..., 1:].astype(np.int8)
    image = lab_to_srgb(pyvips.Image.new_from_array(lab, interpretation="lab"))
    image = image.copy()
    image.set_type(pyvips.GValue.gint_type, "orientation", orientation)
    return image


def load_double(path: Path, number: int) -> pyvips.Image:
    """A page of 64-bit floats as 32-bit floats; pyvips.Error if it cannot be decoded."""
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            pixels = tiff.pages[number].asarray().astype(np.float32)
    except Exception as error:
        raise decoder_error(str(error) or "it cannot be decoded") from error
    bands = 1 if pixels.ndim == 2 else pixels.shape[2]
    meant = "b-w" if bands < 3 else "scrgb"
    return pyvips.Image.new_from_array(pixels, interpretation=meant)

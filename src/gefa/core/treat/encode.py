"""Pixels to the bytes of a file. Metadata and profiles are left behind."""

from __future__ import annotations

from collections.abc import Callable

import pyvips

from gefa.core.errors import EncodeError
from gefa.core.geometry import MM_PER_INCH, Size
from gefa.core.treat.formats import FORMATS, Format

AVIF_EFFORT = 3
WEBP_EFFORT = 4
PNG_COMPRESSION = 9
ENCODER = (
    f"vips {pyvips.version(0)}.{pyvips.version(1)}.{pyvips.version(2)}"
    f" avif {AVIF_EFFORT} webp {WEBP_EFFORT} png {PNG_COMPRESSION} made 1"
)
"""Everything outside recipe and pixels that a file's bytes depend on."""


def too_large_for(format: Format, size: Size) -> str:
    """Why ``format`` cannot hold a picture of ``size``; empty if it can."""
    able = FORMATS[format]
    if max(size.width, size.height) <= able.max_side:
        return ""
    return (
        f"{able.label} holds at most {able.max_side:,} px a side, and this would be"
        f" {size.width:,} × {size.height:,} px. Use a smaller width, or PNG."
    )


def encode(
    image: pyvips.Image, format: Format, quality: int | None, dpi: float | None = None
) -> bytes:
    """The file's bytes. ``image`` is 8-bit sRGB and has alpha only if ``format`` can hold it.

    ``quality`` is 1..100 on the encoder's own scale. ``dpi``, in px for each inch, is written into
    formats that have a field for it. Raises EncodeError.
    """
    if dpi is not None:
        image = image.copy(xres=dpi / MM_PER_INCH, yres=dpi / MM_PER_INCH)
    problem = too_large_for(format, Size(image.width, image.get_page_height()))
    if problem:
        raise EncodeError(problem)
    try:
        return bytes(_WRITERS[format](image, quality))
    except pyvips.Error as error:
        reason = str(error).strip().splitlines()[-1]
        raise EncodeError(f"the {FORMATS[format].label} encoder refused it: {reason}.") from error


def _avif(image: pyvips.Image, quality: int | None) -> bytes:
    return image.heifsave_buffer(
        compression="av1", encoder="aom", Q=quality, effort=AVIF_EFFORT, keep="none"
    )


def _webp(image: pyvips.Image, quality: int | None) -> bytes:
    return image.webpsave_buffer(Q=quality, effort=WEBP_EFFORT, keep="none")


def _jpeg(image: pyvips.Image, quality: int | None) -> bytes:
    return image.jpegsave_buffer(Q=quality, optimize_coding=True, interlace=True, keep="none")


def _png(image: pyvips.Image, quality: int | None) -> bytes:
    return image.pngsave_buffer(compression=PNG_COMPRESSION, keep="none")


_WRITERS: dict[Format, Callable[[pyvips.Image, int | None], bytes]] = {
    Format.AVIF: _avif,
    Format.WEBP: _webp,
    Format.JPEG: _jpeg,
    Format.PNG: _png,
}

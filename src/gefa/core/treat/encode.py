"""Pixels to the bytes of a file. Metadata and profiles are left behind."""

from __future__ import annotations

from collections.abc import Callable

import pyvips

from gefa.core.errors import EncodeError
from gefa.core.geometry import MM_PER_INCH, Size
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.invisible import with_black_beneath
from gefa.core.treat.recipe import Chroma, Settings

ENCODER = f"vips {pyvips.version(0)}.{pyvips.version(1)}.{pyvips.version(2)} made 3"
"""Everything outside recipe and pixels that a file's bytes depend on."""
USUAL = Settings()
_SUBSAMPLED = {Chroma.AUTO: "auto", Chroma.FULL: "off", Chroma.HALF: "on"}


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
    image: pyvips.Image,
    format: Format,
    quality: int | None,
    settings: Settings = USUAL,
    dpi: float | None = None,
) -> bytes:
    """The file's bytes. ``image`` is 8-bit sRGB and has alpha only if ``format`` can hold it.

    ``quality`` is 1..100 on the encoder's own scale; without one PNG and WebP lose nothing.
    ``dpi``, in px for each inch, is written into
    formats that have a field for it. Raises EncodeError.
    """
    if dpi is not None:
        image = image.copy(xres=dpi / MM_PER_INCH, yres=dpi / MM_PER_INCH)
    problem = too_large_for(format, Size(image.width, image.get_page_height()))
    if problem:
        raise EncodeError(problem)
    if not FORMATS[format].lossy:
        image = with_black_beneath(image)
    keep = "none"
    if settings.copyright:
        image, keep = _signed(image, settings.copyright), "exif"
    try:
        return _ENCODERS[format](image, quality, settings, keep)
    except pyvips.Error as error:
        reason = str(error).strip().splitlines()[-1]
        raise EncodeError(f"the {FORMATS[format].label} encoder refused it: {reason}.") from error


def _signed(image: pyvips.Image, copyright: str) -> pyvips.Image:
    """The picture with this one entry of metadata and no other."""
    signed = image.copy()
    for field in signed.get_fields():
        if field.startswith(("exif-", "xmp-", "iptc-")):
            signed.remove(field)
    signed.set_type(pyvips.GValue.gstr_type, "exif-ifd0-Copyright", copyright)
    return signed


def _effort(format: Format, settings: Settings) -> int:
    return FORMATS[format].effort if settings.effort is None else settings.effort


def _avif(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    return bytes(
        image.heifsave_buffer(
            compression="av1",
            encoder="aom",
            Q=quality,
            effort=_effort(Format.AVIF, settings),
            subsample_mode=_SUBSAMPLED[settings.chroma],
            keep=keep,
        )
    )


def _webp(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    effort = _effort(Format.WEBP, settings)
    if quality is None:
        return bytes(image.webpsave_buffer(lossless=True, effort=effort, keep=keep))
    # WebP always stores half the colour; "full" has it choose which half with more care.
    smart = settings.chroma is Chroma.FULL
    return bytes(image.webpsave_buffer(Q=quality, effort=effort, smart_subsample=smart, keep=keep))


def _jpeg(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    return bytes(
        image.jpegsave_buffer(
            Q=quality,
            optimize_coding=True,
            interlace=settings.progressive,
            subsample_mode=_SUBSAMPLED[settings.chroma],
            keep=keep,
        )
    )


def _png(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    told: dict[str, object] = {"compression": _effort(Format.PNG, settings), "keep": keep}
    if settings.colours is not None:
        bits = {2: 1, 4: 2, 16: 4, 256: 8}[settings.colours]
        # 7: how hard libimagequant tries, of 10; beyond, it takes long and gains nothing to see.
        told |= {"palette": True, "bitdepth": bits, "dither": settings.dither, "effort": 7}
    return bytes(image.pngsave_buffer(**told))


_ENCODERS: dict[Format, Callable[[pyvips.Image, int | None, Settings, str], bytes]] = {
    Format.AVIF: _avif,
    Format.WEBP: _webp,
    Format.JPEG: _jpeg,
    Format.PNG: _png,
}
"""each gets 8-bit sRGB, the quality, settings, and which metadata to keep"""

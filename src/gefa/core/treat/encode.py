"""Pixels to the bytes of a file. Metadata and profiles are left behind."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pyvips

from gefa.core.errors import EncodeError
from gefa.core.geometry import MM_PER_INCH, Size
from gefa.core.treat import png
from gefa.core.treat.formats import FORMATS, Effort, Format
from gefa.core.treat.invisible import with_black_beneath
from gefa.core.treat.recipe import Chroma, Settings

ENCODER = f"vips {pyvips.version(0)}.{pyvips.version(1)}.{pyvips.version(2)} made 5"
"""Everything apart from recipe and pixels that the bytes of a file depend on."""
# With two threads libaom makes other AVIF files than with one, 2 to 3 % heavier: the same job has
# to give the same files on every machine. Encoding processes had one thread anyway.
pyvips.concurrency_set(1)
USUAL = Settings()
_TABLE, _FINE_TABLE = 5, 2
"""quantisation tables in libjpeg's list. At equal scores, with trellis quantisation, photographs of
480 to 800 px weigh 0.90 and 0.92 of what they weighed before around look 75, and 0.97 and 0.94
around 85; table 3, the usual choice, gives 0.92 and 0.97"""
_FINE_QUALITY = 88
"""from which the second table is better"""
_ALPHA_QUALITY = 75
"""of WebP's transparency: pieces with soft edges weigh 0.87 of those with lossless alpha, and lose
0.2 points; at 50 they would lose 5"""
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
    """The file's bytes.

    ``image`` is 8-bit sRGB, with alpha only if ``format`` supports it. ``quality`` is 1..100 on the
    encoder's own scale; without one, PNG and WebP are lossless. ``dpi``, in px per inch, is written
    into formats with a field for it. EncodeError if the encoder refuses.
    """
    with _refusals(format):
        ready, keep = _ready(image, format, settings, dpi)
        return _ENCODERS[format](ready, quality, settings, keep)


def encode_with_fewest_colours(
    image: pyvips.Image,
    good: Callable[[bytes], bool],
    settings: Settings = USUAL,
    dpi: float | None = None,
) -> bytes | None:
    """A PNG with the smallest palette that is still ``good``; None if 256 colours are not enough.
    EncodeError if the encoder refuses."""
    with _refusals(Format.PNG):
        ready, keep = _ready(image, Format.PNG, settings, dpi)
        effort = _effort(Format.PNG, settings)
        return png.with_fewest_colours(ready, good, settings.dither, effort, keep)


@contextmanager
def _refusals(format: Format) -> Iterator[None]:
    """Turn an encoder's refusal into an EncodeError."""
    try:
        yield
    except pyvips.Error as error:
        reason = str(error).strip().splitlines()[-1]
        raise EncodeError(f"the {FORMATS[format].label} encoder failed: {reason}.") from error


def _ready(
    image: pyvips.Image, format: Format, settings: Settings, dpi: float | None
) -> tuple[pyvips.Image, str]:
    """The picture as its encoder needs it, and the metadata to keep. EncodeError if it is too large
    for the format."""
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
    return image, keep


def _signed(image: pyvips.Image, copyright: str) -> pyvips.Image:
    """The picture with this copyright as its only metadata."""
    signed = image.copy()
    for field in signed.get_fields():
        if field.startswith(("exif-", "xmp-", "iptc-")):
            signed.remove(field)
    signed.set_type(pyvips.GValue.gstr_type, "exif-ifd0-Copyright", copyright)
    return signed


def _effort(format: Format, settings: Settings) -> int:
    return FORMATS[format].effort() if settings.effort is None else settings.effort


def _avif(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    effort = _effort(Format.AVIF, settings)
    return bytes(
        image.heifsave_buffer(
            compression="av1",
            encoder="aom",
            Q=quality,
            effort=effort,
            bitdepth=10 if effort >= FORMATS[Format.AVIF].effort(Effort.THOROUGH) else 8,
            subsample_mode=_SUBSAMPLED[settings.chroma],
            keep=keep,
        )
    )


def _webp(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    effort = _effort(Format.WEBP, settings)
    if quality is None:
        near = {"near_lossless": True, "Q": settings.near} if settings.near < 100 else {}
        return bytes(image.webpsave_buffer(lossless=True, effort=effort, keep=keep, **near))
    # WebP always stores half the colour. Care for which half takes 3.5 times the time. Over 21
    # photographs it saves a tenth and more where coarse colour alone takes over two fifths of what
    # a look allows to be lost, and nothing elsewhere: looks tell which; a number does not.
    quick = settings.chroma is Chroma.AUTO and effort <= FORMATS[Format.WEBP].effort(Effort.QUICK)
    smart = settings.chroma is not Chroma.HALF and not quick
    alpha = _ALPHA_QUALITY if quality < _FINE_QUALITY else 100
    return bytes(
        image.webpsave_buffer(
            Q=quality, effort=effort, smart_subsample=smart, alpha_q=alpha, keep=keep
        )
    )


def _jpeg(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    trellis = _effort(Format.JPEG, settings) > 0
    fine = quality is not None and quality >= _FINE_QUALITY
    return bytes(
        image.jpegsave_buffer(
            Q=quality,
            optimize_coding=True,
            interlace=settings.progressive,
            trellis_quant=trellis,
            overshoot_deringing=trellis,
            optimize_scans=trellis and settings.progressive,
            quant_table=_FINE_TABLE if fine else _TABLE,
            subsample_mode=_SUBSAMPLED[settings.chroma],
            keep=keep,
        )
    )


def _png(image: pyvips.Image, quality: int | None, settings: Settings, keep: str) -> bytes:
    effort = _effort(Format.PNG, settings)
    if isinstance(settings.colours, int):
        return png.with_palette(image, settings.colours, settings.dither, effort, keep)
    return png.lossless(image, effort, keep)


_ENCODERS: dict[Format, Callable[[pyvips.Image, int | None, Settings, str], bytes]] = {
    Format.AVIF: _avif,
    Format.WEBP: _webp,
    Format.JPEG: _jpeg,
    Format.PNG: _png,
}
"""each takes 8-bit sRGB, the quality, settings, and the metadata to keep"""

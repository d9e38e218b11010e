"""Takes a picture's own file as it is, without its metadata, where nothing lighter can be made.

Only what shows the picture stays of a file: metadata, profiles and whatever else somebody may have
put into it are left out, also where no decoder looks.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

import pyvips

from gefa.core.pixels import with_alpha
from gefa.core.treat.avif_boxes import holds_only_its_picture
from gefa.core.treat.bare.jpeg import bare_jpeg, least_jpeg_bytes
from gefa.core.treat.bare.png import bare_png
from gefa.core.treat.bare.unfit import Unfit
from gefa.core.treat.bare.webp import bare_webp
from gefa.core.treat.formats import Format
from gefa.core.treat.invisible import with_black_beneath
from gefa.core.treat.shown import shown

SMOOTHED = 2.0
"""levels of 255"""
BLOCK = 8
"""px a side: a black dot of 3 px changes the mean of a block by more than 9 levels"""


def bare(data: bytes, format: Format) -> bytes | None:
    """The file with its picture and nothing else; None if that is impossible: animations, damaged
    files, an AVIF file that contains anything else, a bitstream that hides something. The pixels
    stay; JPEG is written anew from its coefficients."""
    strip = _STRIPPERS.get(format)
    try:
        return strip(data) if strip is not None else None
    except (Unfit, struct.error, IndexError, KeyError, ValueError, pyvips.Error):
        return None


def least_bytes(data: bytes, format: Format) -> int:
    """The fewest bytes that ``bare`` may give, found at little cost; 0 if it gives nothing."""
    if format is not Format.JPEG:
        return 0
    try:
        return least_jpeg_bytes(data)
    except (Unfit, struct.error, IndexError):
        return 0


def shows(data: bytes, format: Format, image: pyvips.Image, *, drawn: bool = False) -> bool:
    """Whether browsers show a file exactly as ``image``, 8-bit sRGB; what is fully transparent may
    have any colour. AVIF counts as the same within SMOOTHED levels of 255 on average: where it
    stores colour at half resolution, browsers smooth it and libvips, which gave the image, does
    not. In a drawing (``drawn``), whose decoders round otherwise, AVIF and JPEG count as the same
    where no block of BLOCK px a side differs by more than that: something small may lie over
    them."""
    try:
        own = _comparable(shown(data, format))
        other = _comparable(image)
        if (own.width, own.height) != (other.width, other.height):
            return False
        if drawn and format in (Format.AVIF, Format.JPEG):
            return bool((own - other).shrink(BLOCK, BLOCK, ceil=True).abs().max() <= SMOOTHED)
        if format is Format.AVIF:
            return bool((own - other).abs().avg() <= SMOOTHED)
        return bool((own != other).max() == 0)
    except (pyvips.Error, OSError):
        return False


def _comparable(image: pyvips.Image) -> pyvips.Image:
    return with_black_beneath(with_alpha(image))


def _avif(data: bytes) -> bytes:
    if not holds_only_its_picture(data):
        raise Unfit
    return data


_STRIPPERS: dict[Format, Callable[[bytes], bytes]] = {
    Format.AVIF: _avif,
    Format.JPEG: bare_jpeg,
    Format.PNG: bare_png,
    Format.WEBP: bare_webp,
}

"""PNG files: encoded by libvips, with fewer colours where that is wanted, then made smaller."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import oxipng
import pyvips

SIGNATURE = b"\x89PNG\r\n\x1a\n"
BEST = 100
"""libimagequant's quality that loses nothing"""
_QUANTISING = 7
"""libimagequant's effort, of 10: more takes long and gains nothing visible"""
_LEVELS = (None, 0, 1, 1, 2, 2, 3, 3, 4, 5)
"""oxipng's level for our effort, 0 to 9: on flat art level 4 takes seven times as long as 2 and
gives 0.96 of its bytes; level 2 is enough for the usual effort"""
_PLAIN = 1
"""the level for pictures beyond _LARGE: higher ones take seconds per megapixel"""
_LARGE, _HUGE = 4_000_000, 12_000_000
"""px; huge ones stay as libpng makes them, since oxipng holds several copies of all pixels"""
_COMPRESSION = 6
"""of libpng, 0 to 9, before oxipng, which compresses everything again"""
_TIGHTEST = 9


def lossless(image: pyvips.Image, effort: int, keep: str) -> bytes:
    """A lossless PNG of 8-bit sRGB. ``keep`` is the metadata to keep, for libvips."""
    level = _level(effort, image)
    compression = _TIGHTEST if level is None and effort else _COMPRESSION
    return _smaller(bytes(image.pngsave_buffer(compression=compression, keep=keep)), level)


def with_palette(image: pyvips.Image, colours: int, dither: float, effort: int, keep: str) -> bytes:
    """A PNG of at most ``colours`` (2 to 256); ``dither`` is 0..1. libvips makes palettes of 2, 4,
    16 or 256, and smaller ones through libimagequant's quality, which is searched for."""
    bits = next(bits for bits in (1, 2, 4, 8) if 2**bits >= colours)
    data = _quantised(image, bits, BEST, dither, keep)
    if colours_of(data) > colours:
        data = _bisected(
            lambda quality: _quantised(image, bits, quality, dither, keep),
            lambda made: colours_of(made) <= colours,
            highest=True,
        ) or _quantised(image, bits // 2, BEST, dither, keep)
    return _smaller(data, _level(effort, image))


def with_fewest_colours(
    image: pyvips.Image,
    good: Callable[[bytes], bool],
    dither: float,
    effort: int,
    keep: str,
) -> bytes | None:
    """A PNG with the smallest palette that is ``good``; None if 256 colours are not enough."""

    def made(quality: int) -> bytes:
        return _quantised(image, 8, quality, dither, keep)

    # Most pictures that need more than a palette are known by one try.
    best = made(BEST)
    if not good(best):
        return None
    found = _bisected(made, good, highest=False) or best
    return _smaller(found, _level(effort, image))


def colours_of(png: bytes) -> int:
    """The size of a file's palette; 0 without one (W3C PNG 3, section 5.3: a chunk is its length,
    its type, its data and a checksum)."""
    return next((len(raw) // 3 - 4 for kind, raw in chunks(png) if kind == b"PLTE"), 0)


def chunks(png: bytes) -> Iterator[tuple[bytes, bytes]]:
    """Each chunk's type, and its whole bytes with length, type and checksum."""
    at, kind = len(SIGNATURE), b""
    while at + 12 <= len(png) and kind != b"IEND":
        length, kind = struct.unpack_from(">I4s", png, at)
        yield kind, png[at : at + 12 + length]
        at += 12 + length


def _quantised(image: pyvips.Image, bits: int, quality: int, dither: float, keep: str) -> bytes:
    return bytes(
        image.pngsave_buffer(
            palette=True, bitdepth=bits, Q=quality, dither=dither, effort=_QUANTISING,
            compression=_COMPRESSION, keep=keep,
        )
    )  # fmt: skip


def _bisected(
    made: Callable[[int], bytes], good: Callable[[bytes], bool], *, highest: bool
) -> bytes | None:
    """The file of the highest or lowest quality (1..100) that is good; None if none is."""
    first, last = 1, BEST
    found = None
    while first <= last:
        middle = (first + last) // 2
        data = made(middle)
        fine = good(data)
        if fine:
            found = data
        if fine == highest:
            first = middle + 1
        else:
            last = middle - 1
    return found


def _level(effort: int, image: pyvips.Image) -> int | None:
    """oxipng's level for a picture; None if it is not used."""
    pixels = image.width * image.height
    level = _LEVELS[effort]
    if level is None or pixels > _HUGE:
        return None
    return min(level, _PLAIN) if pixels > _LARGE else level


def _smaller(png: bytes, level: int | None) -> bytes:
    """The same pixels and metadata in fewer bytes: better filters, bit depths, colour types and
    compression."""
    if level is None:
        return png
    try:
        return bytes(oxipng.optimize_from_memory(png, level=level))
    except oxipng.PngError:
        return png  # as good, only heavier

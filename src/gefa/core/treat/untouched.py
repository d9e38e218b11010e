"""Takes a picture's own file as it is, without its metadata, where nothing lighter can be made.

Only what shows the picture stays of a file: metadata, profiles and whatever else somebody may have
put into it are left out. No picture is decoded or encoded for that.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import pyvips

from gefa.core.pixels import with_alpha
from gefa.core.treat.avif_boxes import holds_only_its_picture
from gefa.core.treat.formats import Format
from gefa.core.treat.invisible import with_black_beneath
from gefa.core.treat.png import SIGNATURE, chunks
from gefa.core.treat.shown import shown

SMOOTHED = 2.0
"""levels of 255"""
BLOCK = 8
"""px a side: a black dot of 3 px changes the mean of a block by more than 9 levels"""
_JFIF = b"\xff\xe0\x00\x10JFIF\x00\x01\x01\x00\x00\x01\x00\x01\x00\x00"
"""ITU-T T.871, section 10: colours are YCbCr; 1 px by 1 px, no thumbnail"""
_TABLES = {0xDB, 0xC4, 0xDD, 0xC0, 0xC1, 0xC2}
"""markers of JPEG segments that stay (ITU-T T.81, table B.1): tables, restart interval, and frames
of Huffman-coded kinds"""
_FRAMES = {0xC0, 0xC1, 0xC2}
"""markers of frame headers; the number of components is their tenth byte (ITU-T T.81, B.2.2)"""
CMYK_COMPONENTS = 4
_COLOUR_TRANSFORM = b"\xff\xee\x00\x0e"
"""the segment of 14 bytes that says how colours are stored if not as YCbCr (ITU-T T.872, section
6.5.3)"""
_PNG_KEPT = {b"IHDR", b"PLTE", b"tRNS", b"IDAT", b"IEND"}
_WEBP_KEPT = {b"VP8 ", b"VP8L", b"ALPH"}
_VP8X_ALPHA = 0x10
"""the only flag of a still WebP's extended header that stays (RFC 9649, section 2.7)"""


class _Unfit(Exception):
    """The file has a structure that is not supported here."""


def bare(data: bytes, format: Format) -> bytes | None:
    """The file with its picture and nothing else; None if that is impossible: animations, damaged
    files, and an AVIF file that contains anything else."""
    strip = _STRIPPERS.get(format)
    try:
        return strip(data) if strip is not None else None
    except (_Unfit, struct.error, IndexError):
        return None


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


def _jpeg(data: bytes) -> bytes:
    kept = [data[:2], _JFIF]
    if data[:2] != b"\xff\xd8":
        raise _Unfit
    at = 2
    while True:
        if data[at] != 0xFF:
            raise _Unfit
        marker = data[at + 1]
        if marker == 0xFF:  # fill bytes may stand before any marker
            at += 1
        elif marker == 0xD9:
            return b"".join([*kept, b"\xff\xd9"])
        else:
            end = at + 2 + struct.unpack_from(">H", data, at + 2)[0]
            if marker == 0xDA:
                end = _end_of_scan(data, end)
                kept.append(data[at:end])
            elif marker in _FRAMES and data[at + 9] == CMYK_COMPONENTS:
                raise _Unfit  # browsers convert its colours each in their own way
            elif marker in _TABLES or data.startswith(_COLOUR_TRANSFORM, at):
                kept.append(data[at:end])
            elif not (0xE0 <= marker <= 0xEF or marker == 0xFE):
                raise _Unfit  # arithmetic coding, hierarchies: browsers do not show them
            at = end


def _end_of_scan(data: bytes, at: int) -> int:
    """Where the next marker is that is none of a scan's own (0xFF00 is a byte, 0xD0 to 0xD7
    restart)."""
    while True:
        at = data.find(b"\xff", at)
        if at < 0 or at + 1 >= len(data):
            raise _Unfit
        if data[at + 1] == 0 or 0xD0 <= data[at + 1] <= 0xD7:
            at += 2
        else:
            return at


def _png(data: bytes) -> bytes:
    kept = [raw for kind, raw in chunks(data) if kind in _PNG_KEPT]
    if not data.startswith(SIGNATURE) or not kept or kept[-1][4:8] != b"IEND":
        raise _Unfit
    return SIGNATURE + b"".join(kept)


def _webp(data: bytes) -> bytes:
    kept = b"".join(_webp_chunks(data))
    return b"RIFF" + struct.pack("<I", len(kept) + 4) + b"WEBP" + kept


def _webp_chunks(data: bytes) -> Iterator[bytes]:
    if data[:4] != b"RIFF" or data[8:12] != b"WEBP":
        raise _Unfit
    at, end = 12, min(len(data), 8 + struct.unpack_from("<I", data, 4)[0])
    while at + 8 <= end:
        kind, length = struct.unpack_from("<4sI", data, at)
        chunk = data[at : at + 8 + length + length % 2]
        if kind in (b"ANIM", b"ANMF") or len(chunk) < 8 + length:
            raise _Unfit
        if kind == b"VP8X":
            yield chunk[:8] + bytes([chunk[8] & _VP8X_ALPHA, 0, 0, 0]) + chunk[12:]
        elif kind in _WEBP_KEPT:
            yield chunk
        at += len(chunk)


def _avif(data: bytes) -> bytes:
    if not holds_only_its_picture(data):
        raise _Unfit
    return data


_STRIPPERS: dict[Format, Callable[[bytes], bytes]] = {
    Format.AVIF: _avif,
    Format.JPEG: _jpeg,
    Format.PNG: _png,
    Format.WEBP: _webp,
}

"""JPEG, written anew from its coefficients: the same pixels, and no byte of the old file."""

from __future__ import annotations

import struct
from typing import cast

import mozjpeg_lossless_optimization as mozjpeg  # type: ignore[import-untyped]

from gefa.core.treat.bare.unfit import Unfit

LARGEST = 24_000_000
"""px; all coefficients are in memory at once, up to 6 bytes a pixel"""
LEAST_SHARE = 0.4
"""of a file's scans: rewriting saves 5 to 20 %, and half of a coarse one with plain tables"""
CMYK_COMPONENTS = 4
_FRAMES = {0xC0, 0xC1, 0xC2}
"""markers of frame headers of Huffman-coded kinds (ITU-T T.81, table B.1). Height, width and the
number of components are at bytes 5, 7 and 9 (B.2.2)"""
_NOT_SHOWN = {0xC3, *range(0xC5, 0xC8), *range(0xC9, 0xCC), *range(0xCD, 0xD0), 0xDC, 0xDE, 0xDF}
"""arithmetic coding, hierarchies, heights that come later: browsers do not show them"""


def bare_jpeg(data: bytes) -> bytes:
    """Unfit for CMYK, which each browser converts in its own way, for damaged files, and for those
    above LARGEST."""
    _scan_bytes(data)
    try:
        return cast(bytes, mozjpeg.optimize(data, copy=mozjpeg.COPY_MARKERS.NONE))
    except ValueError as error:
        raise Unfit from error


def least_jpeg_bytes(data: bytes) -> int:
    """About the fewest bytes that ``bare_jpeg`` can give: known without decoding anything. Unfit as
    there."""
    return int(LEAST_SHARE * _scan_bytes(data))


def _scan_bytes(data: bytes) -> int:
    """Follow the segments to the end of the picture; returns the bytes of its scans."""
    if data[:2] != b"\xff\xd8":
        raise Unfit
    at, scans = 2, 0
    while True:
        if data[at] != 0xFF:
            raise Unfit
        marker = data[at + 1]
        if marker == 0xFF:  # fill bytes may stand before any marker
            at += 1
            continue
        if marker == 0xD9:
            return scans
        if marker in _NOT_SHOWN:
            raise Unfit
        if marker in _FRAMES:
            height, width, components = struct.unpack_from(">HHB", data, at + 5)
            if components == CMYK_COMPONENTS or width * height > LARGEST:
                raise Unfit
        at += 2 + struct.unpack_from(">H", data, at + 2)[0]
        if marker == 0xDA:
            begun, at = at, _end_of_scan(data, at)
            scans += at - begun


def _end_of_scan(data: bytes, at: int) -> int:
    """Where the next marker is that is none of a scan's own (0xFF00 is a byte, 0xD0 to 0xD7
    restart)."""
    while True:
        at = data.find(b"\xff", at)
        if at < 0 or at + 1 >= len(data):
            raise Unfit
        if data[at + 1] == 0 or 0xD0 <= data[at + 1] <= 0xD7:
            at += 2
        else:
            return at

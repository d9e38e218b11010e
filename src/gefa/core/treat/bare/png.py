"""PNG, with the compressed pixels that it has (W3C PNG 3, sections 5, 9 to 11)."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator

import numpy as np

from gefa.core.pixels import with_alpha
from gefa.core.treat.bare.unfit import Unfit
from gefa.core.treat.formats import Format
from gefa.core.treat.png import SIGNATURE, chunks
from gefa.core.treat.shown import shown

LARGEST_PALETTE = 20_000_000
"""px; the colours of a picture with a palette are counted"""
_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
"""by colour type"""
_PALETTE = 3
_KEY_BYTES = {0: 2, 2: 6}
"""of tRNS, by colour type without a palette"""
_PASSES = (
    (0, 8, 0, 8),
    (4, 8, 0, 8),
    (0, 4, 4, 8),
    (2, 4, 0, 4),
    (0, 2, 2, 4),
    (1, 2, 0, 2),
    (0, 1, 1, 2),
)
"""first column, step, first row, step of each pass of an interlaced picture"""  # fmt: skip
_PIECE = 1 << 20


def bare_png(data: bytes) -> bytes:
    """Unfit where the compressed data holds anything but the scanlines, where a colour of the
    palette does not show, and for animations and damaged files."""
    if not data.startswith(SIGNATURE):
        raise Unfit
    found: dict[bytes, list[bytes]] = {}
    kinds = []
    for kind, raw in chunks(data):
        found.setdefault(kind, []).append(raw[8:-4])
        kinds.append(kind)
    if kinds[:1] != [b"IHDR"] or kinds[-1] != b"IEND" or b"acTL" in found:
        raise Unfit
    first = kinds.index(b"IDAT") if b"IDAT" in found else 0
    count = len(found.get(b"IDAT", ()))
    if not count or kinds[first : first + count] != [b"IDAT"] * count:
        raise Unfit  # libpng stops at the first other chunk
    (header,), pixels = found[b"IHDR"], b"".join(found[b"IDAT"])
    _check_pixels(header, pixels)
    kept = [(b"IHDR", header), *_colours(header, found), (b"IDAT", pixels), (b"IEND", b"")]
    bare = SIGNATURE + b"".join(_chunk(kind, body) for kind, body in kept)
    if header[9] == _PALETTE:
        _check_palette(header, bare, found)
    return bare


def _chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def _colours(header: bytes, found: dict[bytes, list[bytes]]) -> Iterator[tuple[bytes, bytes]]:
    """Palette and transparency, where this colour type has them."""
    depth, kind = header[8], header[9]
    (palette, *more), (clear, *again) = found.get(b"PLTE", [b""]), found.get(b"tRNS", [b""])
    if more or again:
        raise Unfit
    if kind == _PALETTE:
        if (
            not palette
            or len(palette) % 3
            or len(palette) > 3 << depth
            or len(clear) > len(palette) // 3
        ):
            raise Unfit
        yield b"PLTE", palette
    elif clear and len(clear) != _KEY_BYTES.get(kind):
        raise Unfit
    if clear:
        yield b"tRNS", clear


def _check_pixels(header: bytes, pixels: bytes) -> None:
    """Unfit unless the zlib stream holds the scanlines and ends with them."""
    width, height, depth, kind, _, _, interlaced = struct.unpack(">IIBBBBB", header)
    bits = depth * _CHANNELS[kind]
    passes = _PASSES if interlaced else ((0, 1, 0, 1),)
    wanted = 0
    for left, across, top, down in passes:
        columns, rows = -(-(width - left) // across), -(-(height - top) // down)
        if columns > 0 and rows > 0:
            wanted += rows * (1 + (columns * bits + 7) // 8)
    inflating, come, rest = zlib.decompressobj(), 0, pixels
    try:
        while not inflating.eof and come <= wanted and (rest or not come):
            come += len(inflating.decompress(rest, _PIECE))
            rest = inflating.unconsumed_tail
    except zlib.error as error:
        raise Unfit from error
    if not inflating.eof or come != wanted or inflating.unused_data:
        raise Unfit


def _check_palette(header: bytes, bare: bytes, found: dict[bytes, list[bytes]]) -> None:
    """Unfit unless each colour of the palette shows."""
    width, height = struct.unpack_from(">II", header)
    if width * height > LARGEST_PALETTE:
        raise Unfit
    palette = np.frombuffer(found[b"PLTE"][0], np.uint8).reshape(-1, 3)
    alpha = np.full((len(palette), 1), 255, np.uint8)
    clear = np.frombuffer(found.get(b"tRNS", [b""])[0], np.uint8)
    alpha[: len(clear), 0] = clear
    pixels = np.ascontiguousarray(with_alpha(shown(bare, Format.PNG)).numpy(), np.uint8)
    there = np.unique(pixels.view(np.uint32))
    if not np.isin(np.hstack([palette, alpha]).view(np.uint32), there).all():
        raise Unfit

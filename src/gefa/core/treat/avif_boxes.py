"""Whether an AVIF file holds its picture and nothing else.

A file is a row of boxes, some with boxes inside (ISO/IEC 14496-12, section 4.2); ``meta`` lists the
items and where each lies in ``mdat`` (ISO/IEC 23008-12 and AV1 Image File Format 1.1). Taking an
item out would move all others, so a file is taken whole or not at all.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from itertools import pairwise
from typing import NamedTuple

MOST_META = 600
"""bytes of ``meta``: with transparency about 400, and names of items can have any length"""
_META = {b"hdlr", b"pitm", b"iloc", b"iinf", b"iprp", b"iref"}
_PROPERTIES = {b"ispe", b"pixi", b"av1C", b"auxC", b"pasp", b"colr"}
"""of a picture that is neither rotated nor cropped"""
_CODED = b"av01"
_SRGB = (b"nclx\0\x01\0\x0d", b"nclx\0\x01\0\x02", b"nclx\0\x02\0\x02")
"""beginnings of a ``colr`` that means sRGB, or leaves it open: primaries and transfer by the
numbers of ITU-T H.273"""


class _Box(NamedTuple):
    kind: bytes
    first: int
    end: int


def holds_only_its_picture(data: bytes) -> bool:
    """Whether the file is one still picture in sRGB, stored as shown, without metadata, thumbnail,
    or unreferenced bytes. ``struct.error`` if a box is truncated."""
    top = list(_boxes(data, 0, len(data)))
    if [box.kind for box in top] != [b"ftyp", b"meta", b"mdat"]:
        return False
    ftyp, meta, mdat = top
    if data[ftyp.first : ftyp.first + 4] != b"avif":
        return False  # "avis": moving
    if meta.end - meta.first > MOST_META:
        return False
    inside = {box.kind: box for box in _boxes(data, meta.first + 4, meta.end)}
    if not inside.keys() <= _META or not {b"iinf", b"iloc", b"iprp"} <= inside.keys():
        return False
    return (
        set(_item_types(data, inside[b"iinf"])) == {_CODED}
        and _plain_properties(data, inside[b"iprp"])
        and _covered(list(_extents(data, inside[b"iloc"])), mdat)
    )


def _boxes(data: bytes, at: int, end: int) -> Iterator[_Box]:
    while at < end:
        size, kind = struct.unpack_from(">I4s", data, at)
        if not 8 <= size <= end - at:  # 0 and 1 say the size elsewhere: encoders do not write them
            raise struct.error(f"a box of {size} bytes")
        yield _Box(kind, at + 8, at + size)
        at += size


def _item_types(data: bytes, iinf: _Box) -> Iterator[bytes]:
    counts = 4 if data[iinf.first] == 0 else 6
    for box in _boxes(data, iinf.first + 2 + counts, iinf.end):
        version = data[box.first]
        yield data[box.first + 8 : box.first + 12] if version == 2 else b""


def _plain_properties(data: bytes, iprp: _Box) -> bool:
    for box in _boxes(data, iprp.first, iprp.end):
        if box.kind != b"ipco":
            continue
        for found in _boxes(data, box.first, box.end):
            if found.kind not in _PROPERTIES:
                return False
            if found.kind == b"colr" and not data.startswith(_SRGB, found.first):
                return False
    return True


def _extents(data: bytes, iloc: _Box) -> Iterator[tuple[int, int]]:
    """First and last byte (exclusive) of every item in the file."""
    version = data[iloc.first]
    if version > 1:
        raise struct.error(f"iloc of version {version}")
    sizes, more, count = struct.unpack_from(">BBH", data, iloc.first + 4)
    offset, length, base, index = sizes >> 4, sizes & 15, more >> 4, more & 15
    at = iloc.first + 8

    def number(size: int) -> int:
        nonlocal at
        found = data[at : at + size]
        if len(found) < size:
            raise struct.error("iloc is cut off")
        at += size
        return int.from_bytes(found, "big")

    for _ in range(count):
        number(2)
        if version and number(2) & 15:
            raise struct.error("an item that is not in mdat")
        number(2)
        start = number(base)
        for _ in range(number(2)):
            number(index if version else 0)
            first = start + number(offset)
            yield first, first + number(length)


def _covered(extents: list[tuple[int, int]], mdat: _Box) -> bool:
    """Whether the extents fill ``mdat`` from its first byte to its last."""
    here = sorted(extents)
    if not here or (here[0][0], here[-1][1]) != (mdat.first, mdat.end):
        return False
    return all(one[1] == other[0] for one, other in pairwise(here))

"""Profiles for files that describe their colours without an ICC profile.

PNG has cICP, gAMA and cHRM (PNG 3, section 13.14 gives their order); AVIF and HEIC have ``nclx``
(ISO/IEC 23000-22 and 14496-12, ColourInformationBox).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from gefa.core.read.icc import (
    CURVES,
    HDR_CURVES,
    PNG_CURVES,
    PRIMARIES,
    SRGB,
    Curve,
    Primaries,
    is_srgb,
    profile_for,
)

_UNSPECIFIED = 2
SRGB_GAMA = 45_455
"""the gAMA that PNG 3 (section 11.3.2.5) prescribes beside an sRGB chunk; browsers treat a picture
with it alone as sRGB, too"""
_PNG_START = b"\x89PNG\r\n\x1a\n"
_MOST_CHUNKS = 2_000
"""before the pixels of a PNG: a file may have any number, and reading must end"""
_MOST_HEAD = 4_000_000
"""bytes of an AVIF or HEIC that contain its metadata boxes"""
_CONTAINERS = {b"meta": 4, b"iprp": 0, b"ipco": 0}
"""boxes that contain others, and the bytes before those"""


@dataclass(frozen=True)
class ToldColour:
    """``profile`` is None if the file says nothing but sRGB; ``problem`` names what cannot be
    followed."""

    profile: bytes | None = None
    problem: str = ""


PLAIN = ToldColour()


def colour_of_png(path: Path, *, grey: bool) -> ToldColour | None:
    """The colour of a PNG from cICP, else from gAMA and cHRM if it has neither profile nor sRGB
    chunk; None if its profile, if any, counts."""
    chunks = dict(_png_chunks(path))
    if b"cICP" in chunks and len(chunks[b"cICP"]) == 4:
        primaries, transfer, _, full = chunks[b"cICP"]
        if full != 1:
            return ToldColour(problem="uses narrow range (cICP), which Gefa reads as full")
        return _coded(primaries, transfer, PNG_CURVES, grey=grey)
    if b"iCCP" in chunks or b"sRGB" in chunks or not chunks.keys() & {b"gAMA", b"cHRM"}:
        return None
    return _measured(chunks, grey=grey)


def has_png_profile(path: Path) -> bool:
    """Whether a PNG contains a colour profile, usable or not."""
    return b"iCCP" in dict(_png_chunks(path))


def _png_chunks(path: Path) -> Iterator[tuple[bytes, bytes]]:
    """Colour chunks before the picture data; of a profile only its presence."""
    with path.open("rb") as file:
        if file.read(8) != _PNG_START:
            return
        for _ in range(_MOST_CHUNKS):
            head = file.read(8)
            if len(head) < 8 or head[4:] in (b"IDAT", b"IEND"):
                return
            length, name = struct.unpack(">I4s", head)
            if name in (b"cICP", b"gAMA", b"cHRM") and length <= 64:
                yield name, file.read(length)
                file.seek(4, 1)
            else:
                if name in (b"iCCP", b"sRGB"):
                    yield name, b""
                file.seek(length + 4, 1)


def _measured(chunks: dict[bytes, bytes], *, grey: bool) -> ToldColour:
    """By gAMA (1/gamma × 100,000) and cHRM (x, y × 100,000 of white, red, green, blue)."""
    primaries, curve = SRGB, CURVES[13]
    chrm = chunks.get(b"cHRM", b"")
    if len(chrm) == 32:
        told = [value / 100_000 for value in struct.unpack(">8I", chrm)]
        pairs = list(zip(told[::2], told[1::2], strict=True))
        if all(0 < y < 1 and 0 <= x < 1 for x, y in pairs):
            white, red, green, blue = pairs
            primaries = Primaries(red, green, blue, white)
    gama = chunks.get(b"gAMA", b"")
    if len(gama) == 4 and (value := struct.unpack(">I", gama)[0]):
        if value == SRGB_GAMA and primaries == SRGB:
            return PLAIN
        curve = Curve(100_000 / value)
    if not 0.1 < curve.gamma < 10:
        return ToldColour(problem=f"names a gamma of {curve.gamma:.3g} (gAMA), which Gefa ignores")
    try:
        return ToldColour(profile_for(primaries, curve, grey=grey))
    except ArithmeticError:
        return ToldColour(problem="names impossible primaries (cHRM), which Gefa ignores")


def _coded(primaries: int, transfer: int, curves: Mapping[int, Curve], *, grey: bool) -> ToldColour:
    if transfer in HDR_CURVES:
        label = HDR_CURVES[transfer]
        return ToldColour(
            problem=f"has high dynamic range ({label}); its brightness is not converted. Export it"
            " in standard dynamic range"
        )
    known = PRIMARIES.get(1 if primaries == _UNSPECIFIED else primaries)
    curve = curves.get(13 if transfer == _UNSPECIFIED else transfer)
    if known is None or curve is None:
        return ToldColour(
            problem=f"names primaries {primaries} and transfer {transfer}, which are not known"
            " here; its colours are taken for sRGB. Save it as sRGB"
        )
    return PLAIN if is_srgb(known, curve) else ToldColour(profile_for(known, curve, grey=grey))


def colour_of_heif(path: Path) -> ToldColour | None:
    """The colour of an AVIF or HEIC from ``nclx``; None if it has a profile or says nothing."""
    with path.open("rb") as file:
        data = file.read(_MOST_HEAD)
    told = [(body[:4], body[4:]) for name, body in _boxes(data, 0, len(data)) if name == b"colr"]
    if any(kind in (b"prof", b"rICC") for kind, _ in told):
        return None
    coded = next((body for kind, body in told if kind == b"nclx" and len(body) >= 7), None)
    if coded is None:
        return None
    primaries, transfer = struct.unpack(">HH", coded[:4])
    return _coded(primaries, transfer, CURVES, grey=False)


def _boxes(data: bytes, start: int, end: int, depth: int = 0) -> Iterator[tuple[bytes, bytes]]:
    """Boxes by name, with their content; boxes inside metadata containers too."""
    at = start
    while at + 8 <= end and depth < 6:
        length, name = struct.unpack(">I4s", data[at : at + 8])
        head = 8
        if length == 1 and at + 16 <= end:
            length, head = struct.unpack(">Q", data[at + 8 : at + 16])[0], 16
        stop = end if length == 0 else min(end, at + length)
        if stop <= at + head - 1:
            return
        if name in _CONTAINERS:
            yield from _boxes(data, at + head + _CONTAINERS[name], stop, depth + 1)
        else:
            yield name, data[at + head : stop]
        at = stop

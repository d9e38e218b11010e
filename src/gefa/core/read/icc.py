"""Colour profiles made from what files say of their colours in other ways.

A file may name its primaries and transfer curve by numbers (ITU-T H.273) or give them outright. As
an ICC profile (ICC.1:2022) that goes the same way as any other profile.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Chromaticity = tuple[float, float]
"""x, y of CIE 1931"""
Matrix = NDArray[np.float64]

D65: Chromaticity = (0.3127, 0.3290)
_DCI_WHITE: Chromaticity = (0.314, 0.351)
_D50 = np.array([0.9642, 1.0, 0.8249])
"""the white point of profiles (ICC.1:2022, section 7.2.16)"""
_BRADFORD = np.array(
    [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]]
)
"""ICC.1:2022, annex E"""


@dataclass(frozen=True)
class Primaries:
    """The xy chromaticities of red, green, blue and white."""

    red: Chromaticity
    green: Chromaticity
    blue: Chromaticity
    white: Chromaticity = D65


SRGB = Primaries((0.64, 0.33), (0.30, 0.60), (0.15, 0.06))
PRIMARIES = {
    1: SRGB,
    5: Primaries((0.64, 0.33), (0.29, 0.60), (0.15, 0.06)),
    6: Primaries((0.630, 0.340), (0.310, 0.595), (0.155, 0.070)),
    7: Primaries((0.630, 0.340), (0.310, 0.595), (0.155, 0.070)),
    9: Primaries((0.708, 0.292), (0.170, 0.797), (0.131, 0.046)),
    11: Primaries((0.680, 0.320), (0.265, 0.690), (0.150, 0.060), _DCI_WHITE),
    12: Primaries((0.680, 0.320), (0.265, 0.690), (0.150, 0.060)),
}
"""by ColourPrimaries (H.273, table 2)"""


@dataclass(frozen=True)
class Curve:
    """From a stored value to light, both 0..1: ((a·x + b) ^ gamma), and c·x below d."""

    gamma: float
    a: float = 1.0
    b: float = 0.0
    c: float = 0.0
    d: float = 0.0


SRGB_CURVE = Curve(2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045)
CURVES = {
    1: SRGB_CURVE,
    4: Curve(2.2),
    5: Curve(2.8),
    6: SRGB_CURVE,
    8: Curve(1.0),
    13: SRGB_CURVE,
    14: SRGB_CURVE,
    15: SRGB_CURVE,
}
"""by TransferCharacteristics (H.273, table 3), as browsers show AVIF: the curves of video (1, 6,
14, 15) as sRGB's"""
PNG_CURVES = CURVES | dict.fromkeys((1, 6, 14, 15), Curve(2.4))
"""as browsers show PNG: the curves of video as a video screen does (ITU-R BT.1886)"""
HDR_CURVES = {16: "PQ", 18: "HLG"}
"""of high dynamic range: brighter than a file for a website can store"""


def profile_for(primaries: Primaries, curve: Curve, *, grey: bool = False) -> bytes:
    """An ICC profile of version 4 with these primaries and this curve."""
    shared = _parametric(curve)
    tags: list[tuple[bytes, bytes]] = [
        (b"desc", _text("Colours as the file tells them")),
        (b"cprt", _text("No copyright")),
        (b"wtpt", _xyz(_D50)),
    ]
    if grey:
        tags.append((b"kTRC", shared))
    else:
        for name, column in zip("rgb", _to_d50(primaries).T, strict=True):
            tags += [(f"{name}XYZ".encode(), _xyz(column)), (f"{name}TRC".encode(), shared)]
    return _assembled(b"GRAY" if grey else b"RGB ", tags)


def is_srgb(primaries: Primaries, curve: Curve) -> bool:
    return primaries == SRGB and curve == SRGB_CURVE


def _to_d50(primaries: Primaries) -> Matrix:
    """From linear red, green and blue to XYZ in D50 light (ICC.1:2022, annex E)."""
    columns = np.array([_as_xyz(c) for c in (primaries.red, primaries.green, primaries.blue)]).T
    white = _as_xyz(primaries.white)
    scaled = columns * np.linalg.solve(columns, white)
    gains = (_BRADFORD @ _D50) / (_BRADFORD @ white)
    adapted: Matrix = np.linalg.inv(_BRADFORD) @ np.diag(gains) @ _BRADFORD @ scaled
    return adapted


def _as_xyz(chromaticity: Chromaticity) -> Matrix:
    x, y = chromaticity
    return np.array([x / y, 1.0, (1 - x - y) / y])


def _fixed(value: float) -> bytes:
    """s15Fixed16Number"""
    return struct.pack(">i", max(-(2**31), min(2**31 - 1, round(value * 65536))))


def _xyz(values: Sequence[float] | Matrix) -> bytes:
    return b"XYZ \0\0\0\0" + b"".join(_fixed(float(value)) for value in values)


def _text(text: str) -> bytes:
    encoded = text.encode("utf-16-be")
    record = struct.pack(">II2s2sII", 1, 12, b"en", b"US", len(encoded), 28)
    return b"mluc\0\0\0\0" + record + encoded


def _parametric(curve: Curve) -> bytes:
    """parametricCurveType, function 3, or 0 for a plain gamma."""
    if curve == Curve(curve.gamma):
        return b"para\0\0\0\0\0\0\0\0" + _fixed(curve.gamma)
    values = (curve.gamma, curve.a, curve.b, curve.c, curve.d)
    return b"para\0\0\0\0\0\3\0\0" + b"".join(map(_fixed, values))


def _assembled(space: bytes, tags: list[tuple[bytes, bytes]]) -> bytes:
    at = 128 + 4 + 12 * len(tags)
    table, body = struct.pack(">I", len(tags)), b""
    places: dict[bytes, int] = {}
    for name, data in tags:
        if data not in places:
            padded = data + b"\0" * (-len(data) % 4)
            places[data] = at + len(body)
            body += padded
        table += name + struct.pack(">II", places[data], len(data))
    header = (
        struct.pack(">I4s", at + len(body), b"\0\0\0\0")
        + b"\x04\x30\0\0" + b"mntr" + space + b"XYZ "
        + struct.pack(">6H", 2026, 1, 1, 0, 0, 0) + b"acsp"
        + b"\0" * 28 + _xyz(_D50)[8:] + b"\0" * 48
    )  # fmt: skip
    return header + table + body

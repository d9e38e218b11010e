"""How much like its reference a picture looks: SSIMULACRA2.

The measure, its constants and weights are those of SSIMULACRA 2.1 (2023, published under the BSD
3-Clause licence): structural similarity and differences of edges, in the XYB colours of human
vision, at six scales. 100 is identical, 90 hard to tell apart, 70 good, 50 middling; it has no
lower end.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import cast

import cv2
import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import as_image, on_matte, with_alpha
from gefa.core.treat.curves import PERFECT
from gefa.core.treat.score_weights import WEIGHTS

Floats = NDArray[np.float32]
Bytes = NDArray[np.uint8]

SCALES = 6
SMALLEST = 8
"""px of a side below which there is no coarser scale"""
C2 = 0.0009
SIGMA = 1.5
REACH = 5
"""px that the blur reaches"""
STRIP_BYTES = 400_000
"""of one strip of rows; that much fits in a core's cache"""
FAINT = 0.01
"""weights below this change no score by a tenth of a point, and are skipped"""
KEPT_PIXELS = 4_000_000
"""px of a reference that is kept in memory"""
HALO = 192
"""rows: a multiple of the coarsest scale's 32, and more than the blur reaches at that scale"""
GROUNDS = ("#1a1a1a", "#e6e6e6")
"""dark and light backgrounds for transparent pictures"""

cv2.setNumThreads(1)  # processes share the cores, threads within them would only get in the way

_BIAS = 0.0037930732552754493
_ABSORBED = (
    (0.30, 1 - 0.078 - 0.30, 0.078),
    (0.23, 1 - 0.078 - 0.23, 0.078),
    (0.24342268924547819, 0.20476744424496821, 1 - 0.24342268924547819 - 0.20476744424496821),
)
"""of linear red, green and blue by the eye's L, M and S cones"""
_ROOT = float(np.cbrt(_BIAS))


@lru_cache(maxsize=SCALES)
def _weights(scales: int) -> NDArray[np.float64]:
    """Bands × scales × (mean, 4-norm) × maps. A small picture has fewer scales, and still takes the
    weights in their order."""
    weights = np.asarray(WEIGHTS[: 18 * scales]).reshape(3, scales, 2, 3)
    return np.where(weights < FAINT, 0, weights)


def _bands_at(scale: int, scales: int) -> list[int]:
    """The colour bands that count at a scale, out of so many scales."""
    return [band for band in range(3) if _weights(scales)[band, scale].any()]


_LINEAR = np.array(
    [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in np.arange(256) / 255],
    np.float32,
)


@dataclass(frozen=True)
class _Plane:
    """A colour band (0 X, 1 Y, 2 B) of a reference at one scale, with local means and mean squares.
    ``values`` has REACH mirrored rows above and below, the others have none."""

    band: int
    values: Floats
    mean: Floats
    square: Floats


@dataclass(frozen=True)
class _Band:
    """The rows of a picture (first and last, exclusive) to measure, and the rows to read for it, so
    that no seam shows."""

    top: int
    bottom: int
    first: int
    last: int


class Reference:
    """An opaque sRGB picture to score others of its size against.

    ``pixels`` are rows × columns × 3 bytes. Its maps are computed once; for a very large picture
    they are computed in strips each time, since they take over 20 bytes a pixel.
    """

    def __init__(self, pixels: Bytes) -> None:
        self._pixels = pixels
        self._scales = _scales_of(*pixels.shape[:2])
        self._bands = _bands(pixels)
        self._kept = [_planes(pixels, self._scales)] if len(self._bands) == 1 else []

    def score(self, pixels: Bytes) -> float:
        """At most 100. ``pixels`` must have the reference's shape."""
        if pixels.shape != self._pixels.shape:
            raise ValueError(f"{pixels.shape} cannot be scored against {self._pixels.shape}")
        sums = _Sums()
        for band in self._bands:
            rows = slice(band.first, band.last)
            own = self._kept[0] if self._kept else _planes(self._pixels[rows], self._scales)
            others = _pyramid(pixels[rows], self._scales)
            for scale, (planes, theirs) in enumerate(zip(own, others, strict=True)):
                inner = (
                    _down(band.top - band.first, scale),
                    _down(band.bottom - band.first, scale),
                )
                for plane, values in zip(planes, theirs, strict=True):
                    wanted = _weights(self._scales)[plane.band, scale].any(axis=0)
                    for map, found in _maps(plane, values, inner, wanted):
                        sums.add(plane.band, scale, map, found)
        return _score(sums, self._scales)


class _Sums:
    """Three maps (structure, edges added, edges lost), summed over pixels for each colour band and
    scale, plain and to the fourth power."""

    def __init__(self) -> None:
        self._sums = np.zeros((3, SCALES, 2, 3))
        self._pixels = np.zeros((3, SCALES, 1, 3))

    def add(self, band: int, scale: int, map: int, values: Floats) -> None:
        """``values`` are overwritten."""
        self._pixels[band, scale, 0, map] += values.size
        self._sums[band, scale, 0, map] += cv2.sumElems(values)[0]
        cv2.multiply(values, values, values)
        self._sums[band, scale, 1, map] += cv2.norm(values, cv2.NORM_L2SQR)

    def norms(self) -> NDArray[np.float64]:
        """Bands × scales × (mean, 4-norm) × maps."""
        means = self._sums / np.maximum(self._pixels, 1)
        means[:, :, 1] **= 0.25
        return means


def _bands(pixels: Bytes) -> list[_Band]:
    height, width = pixels.shape[:2]
    if height * width <= KEPT_PIXELS:
        return [_Band(0, height, 0, height)]
    rows = max(1, KEPT_PIXELS // width // HALO - 2) * HALO
    starts = range(0, height, rows)
    return [
        _Band(top, min(height, top + rows), max(0, top - HALO), min(height, top + rows + HALO))
        for top in starts
    ]


def _down(row: int, level: int) -> int:
    return -(-row // 2**level)


def _planes(pixels: Bytes, scales: int) -> list[list[_Plane]]:
    return [
        [_plane(band, found) for band, found in zip(_bands_at(scale, scales), bands, strict=True)]
        for scale, bands in enumerate(_pyramid(pixels, scales))
    ]


def _plane(band: int, values: Floats) -> _Plane:
    mean, square = np.empty_like(values), np.empty_like(values)
    padded = _padded(values)
    for top, bottom in _strips(values):
        rows = padded[top : bottom + 2 * REACH]
        mean[top:bottom] = _blur(rows)
        square[top:bottom] = _blur(cv2.multiply(rows, rows))
    return _Plane(band, padded, mean, square)


class AlphaReference:
    """A picture to score others against, with or without alpha.

    A transparent one is laid on a dark and on a light background, and the lower score counts.
    """

    def __init__(self, image: pyvips.Image) -> None:
        self._grounds = GROUNDS if image.hasalpha() else ("",)
        self._references = [Reference(_bytes(image, ground)) for ground in self._grounds]

    def score(self, image: pyvips.Image) -> float:
        """The score of a picture of the same size. If only one of the two has alpha, the other
        counts as opaque."""
        shown = with_alpha(image) if len(self._grounds) > 1 else image
        return min(
            reference.score(_bytes(shown, ground))
            for reference, ground in zip(self._references, self._grounds, strict=True)
        )


def _bytes(image: pyvips.Image, ground: str) -> Bytes:
    return cast(Bytes, on_matte(image, ground or GROUNDS[1]).numpy())


def _scales_of(height: int, width: int) -> int:
    """The number of scales of a picture: full size, and each half of it."""
    found = 0
    while found < SCALES and min(height, width) >= SMALLEST:
        found += 1
        height, width = -(-height // 2), -(-width // 2)
    return found


def _pyramid(pixels: Bytes, scales: int) -> list[list[Floats]]:
    """The colour bands that count, at full size and each half of it."""
    linear = [cast(Floats, cv2.LUT(plane, _LINEAR)) for plane in cv2.split(pixels)]
    found = []
    for scale in range(scales):
        if scale:
            linear = [_halved(plane) for plane in linear]
        found.append(_colours(linear, _bands_at(scale, scales)))
    return found


def _colours(linear: list[Floats], bands: list[int]) -> list[Floats]:
    """Bands of XYB from linear RGB."""
    height, width = linear[0].shape
    found = [np.empty((height, width), np.float32) for _ in bands]
    for top, bottom in _strips(linear[0]) if bands else ():
        cones = [_cone(absorbed, linear, top, bottom) for absorbed in _ABSORBED[: 2 + (2 in bands)]]
        for band, plane in zip(bands, found, strict=True):
            _opponent(band, cones, plane[top:bottom])
    return found


def _cone(
    absorbed: tuple[float, float, float], linear: list[Floats], top: int, bottom: int
) -> Floats:
    red, green, blue = (plane[top:bottom] for plane in linear)
    found = cv2.addWeighted(red, absorbed[0], green, absorbed[1], _BIAS)
    cv2.scaleAdd(blue, absorbed[2], found, found)
    return cast(Floats, cv2.pow(found, 1 / 3, found))


def _opponent(band: int, cones: list[Floats], into: Floats) -> None:
    """X = 14 (L - M) / 2 + 0.42, Y = (L + M) / 2 + 0.01, B = S - (L + M) / 2 + 0.55, where L, M
    and S are cube roots less that of the bias."""
    if band == 0:
        cv2.addWeighted(cones[0], 7.0, cones[1], -7.0, 0.42, into)
    elif band == 1:
        cv2.addWeighted(cones[0], 0.5, cones[1], 0.5, 0.01 - _ROOT, into)
    else:
        cv2.addWeighted(cones[0], -0.5, cones[1], -0.5, 0.55, into)
        cv2.add(into, cones[2], into)


def _halved(linear: Floats) -> Floats:
    """Means of 2 × 2 pixels; at an odd edge, of the pixels that exist."""
    height, width = linear.shape
    even = linear
    if height % 2 or width % 2:
        even = cv2.copyMakeBorder(linear, 0, height % 2, 0, width % 2, cv2.BORDER_REPLICATE)
    size = (even.shape[1] // 2, even.shape[0] // 2)
    return cast(Floats, cv2.resize(even, size, interpolation=cv2.INTER_AREA))


def _strips(pixels: Floats, first: int = 0, last: int | None = None) -> list[tuple[int, int]]:
    """First and last row (exclusive) of strips that fit in the cache."""
    height, width = pixels.shape[:2]
    end = height if last is None else min(height, last)
    rows = max(16, STRIP_BYTES // (width * 4))
    return [(top, min(end, top + rows)) for top in range(first, end, rows)]


def _padded(xyb: Floats) -> Floats:
    return cast(Floats, cv2.copyMakeBorder(xyb, REACH, REACH, 0, 0, cv2.BORDER_REFLECT))


def _blur(band: Floats) -> Floats:
    """A Gaussian blur, with zeros left and right of the picture. Returns REACH fewer rows at the
    top and bottom."""
    size = (2 * REACH + 1, 2 * REACH + 1)
    blurred = cv2.GaussianBlur(band, size, SIGMA, borderType=cv2.BORDER_CONSTANT)
    return cast(Floats, blurred[REACH:-REACH])


def _maps(
    own: _Plane, values: Floats, inner: tuple[int, int], wanted: NDArray[np.bool_]
) -> Iterator[tuple[int, Floats]]:
    """The maps that count, by number, for the rows ``inner`` (first and last, exclusive)."""
    padded = _padded(values)
    for top, bottom in _strips(values, *inner):
        rows, here = slice(top, bottom + 2 * REACH), slice(top + REACH, bottom + REACH)
        own_mean, mean = own.mean[top:bottom], _blur(padded[rows])
        if wanted[0]:
            squares = _blur(cv2.multiply(padded[rows], padded[rows]))
            cv2.add(squares, own.square[top:bottom], squares)
            product = _blur(cv2.multiply(own.values[rows], padded[rows]))
            yield 0, _structure(own_mean, mean, squares, product)
        if wanted[1:].any():
            apart = _edges(own.values[here], own_mean, padded[here], mean)
            if wanted[1]:
                yield 1, np.maximum(apart, 0)
            if wanted[2]:
                yield 2, np.maximum(np.negative(apart, out=apart), 0, out=apart)


def _structure(m1: Floats, m2: Floats, squares: Floats, product: Floats) -> Floats:
    """1 - SSIM without the contrast term, as in SSIMULACRA2; never below 0. ``squares`` and
    ``product`` are overwritten."""
    # Each of these passes writes over a strip that is in the cache and not needed any more.
    apart = cv2.subtract(m1, m2)
    cv2.multiply(apart, apart, apart)
    both = cv2.multiply(m1, m2)
    # m1² + m2² = (m1 - m2)² + 2 m1 m2
    below = cv2.addWeighted(squares, 1.0, apart, -1.0, C2, squares)
    # Rounded just as what is below, which is the same for the same pictures.
    above = cv2.addWeighted(product, 2.0, product, 0.0, C2, product)
    for side in (below, above):
        cv2.scaleAdd(both, -2.0, side, side)
    apart -= 1
    cv2.multiply(above, apart, above)
    cv2.divide(above, below, above)
    above += 1
    return cast(Floats, cv2.max(above, 0.0, above))


def _edges(a: Floats, a_mean: Floats, b: Floats, b_mean: Floats) -> Floats:
    """Above 0 where the other picture has edges that the reference does not, below 0 where it lacks
    edges."""
    theirs = cv2.absdiff(b, b_mean)
    theirs += 1
    ours = cv2.absdiff(a, a_mean)
    ours += 1
    theirs /= ours
    theirs -= 1
    return cast(Floats, theirs)


def _score(sums: _Sums, scales: int) -> float:
    """The weighted sums, mapped to the scale of human ratings."""
    found = sums.norms()[:, :scales]
    total = float((_weights(scales) * found).sum()) * 0.9562382616834844
    bent = 2.326765642916932 * total - 0.020884521182843837 * total**2
    bent += 6.248496625763138e-05 * total**3
    return PERFECT - 10.0 * float(bent**0.6276336467831387) if bent > 0 else PERFECT


def half_coloured(image: pyvips.Image) -> pyvips.Image:
    """Lightness unchanged, colour as means of 2 × 2 pixels, interpolated as in browsers."""
    colour = image.extract_band(0, n=3).numpy()
    height, width = colour.shape[:2]
    light, red, blue = cv2.split(cv2.cvtColor(colour, cv2.COLOR_RGB2YCrCb))
    half = (max(1, width // 2), max(1, height // 2))
    coarse = [
        cv2.resize(
            cv2.resize(plane, half, interpolation=cv2.INTER_AREA),
            (width, height),
            interpolation=cv2.INTER_LINEAR,
        )
        for plane in (red, blue)
    ]
    merged = as_image(cv2.cvtColor(cv2.merge([light, *coarse]), cv2.COLOR_YCrCb2RGB))
    return merged.bandjoin(image[3]) if image.hasalpha() else merged

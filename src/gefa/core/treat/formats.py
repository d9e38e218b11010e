"""The formats Gefa writes: all that is known of each, in one row.

A new format needs a row here and an encoder in ``encode.py``; its curves are measured by
``bench.curves``. Everything else asks the row.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from gefa.core.treat.curves import Curve, curve_at_qualities, curve_of_scores


class Format(StrEnum):
    """A format for files on a website; newest first, as a ``<picture>`` lists them."""

    AVIF = "avif"
    WEBP = "webp"
    JPEG = "jpeg"
    PNG = "png"


@dataclass(frozen=True, slots=True)
class Typical:
    """What an encoder usually makes of a photograph at 640 px.

    ``scores`` are SSIMULACRA2 as browsers show the files, warped; ``weights`` natural logarithms of
    bytes, against those at quality 80, and ``bits`` those bytes as bits a pixel. ``drift`` is how
    much the warped score of a picture of twice the width is off. Below the quality ``lowest`` it is
    mush: nothing is searched there.
    """

    scores: Curve
    weights: Curve
    bits: float
    drift: float
    lowest: int


@dataclass(frozen=True, slots=True)
class FormatFacts:
    """A row. ``max_side`` is in px.

    ``modern`` formats need a fallback beside them. ``typical`` is None for those without a quality.
    ``lossless_too``: without loss it may be lighter on flat art. ``moves`` tells those that
    animations are written in, ``resolution`` those with a field for px per inch.
    ``chooses_chroma``: the encoder stores colour at full or half resolution. ``settings`` names
    what of a recipe its bytes depend on; ``quality``, ``effort`` and ``most_effort`` (0: it has
    none) are what it is told where a recipe says nothing. ``cost`` is the time for a pixel, and
    ``bits`` what a pixel weighs before anything is known of a picture, both roughly, to be compared
    between formats.
    """

    label: str
    extension: str
    media_type: str
    alpha: bool
    max_side: int
    modern: bool
    settings: frozenset[str]
    cost: float
    bits: float
    quality: int | None = None
    effort: int = 0
    most_effort: int = 0
    lossless_too: bool = False
    chooses_chroma: bool = False
    moves: bool = False
    resolution: bool = False
    typical: Typical | None = None

    @property
    def lossy(self) -> bool:
        """Whether it has a quality number."""
        return self.typical is not None


FORMATS: dict[Format, FormatFacts] = {
    Format.AVIF: FormatFacts(
        "AVIF", "avif", "image/avif", alpha=True, modern=True,
        # AV1 Image File Format 1.1: 65,536 px; libvips itself writes 16,384 px a side at the most.
        max_side=16_384,
        settings=frozenset({"effort", "chroma"}), chooses_chroma=True,
        cost=8.0, bits=0.6, quality=55, effort=3, most_effort=9,
        typical=Typical(
            curve_of_scores(35.3, 47.3, 58.2, 67.6, 74.4, 78.3, 81.5, 84.8, 89.1, 91.4, 95.5),
            curve_at_qualities(
                -2.28, -2.02, -1.74, -1.41, -1.02, -0.71, -0.40, 0.0, 0.69, 1.23, 2.41
            ),
            bits=0.53, drift=-0.18, lowest=15,
        ),
    ),
    Format.WEBP: FormatFacts(
        "WebP", "webp", "image/webp", alpha=True, modern=True,
        # RFC 9649, section 2.7: 14 bits a side.
        max_side=16_383,
        settings=frozenset({"effort", "chroma"}), lossless_too=True, moves=True,
        cost=2.0, bits=1.0, quality=75, effort=4, most_effort=6,
        typical=Typical(
            curve_of_scores(32.7, 42.9, 50.6, 56.3, 61.0, 64.6, 67.6, 72.6, 81.6, 85.8, 88.4),
            curve_at_qualities(
                -1.36, -1.15, -0.97, -0.79, -0.64, -0.48, -0.33, 0.0, 0.69, 1.28, 1.81
            ),
            bits=0.32, drift=-0.20, lowest=15,
        ),
    ),
    Format.JPEG: FormatFacts(
        "JPEG", "jpg", "image/jpeg", alpha=False, modern=False,
        # ITU-T T.81: 16 bits a side; libjpeg stops at 65,500.
        max_side=65_500,
        settings=frozenset({"progressive", "chroma"}), chooses_chroma=True, resolution=True,
        cost=0.4, bits=1.4, quality=78,
        typical=Typical(
            curve_of_scores(-25.7, 23.5, 44.9, 55.9, 63.5, 67.8, 73.5, 79.2, 87.5, 91.0, 95.4),
            curve_at_qualities(
                -1.71, -1.32, -1.07, -0.85, -0.66, -0.50, -0.28, 0.0, 0.65, 1.14, 2.31
            ),
            bits=0.63, drift=-0.11, lowest=20,
        ),
    ),
    Format.PNG: FormatFacts(
        "PNG", "png", "image/png", alpha=True, modern=False,
        # W3C PNG 3, section 11.2.1: 31 bits a side.
        max_side=2**31 - 1,
        settings=frozenset({"effort", "colours", "dither"}), resolution=True,
        cost=1.5, bits=8.0, effort=9, most_effort=9,
    ),
}  # fmt: skip

ORDER = tuple(Format)
LOSSY = tuple(format for format in Format if FORMATS[format].lossy)
"""formats that have a quality"""


def typical_of(format: Format) -> Typical:
    """ValueError for a format without a quality."""
    typical = FORMATS[format].typical
    if typical is None:
        raise ValueError(f"{FORMATS[format].label} has no quality")
    return typical

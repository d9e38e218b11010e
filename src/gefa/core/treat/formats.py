"""The formats Gefa writes: all that is known of each, in one row.

A new format needs a row here and an encoder in ``encode.py``; its curves are measured by
``bench.curves``. Everything else asks the row.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from math import log2

from gefa.core.treat.curves import Curve, curve_at_qualities, curve_of_scores


class Format(StrEnum):
    """A file format for websites: drawings first, then newest to oldest, as in a ``<picture>``."""

    SVG = "svg"
    AVIF = "avif"
    WEBP = "webp"
    JPEG = "jpeg"
    PNG = "png"


class Effort(StrEnum):
    """How long encoders may search for a lighter file, in one word for all."""

    QUICK = "quick"
    USUAL = "usual"
    THOROUGH = "thorough"


GAIN_WIDTH = 480
"""px of the width at which the gains of drafts are given"""
GAIN_DOUBLINGS = 1.8
"""of that width, up to which gains were measured"""


@dataclass(frozen=True, slots=True)
class Draft:
    """An effort that takes a fraction of the usual time, and what the usual effort gains over it:
    as a warped score, at GAIN_WIDTH px, and per doubling of the width."""

    effort: int
    gain: float
    gain_drift: float

    def gain_at(self, width: int) -> float:
        """The gain at a width in px; constant outside the measured range."""
        doublings = min(GAIN_DOUBLINGS, max(0.0, log2(width / GAIN_WIDTH)))
        return self.gain + self.gain_drift * doublings


@dataclass(frozen=True, slots=True)
class Typical:
    """What an encoder usually makes of a photograph at 640 px.

    ``scores`` are SSIMULACRA2 as browsers show the files, warped; ``weights`` natural logarithms of
    bytes relative to quality 80, and ``bits`` those bytes as bits a pixel. ``drift`` is the change
    of the warped score per doubling of the width; ``follows`` is the share of a picture's own drift
    in AVIF drafts that also shows in this format, 0..1. Below the quality ``lowest`` the result is
    mush, and not searched. ``draft`` is None if no draft pays. ``twins`` are numbers that give the
    same file as the number below. ``colour_share`` is the share of the allowed loss that half
    colour alone may take, 0..1, for colour to be stored so.
    """

    scores: Curve
    weights: Curve
    bits: float
    drift: float
    lowest: int
    follows: float = 0.0
    draft: Draft | None = None
    twins: frozenset[int] = frozenset()
    colour_share: float = 0.5

    def same_as(self, quality: int) -> int:
        """The lowest quality number that gives the same file."""
        while quality in self.twins:
            quality -= 1
        return quality


@dataclass(frozen=True, slots=True)
class FormatFacts:
    """The facts of a format.

    ``max_side`` is in px. ``modern`` formats need a fallback beside them. ``typical`` is None for
    formats without a quality. ``lossless_too``: lossless may be lighter on flat art. ``moves``:
    animations are written in it. ``resolution``: it has a field for px per inch. ``drawn``: it
    holds shapes, in one file for all widths. ``chooses_chroma``: the encoder stores colour at full
    or half resolution. ``settings`` names the settings of a recipe that its bytes depend on;
    ``quality`` is the default, ``efforts`` the number for each word of Effort, ``most_effort`` the
    largest such number. ``cost`` is the time for a pixel, and ``bits`` the weight of a pixel of an
    unknown picture, both only roughly, to compare formats.
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
    efforts: tuple[int, int, int]
    most_effort: int
    quality: int | None = None
    lossless_too: bool = False
    chooses_chroma: bool = False
    moves: bool = False
    drawn: bool = False
    resolution: bool = False
    typical: Typical | None = None

    def effort(self, word: Effort = Effort.USUAL) -> int:
        """The encoder's number for a word."""
        return dict(zip(Effort, self.efforts, strict=True))[word]

    @property
    def lossy(self) -> bool:
        """Whether it has a quality number."""
        return self.typical is not None


AVIF_TWINS = frozenset(
    {2, 4, 5, 7, 9, 11, 13, 15, 17, 19, 21, 23, 25, 27, 29, 31, 33, 36, 38, 41, 43, 46, 48, 51, 53,
     57, 61, 65, 69, 73, 77, 81, 85, 89, 93, 97}
)  # fmt: skip
"""libheif spreads the 64 steps of its encoder over 100 numbers; measured"""

FORMATS: dict[Format, FormatFacts] = {
    Format.SVG: FormatFacts(
        "SVG", "svg", "image/svg+xml", alpha=True, modern=False, drawn=True,
        max_side=2**31 - 1,
        settings=frozenset({"text"}),
        cost=0.5, bits=0.05, efforts=(0, 0, 0), most_effort=0,
    ),
    Format.AVIF: FormatFacts(
        "AVIF", "avif", "image/avif", alpha=True, modern=True,
        # AV1 Image File Format 1.1: 65,536 px; libvips itself writes 16,384 px a side at the most.
        max_side=16_384,
        settings=frozenset({"effort", "chroma"}), chooses_chroma=True,
        cost=8.0, bits=0.6, quality=55, efforts=(2, 3, 4), most_effort=9,
        typical=Typical(
            curve_of_scores(29.0, 43.0, 55.0, 65.8, 73.8, 78.7, 82.2, 85.5, 90.0, 92.4, 95.8),
            curve_at_qualities(
                -2.56, -2.20, -1.84, -1.46, -1.06, -0.71, -0.37, 0.0, 0.56, 1.00, 1.90
            ),
            # A tenth of the time. Over 21 photographs, with colour at half and at full resolution,
            # the gain varies by 0.55 points of score (standard deviation). What a picture gains at
            # 480 px says no more of a larger width than what all gain there.
            bits=1.40, drift=0.02, lowest=15, draft=Draft(0, gain=0.063, gain_drift=-0.024),
            twins=AVIF_TWINS,
        ),
    ),
    Format.WEBP: FormatFacts(
        "WebP", "webp", "image/webp", alpha=True, modern=True,
        # RFC 9649, section 2.7: 14 bits a side.
        max_side=16_383,
        settings=frozenset({"effort", "chroma"}), lossless_too=True, moves=True,
        cost=2.0, bits=1.0, quality=75, efforts=(2, 4, 6), most_effort=6,
        typical=Typical(
            curve_of_scores(33.2, 44.0, 51.8, 57.6, 62.3, 66.0, 69.2, 74.9, 83.5, 87.8, 90.3),
            curve_at_qualities(
                -1.34, -1.07, -0.86, -0.68, -0.54, -0.40, -0.28, 0.0, 0.60, 1.07, 1.42
            ),
            # Over 21 photographs, from 480 px to 800, 1,200 and 1,600 px: what is left of the drift
            # varies by 0.03 to 0.05 in place of 0.05 to 0.14.
            bits=1.04, drift=-0.09, lowest=15, follows=0.5, colour_share=0.4,
        ),
    ),
    Format.JPEG: FormatFacts(
        "JPEG", "jpg", "image/jpeg", alpha=False, modern=False,
        # ITU-T T.81: 16 bits a side; libjpeg stops at 65,500.
        max_side=65_500,
        settings=frozenset({"effort", "progressive", "chroma"}),
        chooses_chroma=True, resolution=True,
        cost=1.5, bits=1.4, quality=80, efforts=(0, 1, 1), most_effort=1,
        typical=Typical(
            curve_of_scores(5.5, 41.6, 55.2, 62.0, 67.4, 72.4, 75.7, 80.0, 88.2, 91.9, 95.7),
            curve_at_qualities(
                -1.86, -1.30, -0.99, -0.78, -0.61, -0.46, -0.25, 0.0, 0.80, 1.23, 2.06
            ),
            # A draft without trellis quantisation takes a fifth of the time, and tells the quality
            # to 0.4 points; looking at it takes as long as the file itself, so there is none.
            # The same photographs: 0.06 to 0.12 in place of 0.08 to 0.19.
            bits=1.10, drift=-0.01, lowest=20, follows=0.6,
        ),
    ),
    Format.PNG: FormatFacts(
        "PNG", "png", "image/png", alpha=True, modern=False,
        # W3C PNG 3, section 11.2.1: 31 bits a side.
        max_side=2**31 - 1,
        settings=frozenset({"effort", "colours", "dither"}), resolution=True,
        cost=1.5, bits=8.0, efforts=(2, 5, 8), most_effort=9,
    ),
}  # fmt: skip

ORDER = tuple(Format)
RASTER = tuple(format for format in Format if not FORMATS[format].drawn)
"""formats made of pixels"""
LOSSY = tuple(format for format in Format if FORMATS[format].lossy)
"""formats with a quality"""


def typical_of(format: Format) -> Typical:
    """ValueError for a format without a quality."""
    typical = FORMATS[format].typical
    if typical is None:
        raise ValueError(f"{FORMATS[format].label} has no quality")
    return typical

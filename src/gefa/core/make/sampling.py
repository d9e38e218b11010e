"""Estimates the weight of a cut's files from small samples of its picture.

Photographs are sampled: at a few widths tiles from all over the picture are encoded as a run would
encode the whole, since their grain shows near the natural size only, and quick encoders treat it
otherwise. What the whole weighs more than its tiles is told by a quick encoder. Weights at other
widths lie between these points, on logarithmic scales. All else, whose weight lies in a few edges
that a sample would miss, is made at once where that costs little: a run finds it made.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from math import log2

import pyvips

from gefa.core.errors import EncodeError, NotDrawable
from gefa.core.geometry import Rect, Size, height_for
from gefa.core.make.estimate import Estimate
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.made import CutFacts, Shelf
from gefa.core.make.make_cut import carry_out, crop_of, pictures_for
from gefa.core.make.report import JobReport
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.curves import PERFECT, between, warped
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, Format, typical_of
from gefa.core.treat.nature import Nature, nature_of
from gefa.core.treat.pictures import Pictures, fit_alpha
from gefa.core.treat.quality_search import HIGHEST, EncodeResult
from gefa.core.treat.recipe import Aim
from gefa.core.treat.svg_file import sent_bytes
from gefa.core.treat.weight_steps import growth

SMALL = (128, 240)
"""px between which the small width lies; a quarter of the widest, if possible"""
WIDEST = 2_600
"""px: wider pictures are extrapolated from this width, so that huge pictures cost no more than
large ones"""
MADE_AT_ONCE = 400_000
"""px of all files together up to which photographs are simply made"""
DRAWN_AT_ONCE = 8_000_000
"""the same for flat and transparent pictures, which encode faster"""
TILE = 96
"""px a side of a tile; smaller ones would be mostly edge"""
ACROSS, DOWN = 3, 2
COPY = 320
"""px of width of the small copy that looks are searched on"""
PIECE, PIECES = 256, 3
"""px a side of the pieces at natural size that a look is searched on, and how many each way: the
look of the whole is that of its worst places, which fewer or smaller pieces miss"""
SAMPLED_FROM = 2
"""a picture is sampled if it has this many times the pixels of the tiles"""
SHELL = {Format.AVIF: 300, Format.WEBP: 30, Format.JPEG: 600, Format.PNG: 60}
"""bytes of a file that do not grow with the picture: boxes, tables, headers"""
QUICK = {Format.AVIF: 0, Format.WEBP: 0, Format.JPEG: 0, Format.PNG: 1}
"""efforts of the quick encoders"""
QUICK_QUALITY = 80
USUALLY_ABOVE = 0.9
"""points above its look that a file ends at: qualities are whole numbers"""


@dataclass(frozen=True)
class Foretold:
    """The result of a look at the pixels: an estimate, or the ``report`` of a job that was made at
    once."""

    estimate: Estimate
    report: JobReport | None = None


def look_at(
    job: CutJob,
    document: Document,
    shelf: Shelf,
    mark: Callable[[], Document] | None = None,
) -> Foretold:
    """Estimate a job from its pixels, or make it at once. SourceError if it cannot be drawn."""
    if not job.variants:
        return Foretold(Estimate())
    crop = crop_of(job, document)
    sampling = _Sampling(job, pictures_for(job, document, crop, mark), crop)
    pixels = sum(v.width * v.height for v in job.pixels)
    if pixels <= (MADE_AT_ONCE if sampling.is_photograph else DRAWN_AT_ONCE):
        report = carry_out(job, lambda: document, shelf, mark=mark)
        return Foretold(Estimate(facts=sampling.facts), report)
    return Foretold(sampling.estimate())


class _Sampling:
    """A job that is estimated from samples of its pixels."""

    def __init__(self, job: CutJob, pictures: Pictures, crop: Rect | None) -> None:
        self._job, self._pictures = job, pictures
        widest = job.widest.width
        small = min(widest, max(SMALL[0], min(SMALL[1], widest // 4)))
        wide = min(widest, WIDEST)
        middle = round((small * wide) ** 0.5)
        self._sizes = [self._at(width) for width in sorted({small, middle, wide})]
        self._fitted: dict[tuple[Size, Format], pyvips.Image] = {}
        self._ratios: dict[tuple[Size, Format], float] = {}
        self._searched: dict[tuple[Format, Size], EncodeResult] = {}
        self.facts = self._measured(self._at(middle), crop)

    @property
    def is_photograph(self) -> bool:
        """Whether tiles represent the whole picture."""
        return self.facts.nature is Nature.PHOTOGRAPH and self.facts.alpha is AlphaKind.NONE

    def estimate(self) -> Estimate:
        samples = {v.format: v for v in self._job.pixels}
        points = {format: self._points(variant) for format, variant in samples.items()}
        if self._job.drawing is not None:
            points[Format.SVG] = self._as_drawing(self._job.drawing)
        return Estimate(points=points, facts=self.facts)

    def _as_drawing(self, variant: PlannedVariant) -> tuple[tuple[int, int], ...]:
        """The estimate of the SVG file, as sent; nothing if there cannot be one."""
        try:
            data = self._pictures.as_svg(variant.size, self._job.recipe)
        except NotDrawable:
            return ()
        return ((variant.width, sent_bytes(data)),)

    def _at(self, width: int) -> Size:
        return Size(width, height_for(self._job.widest, width))

    def _measured(self, size: Size, crop: Rect | None) -> CutFacts:
        image = self._pictures.at(size)
        nature = nature_of(image)
        by_weight = self._job.steps is not None
        return CutFacts(
            crop=crop,
            alpha=alpha_kind(image),
            baseline_bytes=0,
            nature=nature.nature,
            colours=nature.colours,
            edge="",
            growth=growth(self._sizes, self._pictures.at) if by_weight else (),
        )

    # -- one format ----------------------------------------------------------------------

    def _points(self, variant: PlannedVariant) -> tuple[tuple[int, int], ...]:
        found = []
        sizes = self._sizes if self.is_photograph else self._sizes[:2]
        for size in sizes:
            try:
                found.append((size.width, self._weight(variant, size)))
            except EncodeError:
                continue
        return tuple(found)

    def _weight(self, variant: PlannedVariant, size: Size) -> int:
        """Expected bytes of the whole picture at a size, in a variant's format and quality."""
        image = self._image(size, variant.format)
        tiles = tiles_of(image) if self.is_photograph else None
        shell = SHELL[variant.format]
        lossless = not FORMATS[variant.format].lossy
        # The palette that tiles need is not the one that the whole needs.
        if tiles is None or (lossless and variant.look is not None):
            return len(self._found(image, variant, variant.quality))
        beyond = self._beyond(size, Format.PNG if lossless else Format.JPEG)
        quality = _share_of(variant.quality, beyond)
        if variant.look is not None:
            quality = self._quality_for(variant, size)
        return round((len(self._found(tiles, variant, quality)) - shell) * beyond) + shell

    def _quality_for(self, variant: PlannedVariant, size: Size) -> int | None:
        """The quality number that a look needs at a size, searched on a small copy of the whole:
        the look of tiles is not that of the whole."""
        widest, copy = self._sizes[-1], self._at(min(self._job.widest.width, COPY))
        typical = typical_of(variant.format)
        wanted = warped(min(PERFECT, (variant.look or 0.0) + USUALLY_ABOVE))
        known = []
        for at in dict.fromkeys((copy, widest)):
            found = self._search(variant, at)
            if found.quality is None or found.curve is None:
                return found.quality
            known.append((log2(at.width), found.curve))
        if len(known) == 1:
            drift = typical.drift * (log2(size.width) - known[0][0])
            quality = known[0][1].moved(drift).quality(wanted)
        else:
            qualities = [curve.quality(wanted) for _, curve in known]
            quality = between([at for at, _ in known], qualities, log2(size.width))
        return max(1, min(HIGHEST, round(quality)))

    def _search(self, variant: PlannedVariant, size: Size) -> EncodeResult:
        """Search on pieces at natural size, side by side."""
        if (variant.format, size) not in self._searched:
            image = self._image(size, variant.format)
            if max(image.width, image.height) > PIECE * PIECES:
                image = _spread(image, PIECE, PIECES, PIECES)
            source = EncodeSource(image, nature=self.facts.nature)
            settings = self._job.recipe.settings_for(variant.format)
            request = EncodeRequest(variant.format, variant.quality, settings)
            self._searched[variant.format, size] = source.searched(request)
        return self._searched[variant.format, size]

    def _found(
        self, image: pyvips.Image, variant: PlannedVariant, quality: int | Aim | None
    ) -> bytes:
        settings = self._job.recipe.settings_for(variant.format)
        source = EncodeSource(image, nature=self.facts.nature)
        return find(source, EncodeRequest(variant.format, quality, settings)).data

    def _beyond(self, size: Size, proxy: Format) -> float:
        """The whole picture's weight divided by that of its tiles, by a quick encoder."""
        if (size, proxy) not in self._ratios:
            image = self._image(size, proxy)
            tiles = tiles_of(image)
            assert tiles is not None
            whole, part = (self._quickly(one, proxy) for one in (image, tiles))
            self._ratios[size, proxy] = whole / part
        return self._ratios[size, proxy]

    def _quickly(self, image: pyvips.Image, proxy: Format) -> int:
        settings = replace(self._job.recipe.settings_for(proxy), effort=QUICK.get(proxy))
        quality = QUICK_QUALITY if FORMATS[proxy].lossy else None
        return max(1, len(encode(image, proxy, quality, settings)) - SHELL[proxy])

    def _image(self, size: Size, format: Format) -> pyvips.Image:
        if (size, format) not in self._fitted:
            image = fit_alpha(self._pictures.at(size), format, self._job.recipe)
            self._fitted[size, format] = image
        return self._fitted[size, format]


def _share_of(quality: int | Aim | None, beyond: float) -> int | Aim | None:
    """The tiles' share of a byte limit."""
    if isinstance(quality, Aim) and quality.max_bytes is not None:
        return Aim(max_bytes=max(100, round(quality.max_bytes / beyond)))
    return quality


def tiles_of(image: pyvips.Image) -> pyvips.Image | None:
    """Tiles from all over a picture, side by side; None if the picture is hardly larger than the
    tiles."""
    if image.width * image.height < SAMPLED_FROM * TILE * TILE * ACROSS * DOWN:
        return None
    if image.width < TILE * ACROSS or image.height < TILE * DOWN:
        return None
    return _spread(image, TILE, ACROSS, DOWN)


def _spread(image: pyvips.Image, side: int, across: int, down: int) -> pyvips.Image:
    """Squares of ``side`` px from all over a picture, as one picture in memory."""
    wide, high = min(side, image.width), min(side, image.height)
    pieces = [
        image.crop(
            min(
                image.width - wide, max(0, round((column + 0.5) * image.width / across - wide / 2))
            ),
            min(image.height - high, max(0, round((row + 0.5) * image.height / down - high / 2))),
            wide,
            high,
        )
        for row in range(down)
        for column in range(across)
    ]
    return pyvips.Image.arrayjoin(pieces, across=across).copy_memory()

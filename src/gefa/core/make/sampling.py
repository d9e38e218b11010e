"""Estimates the weight of a cut's files from small samples of its picture.

A look is searched for on a small copy of a photograph (``guessed_quality``). What its files weigh
at larger sizes is told by a few pieces of it (``pieces``), since grain shows near the natural size
only; what the whole weighs more than they do, by a quick encoder. Weights at other widths lie
between these points, on logarithmic scales. All else, whose weight lies in a few edges that a
sample would miss, is made at once where that costs little: a run finds it made.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import pyvips

from gefa.core.errors import EncodeError, NotDrawable
from gefa.core.geometry import Rect, Size, height_for
from gefa.core.make.estimate import Estimate
from gefa.core.make.guessed_quality import SMALL, GuessedQuality
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.make_cut import carry_out, crop_of, pictures_for
from gefa.core.make.pieces import SIDE, Pieces
from gefa.core.make.report import JobReport
from gefa.core.make.shelf import Shelf
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.auto_formats import TRIAL_WIDTH, hopeless
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import PROBE_WIDTH, EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, Format, typical_of
from gefa.core.treat.made import CutFacts
from gefa.core.treat.nature import Nature, nature_of
from gefa.core.treat.pictures import Pictures, fit_alpha
from gefa.core.treat.recipe import Aim, Settings
from gefa.core.treat.svg_file import sent_bytes
from gefa.core.treat.weight_steps import growth

WIDEST = 2_600
"""px: wider pictures are extrapolated from this width, so that huge pictures cost no more than
large ones"""
MADE_AT_ONCE = 400_000
"""px of all files together up to which photographs are simply made"""
DRAWN_AT_ONCE = 8_000_000
"""the same for flat and transparent pictures, which encode faster"""
SHARE = 0.03
"""of the pixels of all widths together that pieces have: what an estimate may cost of the making"""
LEAST, MOST = 3, 9
"""pieces"""
PROBE_UP_TO = 560
"""px of the widest rung that a look is searched on, in place of a copy of PROBE_WIDTH"""
SHELL = {Format.AVIF: 430, Format.WEBP: 280, Format.JPEG: 440, Format.PNG: 60}
"""bytes of a piece that do not grow with it: boxes, tables, and what an encoder knows of a picture
only after a while"""
QUICK = {Format.JPEG: 0, Format.PNG: 1}
"""efforts of the quick encoders"""
QUICK_SHELL = {Format.JPEG: 640, Format.PNG: 60}
QUICK_QUALITY = 75


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
    """A job that is estimated from samples of its pixels: a photograph at its narrowest width, at a
    copy's, and at its widest; all else at the narrowest and where formats are compared."""

    def __init__(self, job: CutJob, pictures: Pictures, crop: Rect | None) -> None:
        self._job, self._pictures = job, pictures
        widths = sorted({variant.width for variant in job.pixels} or {job.widest.width})
        wide = min(widths[-1], WIDEST)
        trial = min(
            (w for w in widths if w <= wide), key=lambda w: abs(w - TRIAL_WIDTH), default=wide
        )
        self._trial = self._at(trial)
        self._wide = self._at(wide)
        self._probe = self._at(
            next((w for w in widths if SMALL <= w <= PROBE_UP_TO), min(PROBE_WIDTH, trial))
        )
        narrow = min(widths[0], self._probe.width)
        self._sizes = [self._at(width) for width in sorted({narrow, self._probe.width, wide})]
        self._drawn_sizes = [self._at(width) for width in sorted({narrow, trial})]
        area = 1e6 * sum(size.megapixels for size in {v.size for v in job.expected})
        self._count = max(LEAST, min(MOST, round(SHARE * area / SIDE**2)))
        self._fitted: dict[tuple[Size, Format], pyvips.Image] = {}
        self._ratios: dict[tuple[Size, Format], float] = {}
        self._cut: dict[Size, Pieces] = {}
        self._qualities: dict[float, GuessedQuality] = {}
        self.facts = self._measured(self._trial, crop)

    @property
    def is_photograph(self) -> bool:
        """Whether pieces represent the whole picture."""
        return self.facts.nature is Nature.PHOTOGRAPH and self.facts.alpha is AlphaKind.NONE

    def estimate(self) -> Estimate:
        samples = {v.format: v for v in self._job.pixels}
        if self._job.recipe.auto:
            for format in hopeless(self.facts.nature, self.facts.alpha):
                samples.pop(format, None)
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
        for size in self._sizes if self.is_photograph else self._drawn_sizes:
            try:
                found.append((size.width, self._weight(variant, size)))
            except EncodeError:
                continue
        return tuple(found)

    def _weight(self, variant: PlannedVariant, size: Size) -> int:
        """Expected bytes of the whole picture at a size, in a variant's format and quality."""
        format, settings = variant.format, self._job.recipe.settings_for(variant.format)
        lossless = not FORMATS[format].lossy
        # The palette that pieces need is not the one that the whole needs.
        if not self.is_photograph or (lossless and variant.look is not None):
            source = EncodeSource(self._image(size, format), nature=self.facts.nature)
            return len(find(source, EncodeRequest(format, variant.quality, settings)).data)
        if isinstance(variant.quality, Aim) and variant.quality.max_bytes is not None:
            return self._in_budget(variant, variant.quality.max_bytes, size)
        if variant.look is None:
            assert not isinstance(variant.quality, Aim)
            return self._scaled_up(size, format, variant.quality, settings)
        guessed, pieces = self._guessed(variant.look), self._pieces(size).images
        quality = guessed.quality(format, size)
        settings = guessed.settings(format, size, pieces[len(pieces) // 2])
        draft = typical_of(format).draft
        if draft is None or size.width <= self._probe.width:
            return self._scaled_up(size, format, quality, settings)
        settings = replace(settings, effort=draft.effort)
        gain = guessed.draft_gain(format, quality)
        return round(gain * self._scaled_up(size, format, quality, settings))

    def _scaled_up(
        self, size: Size, format: Format, quality: int | None, settings: Settings
    ) -> int:
        """The weight of the whole, from that of its pieces."""
        beyond = self._beyond(size, Format.JPEG if FORMATS[format].lossy else Format.PNG)
        files = self._pieces(size).encoded(format, quality, settings)
        return round(sum(len(file) - SHELL[format] for file in files) * beyond) + SHELL[format]

    def _in_budget(self, variant: PlannedVariant, most: int, size: Size) -> int:
        """The same for a byte limit, searched on the piece with the usual detail."""
        pieces = self._pieces(size).images
        source = EncodeSource(pieces[len(pieces) // 2], nature=self.facts.nature)
        lossy = FORMATS[variant.format].lossy
        share = self._beyond(size, Format.JPEG if lossy else Format.PNG) * len(pieces)
        aim = Aim(max_bytes=max(100, round(most / share)))
        settings = self._job.recipe.settings_for(variant.format)
        found = find(source, EncodeRequest(variant.format, aim, settings))
        return min(most, round(len(found.data) * share))

    def _guessed(self, look: float) -> GuessedQuality:
        if look not in self._qualities:
            self._qualities[look] = GuessedQuality(
                self._job.recipe, look, self._opaque, self._probe, self._trial
            )
        return self._qualities[look]

    def _opaque(self, size: Size) -> pyvips.Image:
        return self._image(size, Format.JPEG)

    # -- pieces --------------------------------------------------------------------------

    def _pieces(self, size: Size) -> Pieces:
        if size not in self._cut:
            self._cut[size] = Pieces(self._opaque(size), self._count)
        return self._cut[size]

    def _beyond(self, size: Size, proxy: Format) -> float:
        """The whole picture's weight divided by that of its pieces, by a quick encoder."""
        pieces = self._pieces(size)
        if pieces.are_whole:
            return 1.0
        if (size, proxy) not in self._ratios:
            settings = replace(self._job.recipe.settings_for(proxy), effort=QUICK[proxy])
            quality = QUICK_QUALITY if FORMATS[proxy].lossy else None
            shell = QUICK_SHELL[proxy]
            whole = len(encode(self._image(size, proxy), proxy, quality, settings)) - shell
            part = sum(len(data) - shell for data in pieces.encoded(proxy, quality, settings))
            self._ratios[size, proxy] = max(1, whole) / max(1, part)
        return self._ratios[size, proxy]

    def _image(self, size: Size, format: Format) -> pyvips.Image:
        if (size, format) not in self._fitted:
            image = fit_alpha(self._pictures.at(size), format, self._job.recipe)
            self._fitted[size, format] = image
        return self._fitted[size, format]

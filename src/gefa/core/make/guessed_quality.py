"""Guesses the quality numbers that a look needs, without making the files.

Each format is tried twice on a small copy of the picture. What scores change between this copy and
larger sizes is usual for the format, corrected by one quick draft of this picture.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from math import log2

import pyvips

from gefa.core.geometry import Size
from gefa.core.treat.curves import PERFECT, Curve, warped
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import (
    TYPICAL_WIDTH,
    EncodeSource,
    tried_near,
    with_chroma,
)
from gefa.core.treat.formats import Draft, Format, typical_of
from gefa.core.treat.quality_search import HIGHEST
from gefa.core.treat.recipe import Chroma, Recipe, Settings

SMALL = 400
"""px of width below which half the resolution of colour decides about looks, so that qualities of
larger sizes say little"""
MOST_TRIES = 2
"""files of the copy that are made and scored for a format"""
USUALLY_ABOVE = 0.9
"""points above its look that a file ends at: qualities are whole numbers"""


class GuessedQuality:
    """For one opaque picture and one look.

    ``picture`` gives it at a size; ``probe`` is the size of the copy, ``trial`` the larger one that
    the draft is made at.
    """

    def __init__(
        self,
        recipe: Recipe,
        look: float,
        picture: Callable[[Size], pyvips.Image],
        probe: Size,
        trial: Size,
    ) -> None:
        self._recipe, self._look, self._picture = recipe, look, picture
        self.probe, self._trial = probe, trial
        self._sources: dict[Size, EncodeSource] = {}
        self._curves: dict[tuple[Format, Size], Curve] = {}
        self._draft_drift: float | None = None

    def quality(self, format: Format, size: Size) -> int:
        """The quality number that the look needs at a size."""
        if size.width < SMALL:
            curve = self._curve(format, size)
        else:
            curve = self._curve(format, self.probe).moved(self._drift(format, size))
        wanted = warped(min(PERFECT, self._look + USUALLY_ABOVE))
        return max(typical_of(format).lowest, min(HIGHEST, round(curve.quality(wanted))))

    def settings(self, format: Format, size: Size, piece: pyvips.Image) -> Settings:
        """The recipe's settings, with the chroma that files of a size will have. What a small copy
        does not bear, a larger picture often does: its ``piece`` is asked then."""
        small = self._source(size if size.width < SMALL else self.probe)
        settings = with_chroma(small, self._look, format, self._recipe.settings_for(format))
        if settings.chroma is Chroma.HALF or size.width <= self.probe.width:
            return settings
        source = EncodeSource(piece)
        return with_chroma(source, self._look, format, self._recipe.settings_for(format))

    def draft_gain(self, format: Format, quality: int) -> float:
        """How many times as heavy as a draft a file of the usual effort is, at the probe."""
        draft = typical_of(format).draft
        assert draft is not None
        settings = self.settings(format, self.probe, self._source(self.probe).image)
        image = self._source(self.probe).image
        usual = len(encode(image, format, quality, settings))
        return usual / len(encode(image, format, quality, replace(settings, effort=draft.effort)))

    def _curve(self, format: Format, size: Size) -> Curve:
        """Scores by quality. AVIF is tried as drafts, whose gain is added."""
        if (format, size) not in self._curves:
            typical, source = typical_of(format), self._source(size)
            settings = self.settings(format, size, source.image)
            gain = 0.0
            if typical.draft is not None:
                gain = typical.draft.gain_at(size.width)
                settings = replace(settings, effort=typical.draft.effort)
            start = typical.scores.moved(typical.drift * log2(size.width / TYPICAL_WIDTH) - gain)

            def score(quality: int) -> float:
                return source.score(encode(source.image, format, quality, settings), format)

            curve = tried_near(format, self._look, start, gain, MOST_TRIES, score)
            self._curves[format, size] = curve.moved(gain)
        return self._curves[format, size]

    def _drift(self, format: Format, size: Size) -> float:
        """How much higher warped scores are at a size than at the probe's, at the same quality."""
        typical, usual = typical_of(format), typical_of(Format.AVIF).drift
        drift = typical.drift * log2(size.width / self.probe.width)
        if size.width <= self.probe.width:
            return drift
        share = typical.follows if format is not Format.AVIF else 1.0
        return drift + share * (self._drift_of_draft - usual * self._doublings)

    @property
    def _doublings(self) -> float:
        return log2(self._trial.width / self.probe.width)

    @property
    def _drift_of_draft(self) -> float:
        """The same for an AVIF draft, from the probe to the trial size."""
        if self._draft_drift is None:
            self._draft_drift = self._measured_drift() if self._doublings > 0 else 0.0
        return self._draft_drift

    def _measured_drift(self) -> float:
        draft, source = _avif_draft(), self._source(self._trial)
        curve = self._curve(Format.AVIF, self.probe).moved(-draft.gain_at(self.probe.width))
        quality = max(1, min(HIGHEST, round(curve.quality(warped(self._look)))))
        settings = self.settings(Format.AVIF, self._trial, source.image)
        data = encode(source.image, Format.AVIF, quality, replace(settings, effort=draft.effort))
        return warped(source.score(data, Format.AVIF)) - curve.value(quality)

    def _source(self, size: Size) -> EncodeSource:
        if size not in self._sources:
            self._sources[size] = EncodeSource(self._picture(size))
        return self._sources[size]


def _avif_draft() -> Draft:
    draft = typical_of(Format.AVIF).draft
    assert draft is not None
    return draft

"""A job: one cut with all files it may have. A worker needs the job and the source's bytes, nothing
else."""

from __future__ import annotations

from datetime import date

from pydantic import BaseModel, ConfigDict

from gefa.core.cut.crop import Crop
from gefa.core.cut.cut import Cut
from gefa.core.geometry import Rect, Size
from gefa.core.make.keys import ESTIMATE, key_of, treatment_key
from gefa.core.read.survey import OriginalFacts
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import Aim, Recipe, Steps

USUAL_STEPS = 5
"""usual number of widths, for the time left"""
USUAL_FORMATS = (Format.AVIF, Format.WEBP, Format.JPEG)
"""usual formats, before the formats of a cut are chosen"""


class PlannedVariant(BaseModel):
    """One file to make. ``key`` names everything its bytes depend on; ``path`` is where it goes,
    once it has one; sizes in px. ``moves`` keeps all frames of an animation."""

    model_config = ConfigDict(frozen=True)

    key: str
    path: str = ""
    format: Format
    width: int
    height: int
    quality: int | Aim | None
    moves: bool = False

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)

    @property
    def look(self) -> float | None:
        """The look to reach; None if the quality is set otherwise."""
        return self.quality.look if isinstance(self.quality, Aim) else None


class CutJob(BaseModel):
    """The files of one cut.

    ``extent`` is in canvas px. ``css`` shows the cut without any file. ``mark`` is the SHA-256 of
    the picture to lay over a corner. ``text`` says that the design has text in this part. ``stem``
    is what files of its source are called after, ``day`` when that was first brought in: names may
    contain both.
    """

    model_config = ConfigDict(frozen=True)

    source: str
    cut: Cut
    recipe: Recipe
    extent: Rect
    fingerprint: str
    variants: tuple[PlannedVariant, ...]
    crop: Crop | None = None
    css: str = ""
    mark: str = ""
    text: bool = False
    stem: str = ""
    day: date | None = None

    @property
    def steps(self) -> Steps | None:
        """The weight steps its widths are chosen by, if they are."""
        return self.recipe.steps if self.cut.size is None else None

    @property
    def drawing(self) -> PlannedVariant | None:
        """The SVG variant for all widths, if the cut may have one."""
        return next((v for v in self.variants if FORMATS[v.format].drawn), None)

    @property
    def pixels(self) -> tuple[PlannedVariant, ...]:
        """The raster variants."""
        return tuple(v for v in self.variants if not FORMATS[v.format].drawn)

    @property
    def expected(self) -> list[PlannedVariant]:
        """About as many variants as will be made, if formats or widths are chosen by weight."""
        widths = sorted({variant.width for variant in self.variants})
        if self.steps:
            widths = widths[:: max(1, len(widths) // (USUAL_STEPS - 1))]
        formats = USUAL_FORMATS if self.recipe.auto else self.recipe.rasters
        expected = [v for v in self.pixels if v.width in widths and v.format in formats]
        return expected or list(self.variants)

    @property
    def cost(self) -> float:
        """Relative time to make its files: megapixels, weighted by format."""
        return sum(v.size.megapixels * FORMATS[v.format].cost for v in self.expected)

    @property
    def widest(self) -> Size:
        """The largest size in px; the cut's own size if it makes no file."""
        sizes = (variant.size for variant in self.variants)
        return max(sizes, key=lambda size: size.width, default=self.extent.size)

    @property
    def facts_key(self) -> str:
        """The key of the facts measured of its pixels."""
        return key_of("facts", self.key_at(self.widest, Format.PNG, None))

    @property
    def estimate_key(self) -> str:
        """The key of the estimate of its files."""
        return key_of("estimate", ESTIMATE, *(variant.key for variant in self.variants))

    def key_at(self, size: Size, format: Format, quality: int | None) -> str:
        """The key of a still at a size or quality number that the recipe does not name."""
        return treatment_key(
            self.fingerprint, self.cut, self.recipe, self.mark, size, format, quality
        )

    @property
    def megapixels(self) -> float:
        """Megapixels of its largest file."""
        return max((variant.size.megapixels for variant in self.pixels), default=0.0)


class OriginalJob(BaseModel):
    """A bitmap to copy out of a design as stored, to ``path`` below ``folder``."""

    model_config = ConfigDict(frozen=True)

    source: str = ""
    stem: str = ""
    folder: str = ""
    facts: OriginalFacts
    path: str = ""

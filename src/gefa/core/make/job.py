"""A job: one cut with all files it may have. A worker needs the job and the source's bytes, nothing
else."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

from gefa.core.cut.crop import Crop
from gefa.core.cut.cut import Cut
from gefa.core.geometry import Rect, Size
from gefa.core.make.keys import ESTIMATE, key_of, treatment_key
from gefa.core.read.survey import OriginalFacts
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import Aim, Recipe, Steps

USUAL_STEPS = 5
"""widths that steps usually end with, for the time left"""
USUAL_FORMATS = (Format.AVIF, Format.WEBP, Format.JPEG)
"""what cuts usually get, where that is chosen while they are made"""


class PlannedVariant(BaseModel):
    """One file to make. ``key`` says everything its bytes depend on, ``path`` where it is written,
    once that was given to it; sizes in px. ``moves`` keeps all frames of an animation."""

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
        """The look that is asked for; None where another quality is."""
        return self.quality.look if isinstance(self.quality, Aim) else None


class CutJob(BaseModel):
    """The files of one cut.

    ``extent`` is in canvas px. ``css`` shows the cut without any file. ``mark`` is the SHA-256 of
    the picture that is laid over a corner. ``text`` tells that the design says it has text in it.
    """

    model_config = ConfigDict(frozen=True)

    source: str
    cut: Cut
    recipe: Recipe
    extent: Rect
    fingerprint: str
    variants: tuple[PlannedVariant, ...]
    crop: Crop | None = None
    alt: str = ""
    css: str = ""
    mark: str = ""
    text: bool = False

    @property
    def steps(self) -> Steps | None:
        """By which weights its widths are chosen while it is made, if they are."""
        return self.recipe.steps if self.cut.size is None else None

    @property
    def drawing(self) -> PlannedVariant | None:
        """The file that would do for all widths, if the cut may be one."""
        return next((v for v in self.variants if FORMATS[v.format].drawn), None)

    @property
    def pixels(self) -> tuple[PlannedVariant, ...]:
        """The variants that are made of pixels."""
        return tuple(v for v in self.variants if not FORMATS[v.format].drawn)

    @property
    def expected(self) -> list[PlannedVariant]:
        """About as many variants as will be made, where formats or widths are chosen on the way."""
        widths = sorted({variant.width for variant in self.variants})
        if self.steps:
            widths = widths[:: max(1, len(widths) // (USUAL_STEPS - 1))]
        formats = USUAL_FORMATS if self.recipe.auto else self.recipe.rasters
        expected = [v for v in self.pixels if v.width in widths and v.format in formats]
        return expected or list(self.variants)

    @property
    def cost(self) -> float:
        """About how long its files take to make, against each other's: megapixels by format."""
        return sum(v.size.megapixels * FORMATS[v.format].cost for v in self.expected)

    @property
    def widest(self) -> Size:
        """The largest size in px; that of the cut itself where it makes no file."""
        sizes = (variant.size for variant in self.variants)
        return max(sizes, key=lambda size: size.width, default=self.extent.size)

    @property
    def facts_key(self) -> str:
        """The key under which what is measured of the cut's pixels is kept."""
        return key_of("facts", self.key_at(self.widest, Format.PNG, None))

    @property
    def estimate_key(self) -> str:
        """The key under which what its files are expected to weigh is kept."""
        return key_of("estimate", ESTIMATE, *(variant.key for variant in self.variants))

    def key_at(self, size: Size, format: Format, quality: int | None) -> str:
        """The key of a still made at another size or quality number than the recipe's."""
        return treatment_key(
            self.fingerprint, self.cut, self.recipe, self.mark, size, format, quality
        )

    @property
    def megapixels(self) -> float:
        """Megapixels of its largest file."""
        return max((variant.size.megapixels for variant in self.pixels), default=0.0)


class OriginalJob(BaseModel):
    """A bitmap to be taken out of a design as it is stored, to ``path``, below ``folder``."""

    model_config = ConfigDict(frozen=True)

    source: str = ""
    folder: str = ""
    facts: OriginalFacts
    path: str = ""

"""What a plan says of pages: pictures by name, the pages that show them, and who visits."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any

from pydantic import AfterValidator, Field, field_validator, model_validator

from gefa.core.conditions import ConditionError, parse_media, parse_sizes
from gefa.core.plan.plan_model import PlanModel, SourcePath
from gefa.core.treat.formats import FORMATS, Format

ShownName = Annotated[str, Field(min_length=1, max_length=300)]
MOST_SHOWN = 1_000
"""pictures of a page, uses of a picture, times it is shown"""
MOST_ROWS = 10_000
"""of an audience"""
MODERN = tuple(format for format, row in FORMATS.items() if row.modern and not row.drawn)
"""formats that not every browser shows"""


def _media(text: str) -> str:
    try:
        parse_media(text)
    except ConditionError as error:
        raise ValueError(f"{text!r} is not a media condition: {error}") from None
    return text


def _sizes(text: str) -> str:
    try:
        if text:
            parse_sizes(text)
    except ConditionError as error:
        raise ValueError(f"{text!r} is not a valid sizes: {error}") from None
    return text


MediaText = Annotated[str, Field(max_length=1000), AfterValidator(_media)]


class Loading(StrEnum):
    """The ``loading`` attribute of ``<img>``."""

    LAZY = "lazy"
    EAGER = "eager"


class PictureUse(PlanModel):
    """A cut that a picture shows where ``media`` matches; empty for everywhere else."""

    cut: ShownName
    media: MediaText = ""


class PictureEntry(PlanModel):
    """A picture of a page: one cut, or several for different media conditions, the last of them for
    everywhere else. An empty ``alt`` is that of a decorative picture."""

    name: ShownName
    alt: Annotated[str | None, Field(max_length=2000)] = None
    sizes: Annotated[str, Field(max_length=2000)] = ""
    loading: Loading = Loading.LAZY
    use: tuple[PictureUse, ...] = Field(min_length=1, max_length=MOST_SHOWN)

    _checked = field_validator("sizes")(_sizes)

    @field_validator("use")
    @classmethod
    def _ends_everywhere(cls, use: tuple[PictureUse, ...]) -> tuple[PictureUse, ...]:
        if use[-1].media:
            raise ValueError("the last use is the fallback: give it no media")
        if any(not one.media for one in use[:-1]):
            raise ValueError(
                "only the last use may go without media: uses after it are never shown"
            )
        return use


class PagePicture(PlanModel):
    """A picture or cut on a page, by name: with ``sizes`` for this page, ``times`` for similar
    ones, and ``seen`` for the share of visits (0..1) that scroll to it if it is lazy."""

    picture: ShownName
    sizes: Annotated[str, Field(max_length=2000)] = ""
    times: int = Field(default=1, ge=1, le=MOST_SHOWN)
    seen: float = Field(default=1.0, ge=0, le=1)
    loading: Loading | None = None

    _checked = field_validator("sizes")(_sizes)


class BudgetAt(StrEnum):
    """The visit that a budget is for: p75 is heavier than three quarters of all visits."""

    MEAN = "mean"
    P50 = "p50"
    P75 = "p75"
    P95 = "p95"
    WORST = "worst"


class PageBudget(PlanModel):
    """Bytes of pictures that a visit may load."""

    bytes: int = Field(ge=1)
    at: BudgetAt = BudgetAt.P75


class PageEntry(PlanModel):
    """A page: a list of pictures, or built ``html``, relative to the plan's folder."""

    name: Annotated[str, Field(max_length=300)] = ""
    pictures: tuple[PagePicture, ...] = Field(default=(), max_length=MOST_SHOWN)
    html: SourcePath | None = None
    budget: PageBudget | None = None

    @field_validator("pictures", mode="before")
    @classmethod
    def _by_name(cls, pictures: Any) -> Any:
        """A plain text is a picture without settings."""
        if not isinstance(pictures, list | tuple):
            return pictures
        return [{"picture": one} if isinstance(one, str) else one for one in pictures]

    @model_validator(mode="after")
    def _one_way(self) -> PageEntry:
        if (self.html is None) == (not self.pictures):
            raise ValueError("give a page either pictures or html")
        if self.html is None and not self.name:
            raise ValueError("a page with pictures needs a name")
        return self

    @property
    def called(self) -> str:
        """Its name, or the path of its file."""
        return self.name or self.html or ""


class AudienceRow(PlanModel):
    """A group of similar visits: viewport width in CSS px, pixel density, and their share in any
    unit. ``formats`` are those of AVIF and WebP that they show; all if left out."""

    viewport_width: float = Field(gt=0, le=20_000)
    device_pixel_ratio: float = Field(ge=0.1, le=10)
    share: float = Field(gt=0, le=1e15)
    formats: tuple[Format, ...] = MODERN

    @field_validator("formats", mode="before")
    @classmethod
    def _in_words(cls, formats: Any) -> Any:
        """``avif webp``, as in a table cell; ``none`` for none."""
        if isinstance(formats, str):
            words = formats.lower().split()
            return MODERN if not words else [word for word in words if word != "none"]
        return formats


class AudienceEntry(PlanModel):
    """The audience: rows of a ``file`` (CSV or JSON, relative to the plan's folder), or of the
    plan."""

    name: ShownName
    file: SourcePath | None = None
    rows: tuple[AudienceRow, ...] = Field(default=(), max_length=MOST_ROWS)

    @model_validator(mode="after")
    def _one_way(self) -> AudienceEntry:
        if (self.file is None) == (not self.rows):
            raise ValueError("give an audience either a file or rows")
        return self


PAGE_MODELS = (
    *(PictureEntry, PictureUse, PageEntry, PagePicture, PageBudget),
    *(AudienceEntry, AudienceRow),
)

"""Recipes: how a cut or an upload is treated."""

from __future__ import annotations

import re
from dataclasses import dataclass, fields
from enum import StrEnum
from string import Formatter
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from gefa.core.treat.formats import FORMATS, ORDER, Effort, Format
from gefa.core.units import weight

NAME_FIELDS = frozenset(
    {"cut", "source", "width", "height", "density", "format", "ext", "hash", "yyyy", "mm"}
)
DEFAULT_NAME = "{cut}-{width}.{ext}"
_RATIO = re.compile(r"(\d+(?:\.\d+)?)\s*[:/]\s*(\d+(?:\.\d+)?)")
RECIPE_NAME = re.compile(r"[A-Za-z0-9][\w-]{0,59}")

MAX_WIDTHS = 64
"""of one ladder"""
AUTO_LOOK = 75.0
"""the look at which formats are compared, if a recipe names none"""
PALETTE_LOOK = 90.0
"""the least look of automatic palettes: below, edges and soft shadows show how few colours there
are, and drawn pieces weigh hardly less: 0.97 at 80"""

Quality = Annotated[int, Field(ge=1, le=100)]
Width = Annotated[int, Field(ge=1, le=65_500)]
Density = Annotated[float, Field(gt=0, le=8)]
Ratio = Annotated[float, Field(gt=0.01, lt=100)]
Share = Annotated[float, Field(ge=0, le=1)]


def ratio_from_words(ratio: object) -> object:
    """16 ÷ 9 for ``"16:9"``. Numbers pass through unchanged; ValueError for any other text."""
    if not isinstance(ratio, str):
        return ratio
    sides = _RATIO.fullmatch(ratio.strip())
    if not sides or float(sides[2]) == 0:
        raise ValueError(f'{ratio!r} is not a ratio: write one such as "16:9"')
    return float(sides[1]) / float(sides[2])


def fields_of(name: str) -> set[str]:
    """The fields of a name template; ValueError for fields that are not NAME_FIELDS, or that have a
    format: a width of a billion characters would be one."""
    try:
        parsed = [found for found in Formatter().parse(name) if found[1] is not None]
    except ValueError as error:
        raise ValueError(f"the name template {name!r} has unpaired braces") from error
    if any(written or converted for _, _, written, converted in parsed):
        raise ValueError("a field of a name template is a name in braces, without : or !")
    fields = {str(field) for _, field, _, _ in parsed}
    unknown = fields - NAME_FIELDS
    if unknown:
        known = " ".join(f"{{{field}}}" for field in sorted(NAME_FIELDS))
        raise ValueError(f"the name template has {sorted(unknown)}; it may have {known}")
    return fields


class AlphaPolicy(StrEnum):
    """What becomes of transparency."""

    KEEP = "keep"
    MATTE = "matte"
    UNDERLAY = "underlay"


class Fit(StrEnum):
    """How a picture comes to the recipe's ratio, as CSS ``object-fit`` has it."""

    CONTAIN = "contain"
    COVER = "cover"
    FILL = "fill"


class Chroma(StrEnum):
    """Whether colour is stored at full or half resolution; ``auto`` is the encoder's choice."""

    AUTO = "auto"
    FULL = "full"
    HALF = "half"


class Keep(StrEnum):
    """Which metadata stay; where a picture was taken never does."""

    NONE = "none"
    COPYRIGHT = "copyright"


class TextPolicy(StrEnum):
    """What becomes of text in SVG files: the part is made of ``pixels``, or the text is kept for
    typefaces that every visitor has."""

    PIXELS = "pixels"
    KEEP = "keep"


class Corner(StrEnum):
    """Where a mark is laid."""

    TOP_LEFT = "top left"
    TOP_RIGHT = "top right"
    BOTTOM_LEFT = "bottom left"
    BOTTOM_RIGHT = "bottom right"


class Mark(BaseModel):
    """A picture laid over a corner: its file's name, its ``width`` and ``margin`` as shares (0..1)
    of the width of the picture under it, and its ``opacity`` 0..1."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    picture: str = Field(min_length=1, max_length=400)
    corner: Corner = Corner.BOTTOM_RIGHT
    width: Share = Field(default=0.2, gt=0)
    margin: float = Field(default=0.03, ge=0, le=0.4)
    opacity: Share = 0.8


class Steps(BaseModel):
    """A ladder by weight: from ``narrowest`` to ``widest`` px in so many widths that the lightest
    files of no two neighbours are more than ``apart`` bytes apart."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    narrowest: Width = 320
    widest: Width = 1920
    apart: int = Field(default=30_000, ge=500)

    @model_validator(mode="after")
    def _ascending(self) -> Steps:
        if self.narrowest >= self.widest:
            raise ValueError("steps go from the narrowest to a wider widest")
        return self

    @property
    def candidates(self) -> tuple[int, ...]:
        """The widths to choose from, in px: evenly spaced, at most MAX_WIDTHS."""
        spacing = max(8, -(-(self.widest - self.narrowest) // (MAX_WIDTHS - 1)))
        return (*range(self.narrowest, self.widest - spacing // 2, spacing), self.widest)


class Apart(BaseModel):
    """How far the files of a ladder are apart at the least: a ``width`` that is less than this
    share below the natural one becomes the natural one, and a file that is not lighter than the
    next larger one by this share of its ``weight`` is not kept. 0 lets all be."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    width: float = Field(default=0.15, ge=0, le=0.5)
    weight: float = Field(default=0.1, ge=0, le=0.5)


class Aim(BaseModel):
    """A quality that is searched for: a ``look`` (SSIMULACRA2, 100 is identical) that must be
    reached, or ``max_bytes`` that a variant may weigh."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    look: float | None = Field(default=None, ge=10, le=99)
    max_bytes: int | None = Field(default=None, ge=100)

    @model_validator(mode="after")
    def _one(self) -> Aim:
        if (self.look is None) == (self.max_bytes is None):
            raise ValueError("give a quality either a look or max_bytes")
        return self

    @property
    def words(self) -> str:
        if self.look is not None:
            return f"look {self.look:g}"
        return f"at most {weight(self.max_bytes)}"


OwnQuality = Aim | dict[Format, Quality | Aim]
"""a quality of one cut's own, instead of its recipe's: for all formats, or for some"""
OwnFormats = Literal["auto"] | tuple[Format, ...]
"""formats of one cut's own"""
OwnWidths = Annotated[tuple[Width, ...], Field(min_length=1, max_length=MAX_WIDTHS)]
"""widths of one cut's own, px"""


@dataclass(frozen=True)
class Settings:
    """What an encoder is told besides its quality. ``effort`` None is the usual one; ``colours``
    makes a PNG with a palette of at most so many, ``"auto"`` of the fewest that reach a look;
    ``dither`` is 0..1; ``copyright`` is written into the file. ``near`` (0..100) is how near a file
    without a quality stays to its picture, for WebP; 100 loses nothing. ``text`` is for SVG."""

    effort: int | None = None
    progressive: bool = True
    chroma: Chroma = Chroma.AUTO
    colours: int | Literal["auto"] | None = None
    dither: float = 1.0
    copyright: str = ""
    near: int = 100
    text: TextPolicy = TextPolicy.PIXELS

    @property
    def told(self) -> dict[str, object]:
        """The settings that differ from the usual ones."""
        usual = Settings()
        values = {field.name: getattr(self, field.name) for field in fields(self)}
        return {name: v for name, v in values.items() if v != getattr(usual, name)}


class Recipe(BaseModel):
    """How a picture is treated: sizes, formats, quality, transparency, file name.

    Formats may be ``"auto"``: chosen for each cut by what it is and what its candidates weigh at
    the look. Sizes are ``widths`` in px, ``densities`` (pixels for each CSS px) of a ``shown``
    width in CSS px, or ``steps`` of equal weight; ``widths`` that help nobody are left out by
    ``apart``. ``tone`` lifts flat tones a little. ``ratio`` is width ÷ height; ``focal`` and
    ``zoom`` say what a ``cover`` keeps. Quality is one Aim for all formats, or a number or Aim for
    each. A format that an older one beats is left out unless ``every_format``. ``untouched`` says
    whether a picture's own file is taken where that is as light as what would be made of it; None:
    where formats are ``"auto"``. PNG has ``"all"`` the ``colours`` of the picture, at most so many,
    or with ``"auto"`` the fewest that reach the look; None: ``"auto"`` where formats are. SVG is
    made of parts that are drawn: one file for all widths, instead of all others; ``text`` says
    whether it may hold text, ``sprite`` whether those of a run go into one more file. ``effort`` is
    a word, or a number for some formats as their encoders count. Formats that cannot hold alpha get
    the matte whatever the policy says.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    formats: Literal["auto"] | tuple[Format, ...] = Field(min_length=1)
    widths: tuple[Width, ...] = Field(default=(), max_length=MAX_WIDTHS)
    densities: tuple[Density, ...] = Field(default=(), max_length=8)
    shown: Width | None = None
    steps: Steps | None = None
    apart: Apart = Apart()
    fit: Fit = Fit.CONTAIN
    ratio: Ratio | None = None
    focal: tuple[Share, Share] | None = None
    zoom: float = Field(default=1.0, ge=1, le=20)
    enlarge: bool = False
    every_format: bool = False
    untouched: bool | None = None
    quality: Aim | dict[Format, Quality | Aim] = Field(default_factory=dict)
    effort: Effort | dict[Format, int] = Effort.USUAL
    progressive: bool = True
    chroma: Chroma = Chroma.AUTO
    colours: Literal["auto", "all"] | Annotated[int, Field(ge=2, le=256)] | None = None
    dither: Share = 1.0
    text: TextPolicy = TextPolicy.PIXELS
    sprite: bool = False
    metadata: Keep = Keep.NONE
    tone: bool = False
    mark: Mark | None = None
    alpha: AlphaPolicy = AlphaPolicy.KEEP
    matte: str = Field(default="#ffffff", pattern=r"^#[0-9a-fA-F]{6}$")
    name: str = Field(default=DEFAULT_NAME, max_length=200)

    @field_validator("formats")
    @classmethod
    def _newest_first(
        cls, formats: Literal["auto"] | tuple[Format, ...]
    ) -> Literal["auto"] | tuple[Format, ...]:
        return "auto" if formats == "auto" else tuple(sorted(set(formats), key=ORDER.index))

    @field_validator("widths")
    @classmethod
    def _ascending(cls, widths: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(sorted(set(widths)))

    @field_validator("name")
    @classmethod
    def _known_fields(cls, name: str) -> str:
        fields_of(name)
        return name

    @field_validator("densities")
    @classmethod
    def _sparse_first(cls, densities: tuple[float, ...]) -> tuple[float, ...]:
        return tuple(sorted(set(densities)))

    @field_validator("ratio", mode="before")
    @classmethod
    def _ratio_in_words(cls, ratio: object) -> object:
        return ratio_from_words(ratio)

    @field_validator("effort")
    @classmethod
    def _possible_effort(cls, effort: Effort | dict[Format, int]) -> Effort | dict[Format, int]:
        if isinstance(effort, Effort):
            return effort
        for format, value in effort.items():
            most = FORMATS[format].most_effort
            if not 0 <= value <= most:
                raise ValueError(f"the effort of {FORMATS[format].label} is 0 to {most}")
        return effort or Effort.USUAL

    @model_validator(mode="after")
    def _one_ladder(self) -> Recipe:
        if sum(map(bool, (self.widths, self.densities, self.steps))) != 1:
            raise ValueError("give a recipe one of widths, densities or steps")
        if bool(self.densities) != (self.shown is not None):
            raise ValueError("densities need shown, the width the picture is shown at")
        if self.fit is not Fit.CONTAIN and self.ratio is None:
            raise ValueError(f"{self.fit.value} needs a ratio")
        return self

    @model_validator(mode="after")
    def _auto_has_a_look(self) -> Recipe:
        by_look = isinstance(self.quality, Aim) and self.quality.look is not None
        if self.auto and self.quality and not by_look:
            raise ValueError(
                'formats = "auto" compares formats at a look: set quality = { look = 75 }'
            )
        return self

    @model_validator(mode="after")
    def _sprite_has_drawings(self) -> Recipe:
        if self.sprite and Format.SVG not in self.candidates:
            raise ValueError(
                'a sprite needs SVG files: set formats to "auto", or to a list with "svg"'
            )
        return self

    @model_validator(mode="after")
    def _distinct_names(self) -> Recipe:
        sized = any(f"{{{field}}}" in self.name for field in ("width", "height", "hash"))
        if self.densities and "{density}" in self.name:
            sized = True
        if (self.steps or len(self.widths or self.densities) > 1) and not sized:
            raise ValueError("the name template needs {width}, since there are several widths")
        if len(self.candidates) > 1 and "{ext}" not in self.name and "{format}" not in self.name:
            raise ValueError("the name template needs {ext}, since there are several formats")
        return self

    @property
    def takes_untouched(self) -> bool:
        """Whether a picture's own file may serve as a variant."""
        return self.auto if self.untouched is None else self.untouched

    @property
    def auto(self) -> bool:
        return self.formats == "auto"

    @property
    def candidates(self) -> tuple[Format, ...]:
        """The formats to make, or to choose from."""
        return ORDER if self.formats == "auto" else self.formats

    @property
    def usual_formats(self) -> tuple[Format, ...]:
        """The formats that replace automatic ones if the quality is not a look: weights at
        different qualities cannot be compared."""
        fallback = Format.JPEG if self.alpha is AlphaPolicy.MATTE else Format.PNG
        return (Format.AVIF, Format.WEBP, fallback)

    @property
    def rasters(self) -> tuple[Format, ...]:
        """The candidates made of pixels."""
        return tuple(format for format in self.candidates if not FORMATS[format].drawn)

    @property
    def all_widths(self) -> tuple[int, ...]:
        """The widths asked for, in px; with steps, the widths to choose from."""
        if self.steps is not None:
            return self.steps.candidates
        if self.shown is None:
            return self.widths
        return tuple(sorted({round(self.shown * density) for density in self.densities}))

    def density_of(self, width: int) -> str:
        """``"2x"`` for a width that comes from a density; else empty."""
        if self.shown is None:
            return ""
        return f"{width / self.shown:.3g}x"

    def quality_for(self, format: Format) -> int | Aim | None:
        """1..100 on the encoder's scale, or an aim to search for; None if the format has no
        quality."""
        if not FORMATS[format].lossy:
            return self._palette_look if format is Format.PNG else None
        if isinstance(self.quality, Aim):
            return self.quality
        if self.auto and format not in self.quality:
            return Aim(look=AUTO_LOOK)
        return self.quality.get(format, FORMATS[format].quality or 0)

    @property
    def png_colours(self) -> Literal["auto"] | int | None:
        """The palette of PNG: at most so many colours, or with ``"auto"`` the fewest that reach the
        look; None for all colours of the picture."""
        if self.colours is None:
            return "auto" if self.auto else None
        return None if self.colours == "all" else self.colours

    def quality_with(self, own: OwnQuality) -> OwnQuality:
        """A quality of one cut's own, with the recipe's for formats that it does not name."""
        if isinstance(own, Aim):
            return own
        lossy = [format for format in self.candidates if FORMATS[format].lossy]
        usual = {format: self.quality_for(format) for format in lossy}
        return {format: found for format, found in usual.items() if found is not None} | own

    @property
    def look(self) -> float:
        """The look that the recipe asks for, and that automatic formats are compared at."""
        own = self.quality.look if isinstance(self.quality, Aim) else None
        return AUTO_LOOK if own is None else own

    @property
    def _palette_look(self) -> Aim | None:
        """The look that PNG must reach if its colours are chosen."""
        if self.png_colours != "auto":
            return None
        return Aim(look=max(self.look, PALETTE_LOOK) if self.auto else self.look)

    def effort_for(self, format: Format) -> int:
        """The effort on the encoder's scale."""
        row = FORMATS[format]
        if isinstance(self.effort, Effort):
            return row.effort(self.effort)
        return self.effort.get(format, row.effort())

    def settings_for(self, format: Format) -> Settings:
        """The settings that the format's encoder uses; others must not change its keys."""
        row = FORMATS[format]
        effort = self.effort_for(format)
        told: dict[str, Any] = {
            "effort": None if effort == row.effort() else effort,
            "progressive": self.progressive,
            "chroma": self.chroma,
            "colours": self.png_colours,
            "dither": self.dither if self.png_colours else 1.0,
            "text": self.text,
        }
        return Settings(**{name: value for name, value in told.items() if name in row.settings})


BUILT_IN: dict[str, Recipe] = {
    "backdrop": Recipe(
        formats="auto",
        widths=(480, 960, 1440, 1920),
        quality=Aim(look=75),
        alpha=AlphaPolicy.MATTE,
    ),
    "figure": Recipe(formats="auto", widths=(320, 640, 960), quality=Aim(look=80)),
    "icon": Recipe(formats="auto", widths=(48, 96, 192), quality=Aim(look=85)),
}
"""Wide opaque pictures, cut-out pieces, and small flat art: enough to start without a plan. Each
cut gets the formats and qualities that suit it, in up to twice the time of fixed numbers."""

BUILT_IN_WORDS = {
    "backdrop": "wide opaque pictures and photographs",
    "figure": "pieces that keep their transparency",
    "icon": "small flat art",
}

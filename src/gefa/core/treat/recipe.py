"""Recipes: how a cut or an upload is treated."""

from __future__ import annotations

import re
from enum import StrEnum
from string import Formatter
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from gefa.core.treat.formats import ORDER, Format

NAME_FIELDS = frozenset({"cut", "source", "width", "height", "format", "ext"})
DEFAULT_NAME = "{cut}-{width}.{ext}"
DEFAULT_QUALITY: dict[Format, int] = {
    Format.AVIF: 55,
    Format.WEBP: 75,
    Format.JPEG: 78,
}
RECIPE_NAME = re.compile(r"[A-Za-z0-9][\w-]{0,59}")

Quality = Annotated[int, Field(ge=1, le=100)]
Width = Annotated[int, Field(ge=1, le=65_500)]


class AlphaPolicy(StrEnum):
    """What becomes of transparency."""

    KEEP = "keep"
    MATTE = "matte"


class Recipe(BaseModel):
    """Formats, widths (px), quality for each format, transparency and file name.

    Formats that cannot hold alpha get the matte whatever the policy says.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    formats: tuple[Format, ...] = Field(min_length=1)
    widths: tuple[Width, ...] = Field(min_length=1, max_length=64)
    quality: dict[Format, Quality] = Field(default_factory=dict)
    alpha: AlphaPolicy = AlphaPolicy.KEEP
    matte: str = Field(default="#ffffff", pattern=r"^#[0-9a-fA-F]{6}$")
    name: str = Field(default=DEFAULT_NAME, max_length=200)

    @field_validator("formats")
    @classmethod
    def _newest_first(cls, formats: tuple[Format, ...]) -> tuple[Format, ...]:
        return tuple(sorted(set(formats), key=ORDER.index))

    @field_validator("widths")
    @classmethod
    def _ascending(cls, widths: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(sorted(set(widths)))

    @field_validator("name")
    @classmethod
    def _known_fields(cls, name: str) -> str:
        try:
            fields = {field for _, field, _, _ in Formatter().parse(name) if field is not None}
        except ValueError as error:
            raise ValueError(f"the name template {name!r} has unpaired braces") from error
        unknown = fields - NAME_FIELDS
        if unknown:
            known = " ".join(f"{{{field}}}" for field in sorted(NAME_FIELDS))
            raise ValueError(f"the name template has {sorted(unknown)}; it may have {known}")
        return name

    @model_validator(mode="after")
    def _distinct_names(self) -> Recipe:
        if len(self.widths) > 1 and "{width}" not in self.name and "{height}" not in self.name:
            raise ValueError("the name template needs {width}, since there are several widths")
        if len(self.formats) > 1 and "{ext}" not in self.name and "{format}" not in self.name:
            raise ValueError("the name template needs {ext}, since there are several formats")
        return self

    def quality_for(self, format: Format) -> int | None:
        """1..100 as the encoder counts it; None where the format has no such number."""
        if format is Format.PNG:
            return None
        return self.quality.get(format, DEFAULT_QUALITY[format])


BUILT_IN: dict[str, Recipe] = {
    "backdrop": Recipe(
        formats=(Format.AVIF, Format.WEBP, Format.JPEG),
        widths=(480, 960, 1440, 1920),
        alpha=AlphaPolicy.MATTE,
    ),
    "figure": Recipe(formats=(Format.AVIF, Format.WEBP, Format.PNG), widths=(320, 640, 960)),
    "icon": Recipe(
        formats=(Format.WEBP, Format.PNG),
        widths=(48, 96, 192),
        quality={Format.WEBP: 90},
    ),
}
"""Wide opaque pictures, cut-out pieces, and small flat art: enough to need no plan."""

BUILT_IN_WORDS = {
    "backdrop": "wide opaque pictures and photographs",
    "figure": "pieces that keep their transparency",
    "icon": "small flat art",
}

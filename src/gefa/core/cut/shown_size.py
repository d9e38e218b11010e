"""The one size that a cut is made at, in px or on paper."""

from __future__ import annotations

from enum import StrEnum

from pydantic import BaseModel, ConfigDict, Field, model_validator

from gefa.core.geometry import MM_PER_INCH, Size


class Unit(StrEnum):
    """Unit of a size."""

    PX = "px"
    MM = "mm"
    CM = "cm"
    INCH = "in"


_INCHES = {Unit.MM: 1 / MM_PER_INCH, Unit.CM: 10 / MM_PER_INCH, Unit.INCH: 1.0}


class ShownSize(BaseModel):
    """The one size a cut is made at, instead of its recipe's widths.

    In mm, cm or inches px = length in inches × ``dpi``, rounded, and the resolution is written
    into the file. With ``width`` alone, or ``height`` alone, the ratio is kept; with both the
    picture is fitted to exactly that, which may distort it.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    width: float | None = Field(default=None, gt=0, le=100_000)
    height: float | None = Field(default=None, gt=0, le=100_000)
    unit: Unit = Unit.PX
    dpi: float = Field(default=300, ge=1, le=10_000)

    @model_validator(mode="after")
    def _some_side(self) -> ShownSize:
        if self.width is None and self.height is None:
            raise ValueError("a size needs a width, a height or both")
        return self

    def _px(self, length: float) -> int:
        inches = _INCHES.get(self.unit)
        return max(1, round(length if inches is None else length * inches * self.dpi))

    def pixels(self, natural: Size) -> Size:
        """The size in px of a picture whose natural size is ``natural`` px."""
        if self.width is not None and self.height is not None:
            return Size(self._px(self.width), self._px(self.height))
        if self.width is not None:
            width = self._px(self.width)
            return Size(width, max(1, round(natural.height * width / natural.width)))
        height = self._px(self.height or 1)
        return Size(max(1, round(natural.width * height / natural.height)), height)

    @property
    def resolution(self) -> float | None:
        """Pixels per inch to write into the file; None for sizes in px."""
        return None if self.unit is Unit.PX else self.dpi

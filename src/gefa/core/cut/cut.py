"""A cut: what becomes files, and whether a tag, a rule or a hand chose it."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from pydantic import BaseModel, ConfigDict, Field

from gefa.core.cut.shown_size import ShownSize
from gefa.core.geometry import Rect
from gefa.core.treat.recipe import OwnFormats, OwnQuality


class Origin(StrEnum):
    """Where a cut came from."""

    TAG = "tag"
    RULE = "rule"
    HAND = "hand"
    SLICE = "slice"
    DEFAULT = "default"


class Cut(BaseModel):
    """A part or a slice that is to become files: what, its name, its recipe.

    A slice is the canvas with a ``rect`` (canvas px); ``slice`` says which of the plan's slices it
    is: the id of an entry, as ``"0"``, or with a cell of it, as ``"0 r1-c2"``. ``entry`` is the id
    of the plan's entry for a part, or where tags or rules asked for the cut, its number among
    theirs. Its files lie in ``folder``, which is the beginning of its name once it is given one.
    ``quality``, ``widths`` (px) and ``formats`` are its own instead of its recipe's. ``picture`` is
    the name of a picture that shows it where ``media`` holds.
    """

    model_config = ConfigDict(frozen=True)

    part: str
    name: str
    recipe: str
    origin: Origin
    folder: str = ""
    rect: Rect | None = None
    slice: str = ""
    entry: str = ""
    size: ShownSize | None = None
    quality: OwnQuality | None = None
    widths: tuple[int, ...] | None = None
    formats: OwnFormats | None = None
    as_file: bool = False
    strays: bool = True
    picture: str = ""
    media: str = ""

    @property
    def key(self) -> str:
        """The part or slice of the cut; remarks refer to cuts by this key."""
        return f"slice {self.slice}" if self.rect else self.part


class Remark(BaseModel):
    """Something left out, dropped, failed or warned about, and why. ``source`` is the name of the
    source, ``part`` the path of the part in question (``slice`` and its place in the plan for a
    slice), where there is one; it is not written into manifests."""

    model_config = ConfigDict(frozen=True)

    cut: str
    reason: str
    source: str = ""
    part: str = Field(default="", exclude=True)


@dataclass
class Gathered:
    """The cuts of a document, topmost part first, and the warnings about them."""

    cuts: list[Cut] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)
    unmatched: list[Remark] = field(default_factory=list)
    """rules and entries of the plan that match nothing in this source, but may match in another"""
    gaps: str = ""
    """the area of the canvas that no drawn slice covers, in words"""

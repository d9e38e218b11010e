"""What is to become files, and who said so."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from pydantic import BaseModel, ConfigDict, Field


class Origin(StrEnum):
    """Where a cut came from."""

    TAG = "tag"
    RULE = "rule"
    HAND = "hand"
    DEFAULT = "default"


class Cut(BaseModel):
    """A part that is to become files: what, its name, its recipe."""

    model_config = ConfigDict(frozen=True)

    part: str
    name: str
    recipe: str
    origin: Origin


class Remark(BaseModel):
    """Something left out, dropped, failed or warned about, and why. ``part`` is the path of the
    part in question, where there is one; it is not written into manifests."""

    model_config = ConfigDict(frozen=True)

    cut: str
    reason: str
    part: str = Field(default="", exclude=True)


@dataclass
class Gathered:
    """The cuts of a document, topmost part first, and what there is to say about them."""

    cuts: list[Cut] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)

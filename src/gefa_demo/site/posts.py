"""What the site itself keeps, in one file: shared photographs, stalls, field reports."""

from __future__ import annotations

import secrets
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, Field, ValidationError

from gefa.core.files import write_whole


class Post(BaseModel):
    """A photograph shared by a visitor: the upload's id and a caption."""

    upload: str
    caption: str


class Stall(BaseModel):
    """A stall, with a banner."""

    upload: str
    name: str
    words: str


class Placement(StrEnum):
    """The position of a picture in a text."""

    LEFT = "left"
    RIGHT = "right"
    CENTRED = "centred"
    FULL = "full"


class TextBlock(BaseModel):
    """Paragraphs, separated by empty lines."""

    kind: Literal["words"] = "words"
    text: str = Field(default="", max_length=50_000)


class PictureBlock(BaseModel):
    """A picture in a text."""

    kind: Literal["picture"] = "picture"
    upload: str = Field(max_length=40)
    placed: Placement = Placement.CENTRED
    caption: str = Field(default="", max_length=300)
    alt: str = Field(default="", max_length=2000)


Block = Annotated[TextBlock | PictureBlock, Field(discriminator="kind")]


class Report(BaseModel):
    """A field report."""

    id: str = Field(default_factory=lambda: secrets.token_hex(6))
    title: str = Field(default="A new report", max_length=120)
    blocks: list[Block] = Field(default=[TextBlock()], max_length=200)

    @property
    def pictures(self) -> set[str]:
        """Ids of its uploads."""
        return {block.upload for block in self.blocks if isinstance(block, PictureBlock)}


class Content(BaseModel):
    """All of it, newest first."""

    posts: list[Post] = []
    stalls: list[Stall] = []
    reports: list[Report] = []


class Record:
    """The content, always read and written whole."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "festival.json"

    def read(self) -> Content:
        try:
            return Content.model_validate_json(self._file.read_bytes())
        except (OSError, ValidationError):
            return Content()

    def write(self, content: Content) -> None:
        write_whole(self._file, content.model_dump_json(indent=1).encode())

    def add_post(self, post: Post) -> None:
        content = self.read()
        self.write(content.model_copy(update={"posts": [post, *content.posts]}))

    def report(self, id: str) -> Report | None:
        return next((report for report in self.read().reports if report.id == id), None)

    def keep_report(self, report: Report) -> None:
        """Replace the report, or add it before all others."""
        content = self.read()
        others = [one for one in content.reports if one.id != report.id]
        known = len(others) < len(content.reports)
        reports = [report if one.id == report.id else one for one in content.reports]
        self.write(content.model_copy(update={"reports": reports if known else [report, *others]}))

"""Treating an uploaded picture by a slot's settings: all its crops, and something to look at."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

import pyvips
from pydantic import BaseModel

from gefa.core.cut.crop import suggested_focal
from gefa.core.errors import GefaError
from gefa.core.make.make_cut import JobReport, carry_out
from gefa.core.pixels import on_matte
from gefa.core.read import CANVAS_PATH, read
from gefa.core.read.document import Document
from gefa.core.read.scratch import Scratch
from gefa.core.read.survey import survey
from gefa.core.slots.settings import SlotSettings, check_upload
from gefa.core.slots.upload import (
    CropPlace,
    Expanded,
    Focus,
    LeftOut,
    expand,
    first_focus,
    place_of,
)
from gefa.core.treat.recipe import Recipe
from gefa.store.blobs import BlobShelf, BlobStore
from gefa.store.places import blobs_for
from gefa.work.preview import LARGE, as_webp, draw, fitted

TINY = 16
"""px of the longer side of what stands in until a picture has come"""


class UploadBody(BaseModel):
    """Treat an uploaded picture. ``day`` is when it came; without a ``focus`` one is looked for.
    ``treatment`` names all that together."""

    blob: str
    name: str
    day: date
    settings: SlotSettings
    recipe: Recipe
    marks: dict[str, str] = {}
    focus: Focus | None = None
    treatment: str = ""


class UploadReport(BaseModel):
    """Sizes in px. ``preview`` is a blob, ``tiny`` a data URI, ``suggested`` what crops keep
    until somebody chooses; ``crops`` says what each crop keeps, ``made`` what became of it."""

    width: int
    height: int
    format: str
    placeholder: str
    tiny: str
    preview: str
    suggested: Focus
    crops: list[CropPlace]
    made: list[JobReport]
    left_out: list[LeftOut]
    warnings: list[str]
    failed: list[str]


def treat(
    folder: Path,
    job_id: str,
    asked: UploadBody,
    threads: int,
    tell: Callable[[object], None],
    scratch: Path,
) -> UploadReport:
    """Make the variants of an uploaded picture; SourceError if it is none, or not one that the
    slot takes."""
    blobs = blobs_for(folder)
    document = read(blobs.path(asked.blob), asked.name, Scratch(scratch))
    check_upload(asked.settings, document.size, asked.name, document.profile_trouble())
    picture = draw(document, fitted(document.size, LARGE))
    found = suggested_focal(document, document.canvas, document.canvas_rect)
    suggested = first_focus(asked.recipe, found)
    focus = asked.focus or suggested
    surveyed = survey(document, lambda part: part.path == CANVAS_PATH)
    expanded = expand(surveyed, asked.settings, asked.recipe, focus, asked.day, marks=asked.marks)
    if not expanded.jobs:
        raise GefaError("; ".join(expanded.failed) + ".")
    shelf = BlobShelf(blobs, job_id)
    made = [
        carry_out(job, lambda: document, shelf, tell, threads, _mark(blobs, asked))
        for job in expanded.jobs
    ]
    return UploadReport(
        width=document.size.width,
        height=document.size.height,
        format=document.format,
        placeholder=main_colour(picture),
        tiny=_tiny(picture),
        preview=blobs.put(as_webp(picture)).sha256,
        suggested=suggested,
        crops=_places(document, asked, focus),
        made=made,
        left_out=expanded.left_out,
        warnings=_all_warnings(expanded, made),
        failed=[*expanded.failed, *(remark.reason for report in made for remark in report.failed)],
    )


def _places(document: Document, asked: UploadBody, focus: Focus) -> list[CropPlace]:
    return [
        CropPlace(name=crop.name, rect=place_of(crop, document.size, focus))
        for crop in asked.settings.crops
    ]


def _all_warnings(expanded: Expanded, made: list[JobReport]) -> list[str]:
    """Each once; those of one of several crops say which."""
    several = len(made) > 1
    told = [
        f"{remark.cut}: {remark.reason}" if several else remark.reason
        for report in made
        for remark in (*report.warnings, *report.left_out)
    ]
    return list(dict.fromkeys([*expanded.warnings, *told]))


def _mark(blobs: BlobStore, asked: UploadBody) -> Callable[[], Document] | None:
    mark = asked.recipe.mark
    if mark is None:
        return None
    return lambda: read(blobs.path(asked.marks[mark.picture]), mark.picture)


def main_colour(picture: pyvips.Image) -> str:
    """The average colour as ``#rrggbb``, to stand in until the picture has come."""
    small = on_matte(picture.thumbnail_image(32), "#ffffff")
    means = [small[band].avg() for band in range(3)]
    return "#" + "".join(f"{round(mean):02x}" for mean in means)


def _tiny(picture: pyvips.Image) -> str:
    """A few hundred bytes of WebP, as a data URI."""
    small = picture.thumbnail_image(TINY, height=TINY, size="down")
    data: Any = small.webpsave_buffer(Q=40, effort=4, keep="none")
    return f"data:image/webp;base64,{b64encode(data).decode()}"

"""Makes an upload's files by its slot's settings: all crops, and a preview."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable
from typing import Any

import pyvips

from gefa.core.cut.crop import suggested_focal
from gefa.core.errors import GefaError
from gefa.core.make.make_cut import carry_out
from gefa.core.make.report import JobReport
from gefa.core.make.variant_maker import OnMade
from gefa.core.pixels import on_matte
from gefa.core.read import CANVAS_PATH, read
from gefa.core.read.document import Document
from gefa.core.read.survey import survey
from gefa.core.slots.settings import check_upload
from gefa.core.slots.upload import (
    CropPlace,
    Expanded,
    Focus,
    LeftOut,
    expand,
    first_focus,
    place_of,
)
from gefa.store.blobs import BlobShelf, BlobStore
from gefa.store.contracts import UploadBody, UploadReport
from gefa.work.allowance import allow, making_seconds
from gefa.work.preview import LARGE, as_webp, draw, fitted

TINY = 16
"""px of the longer side of the placeholder"""


def treat(
    asked: UploadBody,
    document: Document,
    blobs: BlobStore,
    shelf: BlobShelf,
    tell: OnMade,
    threads: int,
) -> UploadReport:
    """Make the variants of an uploaded picture; SourceError if the slot refuses it."""
    check_upload(asked.settings, document.size, asked.name, document.profile_trouble())
    picture = draw(document, fitted(document.size, LARGE))
    found = suggested_focal(document, document.canvas, document.canvas_rect)
    suggested = first_focus(asked.recipe, found)
    focus = asked.focus or suggested
    surveyed = survey(document, lambda part: part.path == CANVAS_PATH)
    expanded = expand(surveyed, asked.settings, asked.recipe, focus, asked.day, marks=asked.marks)
    if not expanded.jobs:
        raise GefaError("; ".join(expanded.failed) + ".")
    allow(making_seconds(expanded.jobs))
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
        made=[report.without_notes() for report in made],
        left_out=expanded.left_out + _all_left_out(made),
        warnings=_all_warnings(expanded, made),
        failed=[*expanded.failed, *(remark.reason for report in made for remark in report.failed)],
    )


def _places(document: Document, asked: UploadBody, focus: Focus) -> list[CropPlace]:
    return [
        CropPlace(name=crop.name, rect=place_of(crop, document.size, focus))
        for crop in asked.settings.crops
    ]


def _all_warnings(expanded: Expanded, made: list[JobReport]) -> list[str]:
    """Each warning once; with several crops, those of one crop name it."""
    several = len(made) > 1
    told = [
        f"{remark.cut}: {remark.reason}" if several else remark.reason
        for report in made
        for remark in report.warnings
    ]
    return list(dict.fromkeys([*expanded.warnings, *told]))


def _all_left_out(made: list[JobReport]) -> list[LeftOut]:
    remarks = {(one.cut, one.reason) for report in made for one in report.left_out}
    return [LeftOut(crop=crop, width=None, reason=reason) for crop, reason in sorted(remarks)]


def _mark(blobs: BlobStore, asked: UploadBody) -> Callable[[], Document] | None:
    mark = asked.recipe.mark
    if mark is None:
        return None
    return lambda: read(blobs.path(asked.marks[mark.picture]), mark.picture)


def main_colour(picture: pyvips.Image) -> str:
    """The mean colour as ``#rrggbb``, for a placeholder."""
    small = on_matte(picture.thumbnail_image(32), "#ffffff")
    means = [small[band].avg() for band in range(3)]
    return "#" + "".join(f"{round(mean):02x}" for mean in means)


def _tiny(picture: pyvips.Image) -> str:
    """A few hundred bytes of WebP, as a data URI."""
    small = picture.thumbnail_image(TINY, height=TINY, size="down")
    data: Any = small.webpsave_buffer(Q=40, effort=4, keep="none")
    return f"data:image/webp;base64,{b64encode(data).decode()}"

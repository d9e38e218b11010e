"""What is wrong with the markup of pictures, by line."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise

import numpy as np
from pydantic import BaseModel

from gefa.core.conditions import ConditionError, parse_media, parse_sizes
from gefa.core.units import percent, weight
from gefa.core.weigh.audience import Audience
from gefa.core.weigh.html_page import HtmlPage, HtmlPicture, HtmlSource
from gefa.core.weigh.sent import sent
from gefa.core.weigh.shown import ShownPicture
from gefa.core.weigh.srcset import parse_srcset


class MarkupFault(BaseModel):
    """A mistake at a ``line`` of a page; 0 for the whole page or site."""

    page: str
    line: int
    reason: str

    def __str__(self) -> str:
        where = f"{self.page}:{self.line}" if self.line else self.page
        return f"{where}: {self.reason}"


def faults_of(
    name: str, page: HtmlPage, pictures: Sequence[ShownPicture], audience: Audience
) -> list[MarkupFault]:
    """The mistakes in a page's pictures; ``pictures`` are those with their files."""
    told = [*_of_attributes(page), *_late_and_eager(page)]
    for picture in pictures:
        told += _heavier_first(picture)
        told += _too_small(picture, audience)
    ordered = sorted(dict.fromkeys(told))
    return [MarkupFault(page=name, line=line, reason=reason) for line, reason in ordered]


Told = tuple[int, str]


def _of_attributes(page: HtmlPage) -> Iterator[Told]:
    for picture in page.pictures:
        yield from _of_img(picture)
        for source in (*picture.sources, picture.img):
            yield from _of_source(source, lazy=picture.lazy)
    for preload in page.preloads:
        yield from _of_source(preload.source, lazy=False)


def _of_img(picture: HtmlPicture) -> Iterator[Told]:
    if picture.width is None or picture.height is None:
        yield (
            picture.line,
            "give the <img> width and height: without them the page jumps when it loads",
        )
    if picture.alt is None:
        yield picture.line, 'the <img> has no alt: write one, or alt="" if it only decorates'
    if not picture.src and not picture.img.srcset:
        yield picture.line, "the <img> has no src"


def _of_source(source: HtmlSource, *, lazy: bool) -> Iterator[Told]:
    candidates, _ = parse_srcset(source.srcset)
    by_width = any(candidate.width is not None for candidate in candidates)
    if by_width and source.sizes is None:
        yield source.line, "srcset has widths but no sizes: browsers assume 100vw"
    if source.sizes is not None and not (lazy and source.sizes.strip().lower() == "auto"):
        try:
            parse_sizes(source.sizes.strip().removeprefix("auto,"))
        except ConditionError as error:
            yield source.line, f"sizes is not valid: {error}"
    if source.media:
        try:
            parse_media(source.media)
        except ConditionError as error:
            yield source.line, f"media is not valid: {error}"


def _late_and_eager(page: HtmlPage) -> Iterator[Told]:
    """Below a lazy picture there is no first screen."""
    lazy_above = False
    for picture in page.pictures:
        if lazy_above and not picture.lazy:
            yield picture.line, 'a lazy picture stands above this one: give it loading="lazy" too'
        lazy_above = lazy_above or picture.lazy


def _heavier_first(picture: ShownPicture) -> Iterator[Told]:
    """A source that browsers prefer to another, and that is heavier at the same width."""
    for first, later in pairwise(picture.sources):
        if first.media != later.media or first.type == later.type:
            continue
        lighter = {file.width: file for file in later.files}
        for file in first.files:
            other = lighter.get(file.width)
            if other is not None and not file.drawn and file.bytes > other.bytes:
                yield (
                    picture.line,
                    f"{file.path} ({weight(file.bytes)}) is offered before the lighter"
                    f" {other.path} ({weight(other.bytes)})",
                )


def _too_small(picture: ShownPicture, audience: Audience) -> Iterator[Told]:
    found = sent(picture, audience)
    if not found.blurred.any():
        return
    lacking = np.where(found.blurred, found.needed / np.maximum(1.0, found.width), 0.0)
    worst = int(lacking.argmax())
    row = audience.rows[worst]
    file = picture.files[found.file[worst]]
    share = float((found.blurred * audience.shares).sum())
    yield (
        picture.line,
        f"{file.path} is {file.width} px wide and shown on {found.needed[worst]:,.0f} px at"
        f" {row.viewport_width:g} px × {row.device_pixel_ratio:g}: blurred in {percent(share)} of"
        " visits",
    )

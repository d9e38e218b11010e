"""A mark laid over a corner of a picture."""

from __future__ import annotations

import pyvips

from gefa.core.geometry import Size, height_for
from gefa.core.pixels import drop_opaque_alpha, resize, with_alpha
from gefa.core.read.document import Document
from gefa.core.treat.recipe import Mark


def marked(image: pyvips.Image, mark: Mark, picture: Document) -> pyvips.Image:
    """``image`` (8-bit sRGB) with the canvas of ``picture`` over a corner, scaled with it."""
    margin = round(image.width * mark.margin)
    room = Size(max(1, image.width - 2 * margin), max(1, image.height - 2 * margin))
    size = _fitted(picture.size, max(1, round(image.width * mark.width)), room)
    drawn = picture.render(picture.canvas, picture.canvas_rect, size.width)
    laid = with_alpha(resize(drawn, size))
    faded = laid.extract_band(0, n=3).bandjoin((laid[3] * mark.opacity).cast("uchar"))
    x = margin if "left" in mark.corner else image.width - margin - size.width
    y = margin if "top" in mark.corner else image.height - margin - size.height
    over = with_alpha(image).composite2(
        faded.copy(interpretation="srgb"), "over", x=max(0, x), y=max(0, y)
    )
    return drop_opaque_alpha(over.cast("uchar").copy(interpretation="srgb"))


def _fitted(natural: Size, width: int, room: Size) -> Size:
    """As wide as asked for, or as there is room for."""
    width = min(width, room.width)
    height = height_for(natural, width)
    if height > room.height:
        height = room.height
        width = max(1, min(width, round(natural.width * height / natural.height)))
    return Size(width, height)

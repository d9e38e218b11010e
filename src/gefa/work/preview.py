"""What the screens show of a source: a picture of it, a small one, and a map for picking parts."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyvips
from pydantic import BaseModel

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import drop_opaque_alpha, resize
from gefa.core.read.document import Document, Part
from gefa.core.read.survey import Survey

LARGE = 1600
"""px of the longer side of the picture on the Cut screen"""
SMALL = 480
PICKED_FROM = 40
"""alpha (0..255) from which a pixel counts as its part's when it is pointed at"""


class Preview(BaseModel):
    """Names of blobs. ``pick`` is a PNG as large as ``picture`` whose colour is the number of the
    topmost part at each pixel: 1 + its place in the survey, as 24 bits red to blue; 0 is none."""

    picture: str
    small: str
    pick: str
    width: int
    height: int


def fitted(size: Size, longest: int) -> Size:
    """``size`` reduced so that its longer side is at most ``longest`` px."""
    scale = min(1.0, longest / max(size.width, size.height))
    return Size(max(1, round(size.width * scale)), max(1, round(size.height * scale)))


def draw(document: Document, size: Size) -> pyvips.Image:
    """The whole canvas at ``size`` px."""
    image = document.render(document.canvas, document.canvas_rect, size.width)
    return resize(drop_opaque_alpha(image), size).copy_memory()


def as_webp(image: pyvips.Image) -> bytes:
    return bytes(image.webpsave_buffer(Q=82, effort=2, keep="none"))


def pick_map(document: Document, surveyed: Survey, size: Size) -> bytes:
    """The PNG described at ``Preview.pick``."""
    numbers = {part.path: index for index, part in enumerate(surveyed.parts, start=1)}
    picked = np.zeros((size.height, size.width), np.uint32)
    if surveyed.layered:
        for part in _shown_leaves(document.canvas):
            extent = surveyed.parts[numbers[part.path] - 1].extent
            if extent is not None:
                _stamp(document, part, extent, picked, numbers[part.path])
    planes = np.dstack([(picked >> shift & 255).astype(np.uint8) for shift in (16, 8, 0)])
    image = pyvips.Image.new_from_array(planes, interpretation="srgb")
    return bytes(image.pngsave_buffer(compression=6, keep="none"))


def _shown_leaves(part: Part) -> Iterator[Part]:
    """Visible parts without children, bottom first."""
    for child in reversed(part.children):
        if child.visible:
            if child.children:
                yield from _shown_leaves(child)
            else:
                yield child


def _stamp(document: Document, part: Part, extent: Rect, picked: np.ndarray, number: int) -> None:
    shared = extent.intersection(document.canvas_rect)
    if shared.empty:
        return
    scale = picked.shape[1] / document.size.width
    left, top = int(shared.x * scale), int(shared.y * scale)
    small = Size(max(1, round(shared.width * scale)), max(1, round(shared.height * scale)))
    try:
        alpha = document.coverage(part, shared, small).numpy()
    except SourceError:
        return
    place = picked[top : top + small.height, left : left + small.width]
    covered = alpha[: place.shape[0], : place.shape[1]] > PICKED_FROM
    place[: covered.shape[0], : covered.shape[1]][covered] = number

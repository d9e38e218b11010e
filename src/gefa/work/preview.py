"""What the screens show of a source: a picture of it, a small one, and a map for picking parts."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyvips

from gefa.core.errors import GefaError, SourceError
from gefa.core.geometry import Size
from gefa.core.pixels import drop_opaque_alpha, resize
from gefa.core.read.document import Document, Part
from gefa.store.blobs import BlobStore

LARGE = 1600
"""px of the longer side of the picture on the Cut screen"""
SMALL = 480
"""px of the longer side on the wall: twice the width of a tile, for dense screens"""
TILE = 512
"""px of a side: about 30 tiles for a large screen, and few enough files for one zip"""
PICKED_FROM = 40
"""alpha (0..255) from which a pixel belongs to its part when clicked"""


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


def part_picture(document: Document, path: str) -> bytes:
    """A small picture of one part; empty if it cannot be drawn."""
    try:
        part = document.part(path)
        extent = document.extent(part)
        if extent.empty:
            return b""
        size = fitted(extent.size, SMALL)
        return as_webp(resize(drop_opaque_alpha(document.render(part, extent, size.width)), size))
    except GefaError:
        return b""


def tiles_of(document: Document, blobs: BlobStore) -> str:
    """The blob of the zip described at ``Preview.tiles``: ``LEVEL/COLUMN_ROW.SUFFIX`` in it, level
    0 the smallest."""
    size = document.size
    if max(size.width, size.height) <= LARGE:
        return ""
    image = drop_opaque_alpha(document.natural())
    suffix = ".webp[Q=82,effort=0]" if image.hasalpha() else ".jpg[Q=86]"
    with tempfile.TemporaryDirectory(dir=blobs.root) as folder:
        target = Path(folder) / "t.zip"
        image.dzsave(
            str(target),
            layout="dz",
            tile_size=TILE,
            overlap=0,
            depth="onetile",
            suffix=suffix,
            container="zip",
            compression=0,
        )
        return blobs.adopt(target).sha256


def pick_map(document: Document, size: Size) -> bytes:
    """The PNG described at ``Preview.pick``."""
    numbers = {part.path: index for index, part in enumerate(document.canvas.walk(), start=1)}
    picked = np.zeros((size.height, size.width), np.uint32)
    leaves = list(_shown_leaves(document.canvas))
    document.measure(leaves)
    for part in leaves:
        _stamp(document, part, picked, numbers[part.path])
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


def _stamp(document: Document, part: Part, picked: np.ndarray, number: int) -> None:
    try:
        shared = document.extent(part).intersection(document.canvas_rect)
    except SourceError:
        return
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

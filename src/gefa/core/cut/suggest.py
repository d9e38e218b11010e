"""Suggested slices: the separate objects of a sheet."""

from __future__ import annotations

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import box_of, with_alpha
from gefa.core.read.document import Document

LOOKED_AT = 2400
"""px of the longer side of the copy that is searched for objects"""
TOLERANCE = 12
"""levels of 255 by which the background may vary"""
SMALLEST = 4
"""px of a side below which an object counts as dirt"""
MAX_SUGGESTED = 2_000
"""slices: a sheet with more objects is a texture"""


def suggested(objects: list[Rect], distance: int = 8) -> list[Rect]:
    """Rectangles round objects, from top to bottom. Objects closer than ``distance`` px are merged,
    and dirt is left out."""
    joined = merged(objects, distance)
    kept = [box for box in joined if min(box.width, box.height) >= SMALLEST]
    return sorted(kept, key=lambda box: (box.y, box.x))[:MAX_SUGGESTED]


def objects_of(document: Document) -> list[Rect]:
    """Bounding boxes of the connected regions of a transparent or one-coloured canvas, in canvas
    px; none for any other canvas."""
    size = document.size
    scale = min(1.0, LOOKED_AT / max(size.width, size.height))
    small = Size(max(1, round(size.width * scale)), max(1, round(size.height * scale)))
    mask = _objects(document, small)
    if mask is None:
        return []
    return [_scaled(box, scale, document.canvas_rect) for box in _regions(mask)]


def _objects(document: Document, size: Size) -> NDArray[np.bool_] | None:
    image = with_alpha(document.render(document.canvas, document.canvas_rect, size.width))
    if image.width > size.width or image.height > size.height:
        across, down = size.width / image.width, size.height / image.height
        image = image.resize(across, vscale=down, kernel="linear")
    pixels = image.cast("uchar").numpy()
    alpha = pixels[..., 3]
    if (alpha < 250).mean() > 0.01:
        objects: NDArray[np.bool_] = alpha > TOLERANCE
        return objects
    border = np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]])[:, :3]
    ground = np.median(border, axis=0)
    if (np.abs(border - ground).max(axis=1) > TOLERANCE).mean() > 0.1:
        return None
    differs: NDArray[np.bool_] = np.abs(pixels[..., :3] - ground).max(axis=2) > TOLERANCE
    return differs


def _regions(mask: NDArray[np.bool_]) -> list[Rect]:
    """Bounding boxes of the connected regions of True."""
    if not mask.any():
        return []
    labels = pyvips.Image.new_from_array(mask.astype(np.uint8) * 255).labelregions().numpy()
    labels = labels.reshape(mask.shape)
    flat = labels[mask]
    rows, columns = np.nonzero(mask)
    names, index = np.unique(flat, return_inverse=True)
    if len(names) > 50 * MAX_SUGGESTED:
        return [box_of(mask.astype(np.uint8))]
    left = np.full(len(names), mask.shape[1])
    top = np.full(len(names), mask.shape[0])
    right, bottom = np.zeros(len(names), int), np.zeros(len(names), int)
    np.minimum.at(left, index, columns)
    np.minimum.at(top, index, rows)
    np.maximum.at(right, index, columns + 1)
    np.maximum.at(bottom, index, rows + 1)
    return [
        Rect(int(x), int(y), int(r - x), int(b - y))
        for x, y, r, b in zip(left, top, right, bottom, strict=True)
    ]


def _scaled(box: Rect, scale: float, canvas: Rect) -> Rect:
    if scale == 1:
        return box
    x, y = int(box.x / scale), int(box.y / scale)
    right, bottom = -int(-box.right / scale // 1), -int(-box.bottom / scale // 1)
    return Rect(x, y, right - x, bottom - y).intersection(canvas)


def merged(boxes: list[Rect], distance: int) -> list[Rect]:
    """Merge boxes that are closer than ``distance`` px to each other, until none are."""
    waiting = list(boxes)
    done: list[Rect] = []
    while waiting:
        box = waiting.pop()
        reach = box.grown(distance)
        touching = [other for other in done if not other.intersection(reach).empty]
        if not touching:
            done.append(box)
            continue
        done = [other for other in done if other not in touching]
        for other in touching:
            box = box.union(other)
        waiting.append(box)
    return done

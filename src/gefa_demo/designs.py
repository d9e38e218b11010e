"""Made-up designs as OpenRaster: groups of bitmaps, and the picture of all composed here."""

from __future__ import annotations

import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np
import pyvips

from gefa.core.pixels import visible_box
from gefa_demo.shapes import Pixels

_EPOCH = (2026, 5, 1, 9, 0, 0)
"""of all files in the archive, so that its bytes are always the same"""


@dataclass(frozen=True)
class Layer:
    """A bitmap (sRGB+alpha) at a position in px."""

    name: str
    image: pyvips.Image
    x: int = 0
    y: int = 0
    opacity: float = 1.0
    op: str = "svg:src-over"
    shown: bool = True


@dataclass(frozen=True)
class LayerGroup:
    """Layers in a named group, topmost first."""

    name: str
    layers: Sequence[Layer]
    opacity: float = 1.0
    op: str = "svg:src-over"
    shown: bool = True


def write_design(target: Path, stack: Sequence[LayerGroup], width: int, height: int) -> None:
    """Write a design of these groups; its ``mergedimage.png`` is composed here, independently of
    the reader."""
    merged = pyvips.Image.new_from_array(_merged(stack, width, height), interpretation="srgb")
    with zipfile.ZipFile(target, "w") as archive:
        _put(archive, "mimetype", b"image/openraster", stored=True)
        _put(archive, "stack.xml", _stack_xml(stack, width, height).encode())
        for index, layer in enumerate(_flat(stack)):
            _put(archive, f"data/layer{index:02d}.png", layer.image.pngsave_buffer(compression=3))
        _put(archive, "mergedimage.png", merged.pngsave_buffer(compression=3))
        small = merged.thumbnail_image(256, height=256)
        _put(archive, "Thumbnails/thumbnail.png", small.pngsave_buffer())


def _put(archive: zipfile.ZipFile, name: str, data: bytes, stored: bool = False) -> None:
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED
    archive.writestr(info, data)


def _flat(stack: Sequence[LayerGroup]) -> list[Layer]:
    return [layer for group in stack for layer in group.layers]


def _stack_xml(stack: Sequence[LayerGroup], width: int, height: int) -> str:
    lines = [f'<?xml version="1.0" encoding="UTF-8"?>\n<image version="0.0.5" w="{width}"'
             f' h="{height}" xres="150" yres="150"><stack>']  # fmt: skip
    index = 0
    for group in stack:
        lines.append(f"<stack {_attributes(group)}>")
        for layer in group.layers:
            lines.append(
                f'<layer {_attributes(layer)} src="data/layer{index:02d}.png"'
                f' x="{layer.x}" y="{layer.y}"/>'
            )
            index += 1
        lines.append("</stack>")
    return "\n".join([*lines, "</stack></image>"])


def _attributes(item: Layer | LayerGroup) -> str:
    shown = "visible" if item.shown else "hidden"
    return (
        f'name={quoteattr(item.name)} opacity="{item.opacity}" composite-op="{item.op}"'
        f' visibility="{shown}"'
    )


def cropped(name: str, image: pyvips.Image, dx: int = 0, dy: int = 0, **options: Any) -> Layer:
    """A layer as paint programs store it: only the box with visible pixels."""
    box = visible_box(image)
    cut = image.crop(box.x, box.y, box.width, box.height).copy_memory()
    return Layer(name, cut, box.x + dx, box.y + dy, **options)


def shadowed(image: pyvips.Image, blur: float, strength: float, drop: int) -> pyvips.Image:
    """The picture on its own soft shadow."""
    canvas = image.embed(0, 0, image.width, image.height, extend="black")
    alpha = canvas[3].embed(0, drop, image.width, image.height).gaussblur(blur) * strength
    ink = [20.0, 24.0, 40.0]
    black = (pyvips.Image.black(image.width, image.height) + ink).bandjoin(alpha).cast("uchar")
    return black.copy(interpretation="srgb").composite2(image, "over").cast("uchar").copy_memory()


# -- mergedimage.png, composed with NumPy straight from the specification's formulas --------


def _merged(stack: Sequence[LayerGroup], width: int, height: int) -> NDArrayU8:
    below = np.zeros((height, width, 4), np.float32)
    for group in reversed(stack):
        if not group.shown:
            continue
        for layer in reversed(group.layers):
            if layer.shown:
                below = _over(below, layer)
    alpha = below[..., 3:]
    straight = np.divide(below[..., :3], alpha, out=np.zeros_like(below[..., :3]), where=alpha > 0)
    return np.rint(np.concatenate([straight, alpha], axis=2) * 255).astype(np.uint8)


def _over(below: Pixels, layer: Layer) -> Pixels:
    pixels = layer.image.numpy() / np.float32(255)
    top, left = max(0, layer.y), max(0, layer.x)
    bottom = min(below.shape[0], layer.y + pixels.shape[0])
    right = min(below.shape[1], layer.x + pixels.shape[1])
    source = pixels[top - layer.y : bottom - layer.y, left - layer.x : right - layer.x]
    place = np.s_[top:bottom, left:right]
    cb, ab = below[place][..., :3], below[place][..., 3:]
    backdrop = np.divide(cb, ab, out=np.zeros_like(cb), where=ab > 0)
    cs, alpha = source[..., :3], source[..., 3:] * layer.opacity
    mixed = (1 - ab) * cs + ab * _mix(layer.op, backdrop, cs)
    below[place] = np.concatenate(
        [alpha * mixed + (1 - alpha) * cb, alpha + ab * (1 - alpha)], axis=2
    )
    return below


def _mix(op: str, cb: Pixels, cs: Pixels) -> Pixels:
    if op == "svg:multiply":
        return cb * cs
    if op == "svg:screen":
        return cb + cs - cb * cs
    if op == "svg:soft-light":
        curve = np.where(cb <= 0.25, ((16 * cb - 12) * cb + 4) * cb, np.sqrt(cb))
        return np.where(
            cs <= 0.5, cb - (1 - 2 * cs) * cb * (1 - cb), cb + (2 * cs - 1) * (curve - cb)
        )
    return cs


NDArrayU8 = np.ndarray[tuple[int, ...], np.dtype[np.uint8]]

"""Laying pictures over each other as W3C Compositing and Blending Level 1 says.

The arithmetic is done on float pictures, 0..1, with premultiplied colour. libvips has a composite
operation of its own, but its blend modes disagree with the specification where the source is
partly transparent.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import Rect
from gefa.core.pixels import with_alpha

Picture: TypeAlias = Any
"""A libvips image; its operators are made at run time, which a type cannot say."""


@dataclass(frozen=True, slots=True)
class Placed:
    """A picture at a place on the canvas (px), with its opacity (0..1) and operator."""

    image: Picture
    x: int
    y: int
    opacity: float = 1.0
    blend: str = "src-over"


def compose(placed: Sequence[Placed], region: Rect) -> Picture:
    """``placed``, bottom first, over transparency: what lies in ``region``, as 8-bit sRGB+alpha.

    The sum so far is one float buffer that each layer changes only where it lies, so that a
    design of hundreds of small layers costs what its layers cost.
    """
    below = np.zeros((region.height, region.width, 4), np.float32)
    for layer in placed:
        _lay(below, layer, region)
    return _to_bytes(pyvips.Image.new_from_array(below)).copy_memory()


def _lay(below: NDArray[np.float32], layer: Placed, region: Rect) -> None:
    own = Rect(layer.x, layer.y, layer.image.width, layer.image.height)
    shared = region if layer.blend in REACHING else own.intersection(region)
    if shared.empty:
        return
    source = _premultiplied(layer).embed(
        layer.x - shared.x, layer.y - shared.y, shared.width, shared.height, extend="black"
    )
    left, top = shared.x - region.x, shared.y - region.y
    place = np.s_[top : top + shared.height, left : left + shared.width]
    backdrop = pyvips.Image.new_from_array(np.ascontiguousarray(below[place]))
    below[place] = OPERATORS[layer.blend](backdrop, source).cast("float").numpy()


def faded(image: Picture, opacity: float) -> Picture:
    """An sRGB picture with its alpha (added if it has none) times ``opacity``, 0..1."""
    image = with_alpha(image)
    if opacity >= 1:
        return image
    alpha = (image[3] * opacity).rint().cast("uchar")
    return image.extract_band(0, n=3).bandjoin(alpha).copy(interpretation="srgb")


def _premultiplied(layer: Placed) -> Picture:
    image = with_alpha(layer.image)
    alpha = image[3] * (layer.opacity / 255)
    return (image.extract_band(0, n=3) * alpha / 255).bandjoin(alpha)


def _to_bytes(image: Picture) -> Picture:
    alpha = image[3]
    colour = (alpha > 0).ifthenelse(image.extract_band(0, n=3) / alpha, 0)
    return (colour.bandjoin(alpha) * 255).rint().cast("uchar").copy(interpretation="srgb")


def _split(image: Picture) -> tuple[Picture, Picture]:
    return image.extract_band(0, n=3), image[3]


def _porter_duff(
    source_share: Callable[[Picture], Picture | float],
    backdrop_share: Callable[[Picture], Picture | float],
) -> Callable[[Picture, Picture], Picture]:
    """co = cs·Fa(αb) + cb·Fb(αs), section 9.1 of the specification."""

    def operator(backdrop: Picture, source: Picture) -> Picture:
        return source * source_share(backdrop[3]) + backdrop * backdrop_share(source[3])

    return operator


def _plus(backdrop: Picture, source: Picture) -> Picture:
    total = backdrop + source
    return (total > 1).ifthenelse(1, total)


def _blending(
    mix: Callable[[Picture, Picture], Picture],
) -> Callable[[Picture, Picture], Picture]:
    """cs = (1 - αb)·Cs + αb·B(Cb, Cs), then src-over; section 10 of the specification."""

    def operator(backdrop: Picture, source: Picture) -> Picture:
        below, below_alpha = _split(backdrop)
        above, above_alpha = _split(source)
        mixed = mix(_straight(below, below_alpha), _straight(above, above_alpha))
        colour = (
            above * (1 - below_alpha)
            + below * (1 - above_alpha)
            + mixed * (above_alpha * below_alpha)
        )
        return colour.bandjoin(above_alpha + below_alpha * (1 - above_alpha))

    return operator


def _straight(colour: Picture, alpha: Picture) -> Picture:
    return (alpha > 0).ifthenelse(colour / alpha, 0)


def _smaller(a: Picture, b: Picture) -> Picture:
    return (a < b).ifthenelse(a, b)


def _larger(a: Picture, b: Picture) -> Picture:
    return (a > b).ifthenelse(a, b)


def _screen(below: Picture, above: Picture) -> Picture:
    return below + above - below * above


def _hard_light(below: Picture, above: Picture) -> Picture:
    return (above <= 0.5).ifthenelse(below * above * 2, _screen(below, above * 2 - 1))


def _color_dodge(below: Picture, above: Picture) -> Picture:
    lit = (above >= 1).ifthenelse(1, below / (1 - above))
    return (below <= 0).ifthenelse(0, (lit > 1).ifthenelse(1, lit))


def _color_burn(below: Picture, above: Picture) -> Picture:
    burnt = 1 - (1 - below) / above
    kept = (above <= 0).ifthenelse(0, (burnt < 0).ifthenelse(0, burnt))
    return (below >= 1).ifthenelse(1, kept)


def _soft_light(below: Picture, above: Picture) -> Picture:
    curve = (below <= 0.25).ifthenelse(((below * 16 - 12) * below + 4) * below, below**0.5)
    darker = below - (1 - above * 2) * below * (1 - below)
    return (above <= 0.5).ifthenelse(darker, below + (above * 2 - 1) * (curve - below))


OPERATORS: dict[str, Callable[[Picture, Picture], Picture]] = {
    "src-over": _porter_duff(lambda _: 1.0, lambda alpha: 1 - alpha),
    "src-atop": _porter_duff(lambda alpha: alpha, lambda alpha: 1 - alpha),
    "dst-in": _porter_duff(lambda _: 0.0, lambda alpha: alpha),
    "dst-out": _porter_duff(lambda _: 0.0, lambda alpha: 1 - alpha),
    "dst-atop": _porter_duff(lambda alpha: 1 - alpha, lambda alpha: alpha),
    "plus": _plus,
    "multiply": _blending(lambda below, above: below * above),
    "screen": _blending(_screen),
    "overlay": _blending(lambda below, above: _hard_light(above, below)),
    "darken": _blending(_smaller),
    "lighten": _blending(_larger),
    "color-dodge": _blending(_color_dodge),
    "color-burn": _blending(_color_burn),
    "hard-light": _blending(_hard_light),
    "soft-light": _blending(_soft_light),
    "difference": _blending(lambda below, above: (below - above).abs()),
    "exclusion": _blending(lambda below, above: below + above - below * above * 2),
}
"""Composite operators by their OpenRaster name without ``svg:``; (backdrop, source) to result."""

REACHING = frozenset({"dst-in", "dst-atop"})
"""Operators that change the backdrop also where the source is empty."""

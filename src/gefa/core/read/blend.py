"""Laying pictures over each other as W3C Compositing and Blending Level 1 says.

The arithmetic is done on float pictures, 0..1, with premultiplied colour. libvips has a composite
operation of its own, but its blend modes disagree with the specification where the source is
partly transparent.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

import pyvips

from gefa.core.geometry import Rect
from gefa.core.pixels import with_alpha

Picture: TypeAlias = Any
"""A libvips image; its operators are made at run time, which a type cannot say."""
_FLUSH_EVERY = 8


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

    The sum so far is put into memory every few layers, so that a design of hundreds of layers
    never has all of them unpacked at once.
    """
    below = pyvips.Image.black(region.width, region.height, bands=4).cast("float")
    for count, layer in enumerate(placed, start=1):
        below = _lay(below, layer, region)
        if count % _FLUSH_EVERY == 0:
            below = below.copy_memory()
    return _to_bytes(below).copy_memory()


def _lay(below: Picture, layer: Placed, region: Rect) -> Picture:
    own = Rect(layer.x, layer.y, layer.image.width, layer.image.height)
    shared = own.intersection(region)
    if layer.blend in REACHING:
        shared = region
    if shared.empty:
        return below
    source = _premultiplied(layer)
    source = source.embed(
        layer.x - shared.x, layer.y - shared.y, shared.width, shared.height, extend="black"
    )
    place = (shared.x - region.x, shared.y - region.y)
    backdrop = below.crop(*place, shared.width, shared.height)
    merged = OPERATORS[layer.blend](backdrop, source)
    return merged if shared == region else below.insert(merged, *place)


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

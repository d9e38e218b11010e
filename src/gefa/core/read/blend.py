"""Laying pictures over each other as W3C Compositing and Blending Level 1 says.

The arithmetic is done in NumPy on float pixels, 0..1, with premultiplied colour, a strip of rows
at a time. libvips has a composite operation of its own, but its blend modes disagree with the
specification where the source is partly transparent, and it has no non-separable ones.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import Rect
from gefa.core.pixels import inside, with_alpha

Pixels: TypeAlias = NDArray[np.float32]
"""Rows × columns × (red, green, blue, alpha), premultiplied, 0..1."""
Planes: TypeAlias = NDArray[np.float32]
"""The same as four planes: (red, green, blue, alpha) × rows × columns."""
Mix: TypeAlias = Callable[[Pixels, Pixels], Pixels]

_STRIP_PIXELS = 1 << 17
"""how many pixels are worked on at once, so that they stay in the processor's cache"""


@dataclass(frozen=True, slots=True)
class PlacedGroup:
    """A composed group, with its corner on the canvas (px), opacity and operator."""

    planes: Planes
    x: int
    y: int
    opacity: float = 1.0
    blend: str = "src-over"


@dataclass(frozen=True, slots=True)
class PlacedBitmap:
    """Rows of pixels with alpha at a position on the canvas (px), with opacity (0..1)
    and operator."""

    pixels: NDArray[np.uint8]
    x: int
    y: int
    opacity: float = 1.0
    blend: str = "src-over"


def compose(
    placed: Iterable[PlacedBitmap | PlacedGroup], region: Rect, opacity: float = 1.0
) -> NDArray[np.uint8]:
    """``placed``, bottom first, over transparency: the pixels of ``region``, as 8-bit sRGB with
    alpha. Rounded to bytes once, at the end: rounding each group would show as bands."""
    planes = compose_planes(placed, region)
    if opacity < 1:
        planes *= np.float32(opacity)
    return _to_bytes(planes)


def compose_planes(placed: Iterable[PlacedBitmap | PlacedGroup], region: Rect) -> Planes:
    """The same in floats.

    Each layer changes the one buffer only where it lies, so a design of hundreds of small layers
    costs as much as its layers.
    """
    planes = np.zeros((4, region.height, region.width), np.float32)
    for layer in placed:
        _lay(planes, layer, region)
    return planes


def _lay(planes: Planes, layer: PlacedBitmap | PlacedGroup, region: Rect) -> None:
    height, width = (
        layer.pixels.shape[:2] if isinstance(layer, PlacedBitmap) else layer.planes.shape[1:]
    )
    own = Rect(layer.x, layer.y, width, height)
    shared = own.intersection(region)
    if layer.blend in REACHING:
        _lay_around(planes, layer.blend, shared.moved(-region.x, -region.y))
    if shared.empty:
        return
    there = shared.moved(-own.x, -own.y)
    left, top = shared.x - region.x, shared.y - region.y
    for rows in _strips(shared.height, shared.width):
        place = np.s_[:, top + rows.start : top + rows.stop, left : left + shared.width]
        if isinstance(layer, PlacedBitmap):
            source = inside(layer.pixels, there)[rows]
            if layer.blend == "src-over":
                _lay_over(planes[place], source, layer.opacity)
                continue
            mixed = _premultiplied(source, layer.opacity)
        else:
            kept = np.s_[:, there.y + rows.start : there.y + rows.stop, there.x : there.right]
            mixed = layer.planes[kept].transpose(1, 2, 0) * np.float32(layer.opacity)
        _lay_mixed(planes[place], mixed, layer.blend)


def _strips(height: int, width: int) -> Iterator[slice]:
    step = max(1, _STRIP_PIXELS // max(1, width))
    return (slice(row, min(row + step, height)) for row in range(0, height, step))


def _lay_over(below: Planes, source: NDArray[np.uint8], opacity: float) -> None:
    """``src-over`` in place, plane by plane: the operator of nearly every layer."""
    alpha = source[..., 3] * np.float32(opacity / 255)
    kept = 1 - alpha
    below *= kept
    below[3] += alpha
    alpha /= 255
    for channel in range(3):
        below[channel] += source[..., channel] * alpha


def _lay_mixed(below: Planes, source: Pixels, blend: str) -> None:
    mixed = OPERATORS[blend](np.ascontiguousarray(below.transpose(1, 2, 0)), source)
    below[:] = mixed.transpose(2, 0, 1)


def _lay_around(planes: Planes, blend: str, inside: Rect) -> None:
    """Apply an operator where its source has no pixels."""
    nothing = np.zeros((1, 1, 4), np.float32)
    for place in (
        np.s_[:, : inside.y, :],
        np.s_[:, inside.bottom :, :],
        np.s_[:, inside.y : inside.bottom, : inside.x],
        np.s_[:, inside.y : inside.bottom, inside.right :],
    ):
        if planes[place].size:
            _lay_mixed(planes[place], nothing, blend)


def faded(image: pyvips.Image, opacity: float) -> Any:
    """An sRGB picture with its alpha (added if missing) times ``opacity``, 0..1."""
    image = with_alpha(image)
    if opacity >= 1:
        return image
    alpha = (image[3] * opacity).rint().cast("uchar")
    return image.extract_band(0, n=3).bandjoin(alpha).copy(interpretation="srgb")


def _premultiplied(pixels: NDArray[np.uint8], opacity: float) -> Pixels:
    floats = pixels.astype(np.float32)
    floats[..., 3] *= opacity / 255
    floats[..., :3] *= floats[..., 3:] / 255
    return floats


def _to_bytes(planes: Planes) -> NDArray[np.uint8]:
    _, height, width = planes.shape
    made = np.empty((height, width, 4), np.uint8)
    for rows in _strips(height, width):
        alpha = planes[3, rows]
        scale = np.divide(255, alpha, out=np.zeros_like(alpha), where=alpha > 0)
        for channel in range(3):
            colour = planes[channel, rows] * scale
            made[rows, :, channel] = np.rint(np.minimum(colour, 255, out=colour), out=colour)
        made[rows, :, 3] = np.rint(np.minimum(alpha, 1) * 255)
    return made


def _straight(colour: Pixels, alpha: Pixels) -> Pixels:
    return np.divide(colour, alpha, out=np.zeros_like(colour), where=alpha > 0)


def _porter_duff(
    source_share: Callable[[Pixels], Pixels | float],
    backdrop_share: Callable[[Pixels], Pixels | float],
) -> Mix:
    """co = cs·Fa(αb) + cb·Fb(αs), section 9.1 of the specification."""

    def operator(backdrop: Pixels, source: Pixels) -> Pixels:
        mixed: Pixels = source * source_share(backdrop[..., 3:]) + backdrop * backdrop_share(
            source[..., 3:]
        )
        return mixed

    return operator


def _plus(backdrop: Pixels, source: Pixels) -> Pixels:
    return np.minimum(backdrop + source, 1)


def _blending(mix: Mix) -> Mix:
    """cs = (1 - αb)·Cs + αb·B(Cb, Cs), then src-over; section 10 of the specification."""

    def operator(backdrop: Pixels, source: Pixels) -> Pixels:
        below, below_alpha = backdrop[..., :3], backdrop[..., 3:]
        above, above_alpha = source[..., :3], source[..., 3:]
        mixed = mix(_straight(below, below_alpha), _straight(above, above_alpha))
        made = np.empty_like(backdrop)
        made[..., :3] = (
            above * (1 - below_alpha)
            + below * (1 - above_alpha)
            + mixed * (above_alpha * below_alpha)
        )
        made[..., 3:] = above_alpha + below_alpha * (1 - above_alpha)
        return made

    return operator


def _screen(below: Pixels, above: Pixels) -> Pixels:
    return below + above - below * above


def _hard_light(below: Pixels, above: Pixels) -> Pixels:
    return np.where(above <= 0.5, below * above * 2, _screen(below, above * 2 - 1))


def _color_dodge(below: Pixels, above: Pixels) -> Pixels:
    lit = np.divide(below, 1 - above, out=np.ones_like(below), where=above < 1)
    return np.where(below <= 0, 0, np.minimum(lit, 1))


def _color_burn(below: Pixels, above: Pixels) -> Pixels:
    burnt = np.divide(1 - below, above, out=np.ones_like(below), where=above > 0)
    return np.where(below >= 1, 1, 1 - np.minimum(burnt, 1))


def _soft_light(below: Pixels, above: Pixels) -> Pixels:
    curve = np.where(below <= 0.25, ((below * 16 - 12) * below + 4) * below, np.sqrt(below))
    darker = below - (1 - above * 2) * below * (1 - below)
    return np.where(above <= 0.5, darker, below + (above * 2 - 1) * (curve - below))


# -- the non-separable modes, section 10.2 of the specification ------------------------------


def _luminosity(colour: Pixels) -> Pixels:
    """Lum(C) = 0.3·R + 0.59·G + 0.11·B"""
    weights = np.array([0.3, 0.59, 0.11], np.float32)
    return (colour @ weights)[..., None]


def _saturation(colour: Pixels) -> Pixels:
    spread: Pixels = colour.max(axis=-1, keepdims=True) - colour.min(axis=-1, keepdims=True)
    return spread


def _clip_colour(colour: Pixels) -> Pixels:
    light = _luminosity(colour)
    least = colour.min(axis=-1, keepdims=True)
    most = colour.max(axis=-1, keepdims=True)
    low = np.divide(light, light - least, out=np.ones_like(light), where=light > least)
    raised = np.where(least < 0, light + (colour - light) * low, colour)
    high = np.divide(1 - light, most - light, out=np.ones_like(light), where=most > light)
    return np.where(most > 1, light + (raised - light) * high, raised)


def _set_luminosity(colour: Pixels, light: Pixels) -> Pixels:
    return _clip_colour(colour + (light - _luminosity(colour)))


def _set_saturation(colour: Pixels, wanted: Pixels) -> Pixels:
    """SetSat: the smallest component becomes 0, the largest ``wanted``, the middle one in
    proportion."""
    spread = _saturation(colour)
    least = colour.min(axis=-1, keepdims=True)
    return np.divide((colour - least) * wanted, spread, out=np.zeros_like(colour), where=spread > 0)


def _hue(below: Pixels, above: Pixels) -> Pixels:
    return _set_luminosity(_set_saturation(above, _saturation(below)), _luminosity(below))


def _saturate(below: Pixels, above: Pixels) -> Pixels:
    return _set_luminosity(_set_saturation(below, _saturation(above)), _luminosity(below))


def _colour(below: Pixels, above: Pixels) -> Pixels:
    return _set_luminosity(above, _luminosity(below))


def _lighten_up(below: Pixels, above: Pixels) -> Pixels:
    return _set_luminosity(below, _luminosity(above))


OPERATORS: dict[str, Mix] = {
    "clear": _porter_duff(lambda _: 0.0, lambda _: 0.0),
    "src": _porter_duff(lambda _: 1.0, lambda _: 0.0),
    "dst": _porter_duff(lambda _: 0.0, lambda _: 1.0),
    "src-over": _porter_duff(lambda _: 1.0, lambda alpha: 1 - alpha),
    "dst-over": _porter_duff(lambda alpha: 1 - alpha, lambda _: 1.0),
    "src-in": _porter_duff(lambda alpha: alpha, lambda _: 0.0),
    "dst-in": _porter_duff(lambda _: 0.0, lambda alpha: alpha),
    "src-out": _porter_duff(lambda alpha: 1 - alpha, lambda _: 0.0),
    "dst-out": _porter_duff(lambda _: 0.0, lambda alpha: 1 - alpha),
    "src-atop": _porter_duff(lambda alpha: alpha, lambda alpha: 1 - alpha),
    "dst-atop": _porter_duff(lambda alpha: 1 - alpha, lambda alpha: alpha),
    "xor": _porter_duff(lambda alpha: 1 - alpha, lambda alpha: 1 - alpha),
    "plus": _plus,
    "multiply": _blending(lambda below, above: below * above),
    "screen": _blending(_screen),
    "overlay": _blending(lambda below, above: _hard_light(above, below)),
    "darken": _blending(np.minimum),
    "lighten": _blending(np.maximum),
    "color-dodge": _blending(_color_dodge),
    "color-burn": _blending(_color_burn),
    "hard-light": _blending(_hard_light),
    "soft-light": _blending(_soft_light),
    "difference": _blending(lambda below, above: np.abs(below - above)),
    "exclusion": _blending(lambda below, above: below + above - below * above * 2),
    "hue": _blending(_hue),
    "saturation": _blending(_saturate),
    "color": _blending(_colour),
    "luminosity": _blending(_lighten_up),
}
"""Composite operators by their OpenRaster name without ``svg:``; (backdrop, source) to result."""

REACHING = frozenset({"clear", "src", "src-in", "src-out", "dst-in", "dst-atop"})
"""Operators that change the backdrop also where the source is empty."""

EATING = REACHING | {"dst-out", "xor"}
"""Operators that can take visible pixels of the layers below away."""

"""Against W3C Compositing and Blending Level 1, written out again with NumPy."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from numpy.typing import NDArray

from gefa.core.geometry import Rect
from gefa.core.read.blend import OPERATORS, PlacedBitmap, compose
from tests.make import BLUE, RED

A = NDArray[np.float64]
SIDE = 48


def _hard_light(cb: A, cs: A) -> A:
    return np.where(cs <= 0.5, cb * 2 * cs, cb + (2 * cs - 1) - cb * (2 * cs - 1))


def _soft_light(cb: A, cs: A) -> A:
    d = np.where(cb <= 0.25, ((16 * cb - 12) * cb + 4) * cb, np.sqrt(cb))
    return np.where(cs <= 0.5, cb - (1 - 2 * cs) * cb * (1 - cb), cb + (2 * cs - 1) * (d - cb))


def _dodge(cb: A, cs: A) -> A:
    lit = np.minimum(1, np.divide(cb, 1 - cs, out=np.ones_like(cb), where=cs < 1))
    return np.where(cb == 0, 0.0, np.where(cs == 1, 1.0, lit))


def _burn(cb: A, cs: A) -> A:
    burnt = 1 - np.minimum(1, np.divide(1 - cb, cs, out=np.ones_like(cb), where=cs > 0))
    return np.where(cb == 1, 1.0, np.where(cs == 0, 0.0, burnt))


MIXES: dict[str, Callable[[A, A], A]] = {
    "src-over": lambda cb, cs: cs,
    "multiply": lambda cb, cs: cb * cs,
    "screen": lambda cb, cs: cb + cs - cb * cs,
    "overlay": lambda cb, cs: _hard_light(cs, cb),
    "darken": np.minimum,
    "lighten": np.maximum,
    "color-dodge": _dodge,
    "color-burn": _burn,
    "hard-light": _hard_light,
    "soft-light": _soft_light,
    "difference": lambda cb, cs: np.abs(cb - cs),
    "exclusion": lambda cb, cs: cb + cs - 2 * cb * cs,
}


def _lum(c: A) -> float:
    return float(0.3 * c[0] + 0.59 * c[1] + 0.11 * c[2])


def _clipped(c: A) -> A:
    light, least, most = _lum(c), c.min(), c.max()
    if least < 0:
        c = light + (c - light) * light / (light - least)
    if most > 1:
        c = light + (c - light) * (1 - light) / (most - light)
    return c


def _set_lum(c: A, light: float) -> A:
    return _clipped(c + (light - _lum(c)))


def _set_sat(c: A, wanted: float) -> A:
    """As the specification words it: sort the components, then set each."""
    made = np.zeros(3)
    low, middle, high = np.argsort(c, kind="stable")
    if c[high] > c[low]:
        made[middle] = (c[middle] - c[low]) * wanted / (c[high] - c[low])
        made[high] = wanted
    return made


def _sat(c: A) -> float:
    return float(c.max() - c.min())


WHOLE_COLOURS: dict[str, Callable[[A, A], A]] = {
    "hue": lambda cb, cs: _set_lum(_set_sat(cs, _sat(cb)), _lum(cb)),
    "saturation": lambda cb, cs: _set_lum(_set_sat(cb, _sat(cs)), _lum(cb)),
    "color": lambda cb, cs: _set_lum(cs, _lum(cb)),
    "luminosity": lambda cb, cs: _set_lum(cb, _lum(cs)),
}


def _pixel_by_pixel(mix: Callable[[A, A], A]) -> Callable[[A, A], A]:
    def mixed(cb: A, cs: A) -> A:
        pairs = zip(cb.reshape(-1, 3), cs.reshape(-1, 3), strict=True)
        return np.array([mix(below, above) for below, above in pairs]).reshape(cb.shape)

    return mixed


MIXES |= {name: _pixel_by_pixel(mix) for name, mix in WHOLE_COLOURS.items()}
SHARES: dict[str, Callable[[A, A], tuple[A, A]]] = {
    "clear": lambda ab, s: (0 * s, 0 * s),
    "src": lambda ab, s: (0 * s + 1, 0 * s),
    "dst": lambda ab, s: (0 * s, 0 * s + 1),
    "dst-over": lambda ab, s: (1 - ab, 0 * s + 1),
    "src-in": lambda ab, s: (ab, 0 * s),
    "src-out": lambda ab, s: (1 - ab, 0 * s),
    "xor": lambda ab, s: (1 - ab, 1 - s),
    "src-atop": lambda ab, s: (ab, 1 - s),
    "dst-in": lambda ab, s: (0 * s, s),
    "dst-out": lambda ab, s: (0 * s, 1 - s),
    "dst-atop": lambda ab, s: (1 - ab, s),
}


def expected(operator: str, backdrop: A, source: A) -> A:
    """Premultiplied colour and alpha, 0..1."""
    cb, ab = backdrop[..., :3], backdrop[..., 3:]
    cs, alpha = source[..., :3], source[..., 3:]
    if operator == "plus":
        return np.minimum(1, np.concatenate([alpha * cs + ab * cb, alpha + ab], axis=2))
    if operator in SHARES:
        fa, fb = SHARES[operator](ab, alpha)
        return np.concatenate([alpha * fa * cs + ab * fb * cb, alpha * fa + ab * fb], axis=2)
    mixed = (1 - ab) * cs + ab * MIXES[operator](cb, cs)
    colour = alpha * mixed + (1 - alpha) * ab * cb
    return np.concatenate([colour, alpha + ab * (1 - alpha)], axis=2)


def _random(seed: int) -> NDArray[np.uint8]:
    """Random colours, with the corner cases 0 and 255 among them."""
    rng = np.random.default_rng(seed)
    pixels = rng.integers(0, 256, (SIDE, SIDE, 4), dtype=np.uint8)
    edge = rng.random((SIDE, SIDE, 4)) < 0.15
    pixels[edge] = rng.choice(np.array([0, 255], np.uint8), int(edge.sum()))
    return pixels


def rows(width: int, height: int, colour: tuple[int, int, int]) -> NDArray[np.uint8]:
    return np.full((height, width, 4), (*colour, 255), np.uint8)


@pytest.mark.parametrize("operator", sorted(OPERATORS))
def test_an_operator_does_what_the_specification_says(operator: str) -> None:
    below, above = _random(1), _random(2)
    placed = [PlacedBitmap(below, 0, 0), PlacedBitmap(above, 0, 0, 1.0, operator)]
    made = compose(placed, Rect(0, 0, SIDE, SIDE)) / 255.0
    wanted = expected(operator, below / 255.0, above / 255.0)
    premultiplied = np.concatenate([made[..., :3] * made[..., 3:], made[..., 3:]], axis=2)
    assert np.abs(premultiplied - wanted).max() * 255 <= 1.0


def test_every_operator_has_a_formula_here() -> None:
    assert set(OPERATORS) == {*MIXES, *SHARES, "plus"}


@pytest.mark.parametrize("operator", sorted(OPERATORS))
def test_beyond_its_pixels_a_layer_counts_as_transparent(operator: str) -> None:
    below, empty = _random(1), np.zeros((SIDE, SIDE, 4), np.uint8)
    small = _random(2)[:20, :30]
    placed = [PlacedBitmap(below, 0, 0), PlacedBitmap(small, 7, 9, 1.0, operator)]
    made = compose(placed, Rect(0, 0, SIDE, SIDE))
    empty[9:29, 7:37] = small
    placed[1] = PlacedBitmap(empty, 0, 0, 1.0, operator)
    padded = compose(placed, Rect(0, 0, SIDE, SIDE))
    assert (made == padded).all()


def test_opacity_weakens_a_layer() -> None:
    placed = [PlacedBitmap(rows(4, 4, RED), 0, 0), PlacedBitmap(rows(4, 4, BLUE), 0, 0, 0.25)]
    colour = compose(placed, Rect(0, 0, 4, 4))[0, 0, :3]
    wanted = [r * 0.75 + b * 0.25 for r, b in zip(RED, BLUE, strict=True)]
    assert colour.tolist() == pytest.approx(wanted, abs=1)


def test_only_what_lies_in_the_region_is_composed() -> None:
    """Negative offsets and overhanging layers keep their place."""
    placed = [PlacedBitmap(rows(30, 30, RED), -10, -5), PlacedBitmap(rows(20, 20, BLUE), 25, 25)]
    made = compose(placed, Rect(-2, -1, 40, 40))
    assert made[0, 0, :3].tolist() == list(RED)
    assert made[25, 21, :3].tolist() == list(RED)
    assert made[26, 21, 3] == 0
    assert made[26, 27, :3].tolist() == list(BLUE)


def test_many_layers_are_composed_as_one_after_another() -> None:
    layers = [PlacedBitmap(_random(seed), seed % 5 - 2, seed % 3 - 1) for seed in range(30)]
    region = Rect(0, 0, SIDE, SIDE)
    whole = compose(layers, region).astype(int)
    first = PlacedBitmap(compose(layers[:15], region), 0, 0)
    halves = compose([first, *layers[15:]], region).astype(int)
    assert np.abs(whole - halves).max() <= 1

"""Kites, pennants and hills as SVG snippets, and pictures made from them."""

from __future__ import annotations

from math import cos, pi, sin

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import to_srgb, with_alpha

Pixels = NDArray[np.float32]

MADDER = "#b8412f"
SAFFRON = "#e0a030"
PINE = "#24584f"
TIDE = "#2f6f8f"
CHALK = "#f4ecdd"
DUSK = "#3a3350"
SAND = "#d9bf92"


def drawn(width: int, height: int, body: str, units: float = 1.0) -> pyvips.Image:
    """An SVG body at ``width`` × ``height`` px, ``units`` to the px, as sRGB with alpha."""
    svg = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}"'
        f' viewBox="0 0 {width * units} {height * units}">{body}</svg>'
    )
    return with_alpha(to_srgb(pyvips.Image.svgload_buffer(svg.encode()))).copy_memory()


def kite(x: float, y: float, size: float, turn: float, colours: tuple[str, str]) -> str:
    """A diamond kite with spars and a tail of bows; ``size`` is its half height in px."""
    one, two = colours
    bows = "".join(_bow(i, size, two if i % 2 else one) for i in range(1, 6))
    return (
        f'<g transform="translate({x} {y}) rotate({turn})">'
        f'<path d="M0 {size} q{size * 0.5} {size * 0.7} 0 {size * 1.5} t0 {size * 1.5}"'
        f' fill="none" stroke="{DUSK}" stroke-width="{size * 0.025}"/>{bows}'
        f'<path d="M0 {-size} L{size * 0.66} {-size * 0.2} L0 {size} Z" fill="{one}"/>'
        f'<path d="M0 {-size} L{-size * 0.66} {-size * 0.2} L0 {size} Z" fill="{two}"/>'
        f'<path d="M0 {-size} V{size} M{-size * 0.66} {-size * 0.2} H{size * 0.66}"'
        f' stroke="{CHALK}" stroke-width="{size * 0.03}" stroke-opacity=".8"/></g>'
    )


def _bow(index: int, size: float, colour: str) -> str:
    x = size * 0.25 * sin(index * pi / 2.2)
    y = size * (1.0 + index * 0.55)
    r = size * 0.14
    return (
        f'<path d="M{x} {y} l{-r} {-r * 0.6} v{r * 1.2} z M{x} {y} l{r} {-r * 0.6}'
        f' v{r * 1.2} z" fill="{colour}"/>'
    )


def star(x: float, y: float, outer: float, inner: float, points: int) -> str:
    """The ``d`` of a star path."""
    corners = []
    for i in range(points * 2):
        radius = outer if i % 2 == 0 else inner
        angle = pi * i / points - pi / 2
        corners.append(f"{x + radius * cos(angle):.2f} {y + radius * sin(angle):.2f}")
    return "M" + " L".join(corners) + " Z"


def ridge(width: int, height: int, base: float, swing: float, seed: int) -> str:
    """The ``d`` of a rolling dune line filled to the bottom."""
    rng = np.random.default_rng(seed)
    phases = rng.uniform(0, 2 * pi, 4)
    steps = 80
    points = []
    for i in range(steps + 1):
        t = i / steps
        wave = sum(sin(2 * pi * t * (k + 1) * 0.7 + phases[k]) / (k + 1.5) for k in range(4))
        points.append(f"{t * width:.1f} {base + swing * wave:.1f}")
    return f"M{' L'.join(points)} L{width} {height} L0 {height} Z"


def noise(height: int, width: int, cell: float, octaves: int, seed: int) -> Pixels:
    """Smooth noise, -1..1, its coarsest blobs ``cell`` px across. Made at half size: it is soft."""
    rng = np.random.default_rng(seed)
    small_height, small_width = height // 2 + 1, width // 2 + 1
    total = np.zeros((small_height, small_width), np.float32)
    weight, size = 1.0, cell / 2
    for _ in range(octaves):
        rows, columns = int(small_height / size) + 4, int(small_width / size) + 4
        grid = rng.uniform(-1, 1, (rows, columns)).astype(np.float32)
        large = enlarged(grid, size, "cubic")
        total += np.float32(weight) * large[:small_height, :small_width]
        weight *= 0.5
        size = max(2.0, size / 2)
    return enlarged((total / 2).astype(np.float32), 2.0, "linear")[:height, :width]


def enlarged(grid: Pixels, times: float, kernel: str) -> Pixels:
    """The picture ``times`` as large, its bands kept."""
    image = pyvips.Image.new_from_array(grid).resize(times, kernel=kernel)
    return image.numpy().reshape(image.height, image.width, *grid.shape[2:])

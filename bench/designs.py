"""Large designs to measure on: drawn the same each time."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pyvips

WIDTH, HEIGHT = 2400, 1600
"""px of the canvas"""


def layered(path: Path, layers: int, changed: int | None = None, largest: int = 420) -> Path:
    """An OpenRaster design of ``layers`` soft-edged layers in groups of 20, all visible; every
    third has a grain, as photographs and textures have.

    ``changed`` is the number of a layer that is painted in another colour; ``largest`` is the
    longest side of a layer, in px.
    """
    rng = np.random.default_rng(7)
    groups: list[list[str]] = []
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("mimetype", "image/openraster")
        for number in range(layers):
            width, height = (int(side) for side in rng.integers(80, largest, 2))
            x = int(rng.integers(0, WIDTH - width))
            y = int(rng.integers(0, HEIGHT - height))
            hue = rng.random(3)
            shade = 1 - hue if number == changed else hue
            image = _blob(width, height, shade, rng, grain=number % 3 == 0)
            source = f"data/{number}.png"
            archive.writestr(source, image.pngsave_buffer(compression=3))
            if number % 20 == 0:
                groups.append([])
            groups[-1].append(
                f'<layer name="Piece {number}" src="{source}" x="{x}" y="{y}" opacity="0.9"/>'
            )
        stacks = "".join(
            f'<stack name="Group {index}">{"".join(group)}</stack>'
            for index, group in enumerate(groups)
        )
        archive.writestr(
            "stack.xml", f'<image w="{WIDTH}" h="{HEIGHT}"><stack>{stacks}</stack></image>'
        )
    return path


def _blob(
    width: int, height: int, hue: np.ndarray, rng: np.random.Generator, *, grain: bool
) -> pyvips.Image:
    y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
    distance = np.sqrt(x * x + y * y)
    alpha = np.clip((1 - distance) * 4, 0, 1)
    shade = 120 + 100 * np.cos(3 * distance[..., None] + 6 * hue)
    noise = rng.normal(0, 4, (height, width, 1)) if grain else 0
    pixels = np.dstack([shade + noise, alpha * 255])
    return pyvips.Image.new_from_array(pixels.clip(0, 255).astype(np.uint8), interpretation="srgb")


def drawn(path: Path, parts: int) -> Path:
    """An SVG design of ``parts`` named groups with gradients and shadows."""
    rng = np.random.default_rng(8)
    pieces = []
    for number in range(parts):
        x, y = rng.integers(0, WIDTH - 200), rng.integers(0, HEIGHT - 200)
        hue = int(rng.integers(0, 360))
        effect = ' filter="url(#soft)"' if number % 10 == 0 else ""
        pieces.append(
            f'<g id="piece-{number}" transform="translate({x} {y}) rotate({hue % 40})"{effect}>'
            f'<rect width="150" height="110" rx="12" fill="hsl({hue},60%,50%)"/>'
            f'<path d="M10 90 C 40 10 110 10 140 90 Z" fill="url(#light)"/>'
            f'<circle cx="75" cy="40" r="{20 + number % 12}" fill="hsl({hue},70%,80%)"/></g>'
        )
    path.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}">'
        '<defs><linearGradient id="light"><stop stop-color="#fff"/>'
        '<stop offset="1" stop-color="#fff" stop-opacity="0.1"/></linearGradient>'
        '<filter id="soft"><feDropShadow dx="4" dy="6" stdDeviation="5"/></filter></defs>'
        f"{''.join(pieces)}</svg>",
        "utf-8",
    )
    return path

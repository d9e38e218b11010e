"""Pictures of kites, dunes and sea that pass for photographs: gradients, texture, grain.

A scene is painted at half size, in units of the full size, then enlarged, which gives it the
softness of a lens; the grain of the sensor comes on top at full size.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyvips

from gefa_demo.shapes import (
    MADDER,
    PINE,
    SAFFRON,
    TIDE,
    Pixels,
    drawn,
    enlarged,
    kite,
    noise,
    ridge,
)

WIDTH, HEIGHT = 2560, 1708
WIDE, LOW = 5120, 1440
"""px of the panorama"""
QUALITY = 92
GRAIN_TILE = 640
"""px; the grain repeats, which nobody sees"""


@dataclass(frozen=True)
class Scene:
    """A file name and the function that draws its pixels, at ``width`` px or the panorama's;
    ``sideways`` is stored rotated, as on phones."""

    file: str
    alt: str
    draw: Callable[[int], Pixels]
    sideways: bool = False
    width: int = WIDTH


def _colour(text: str) -> Pixels:
    return np.array([int(text[i : i + 2], 16) for i in (1, 3, 5)], dtype=np.float32)


def sky(
    top: str, bottom: str, cloud: float, seed: int, size: tuple[int, int] = (WIDTH, HEIGHT)
) -> Pixels:
    """A gradient between two colours, with clouds."""
    width, height = size[0] // 2, size[1] // 2
    down = np.linspace(0, 1, height, dtype=np.float32)[:, None, None]
    sky = _colour(top) + (_colour(bottom) - _colour(top)) * down**0.9
    sky = np.broadcast_to(sky, (height, width, 3)).copy()
    puffs = np.clip(noise(height, width, 310, 6, seed) * 1.6 + cloud, 0, 1)[..., None]
    return sky + (np.array([250, 247, 242], np.float32) - sky) * puffs * 0.8


def lay(pixels: Pixels, body: str, soften: float = 1.2) -> Pixels:
    """An SVG body over the picture, slightly out of focus."""
    height, width = pixels.shape[:2]
    image = drawn(width, height, body, units=2)
    image = image.premultiply().gaussblur(soften / 2).unpremultiply()
    above = image.numpy().astype(np.float32)
    alpha = above[..., 3:] / 255
    return pixels * (1 - alpha) + above[..., :3] * alpha


def sea(pixels: Pixels, horizon: int, colour: str, seed: int) -> Pixels:
    """Waves that grow towards the viewer, below the line ``horizon``."""
    height, width = pixels.shape[:2]
    depth = height - horizon // 2
    near = np.linspace(0, 1, depth, dtype=np.float32)[:, None]
    rows = (near**0.45 * 450).astype(int)
    ripples = noise(480, width, 30, 4, seed)[rows[:, 0]]
    swell = noise(depth, width, 150, 3, seed + 1)
    light = (ripples * (0.15 + near * 0.5) + swell * 0.18)[..., None]
    base = _colour(colour)
    water = base * (0.78 + 0.3 * (1 - near[..., None])) + light * 62
    glint = np.clip(ripples - 0.42, 0, 1)[..., None] * 300 * (1 - near[..., None] * 0.5)
    pixels[height - depth :] = water + glint
    return pixels


def sand(pixels: Pixels, path: str, light: str, dark: str, seed: int) -> Pixels:
    """A dune surface with wind ripples inside an outline."""
    height, width = pixels.shape[:2]
    shape = drawn(width, height, f'<path d="{path}"/>', units=2)
    mask = shape.gaussblur(0.7).numpy()[..., 3:] / np.float32(255)
    y = np.arange(height, dtype=np.float32)[:, None] / np.float32(4.5)
    x = np.arange(width, dtype=np.float32)[None, :] / 35
    bend = noise(height, width, 180, 3, seed) * 9
    ripple = np.sin(y + bend + x) * 0.5 + 0.5
    shade = noise(height, width, 250, 5, seed + 1) * 0.5 + 0.5
    amount = np.clip(shade * 0.75 + ripple * 0.18, 0, 1)[..., None]
    sand = _colour(dark) + (_colour(light) - _colour(dark)) * amount
    grains = np.random.default_rng(seed).standard_normal(mask.shape, np.float32)
    return pixels * (1 - mask) + (sand + 9 * grains) * mask


def _finished(pixels: Pixels, width: int, seed: int, grain: float = 4.5) -> Pixels:
    """``width`` px wide, with darker corners and sensor grain: stronger in the shadows, a little
    coloured."""
    full = enlarged(pixels.astype(np.float32), width / pixels.shape[1], "cubic")
    height, width = full.shape[:2]
    y = np.linspace(-1, 1, height, dtype=np.float32)[:, None]
    x = np.linspace(-1, 1, width, dtype=np.float32)[None, :]
    corner = 1 - 0.16 * np.clip(x**2 + y**2 - 0.35, 0, None)[..., None]
    shadow = np.float32(1.25) - full / 400
    return np.clip(full * corner + _grain(seed, width, height) * grain * shadow, 0, 255)


def _grain(seed: int, width: int, height: int) -> Pixels:
    rng = np.random.default_rng(seed)
    luma = rng.standard_normal((GRAIN_TILE, GRAIN_TILE, 1), dtype=np.float32)
    chroma = rng.standard_normal((GRAIN_TILE, GRAIN_TILE, 3), dtype=np.float32)
    tile = luma + chroma * np.float32(0.35)
    times = (height // GRAIN_TILE + 1, width // GRAIN_TILE + 1, 1)
    return np.tile(tile, times)[:height, :width]


def _kites_at_noon(seed: int) -> Pixels:
    pixels = sky("#3f7fb0", "#cfe1e6", 0.05, seed)
    pixels = lay(pixels, kite(1780, 560, 250, 20, (MADDER, SAFFRON)), 1.0)
    distant = kite(620, 420, 90, -18, (PINE, SAFFRON)) + kite(980, 900, 60, 8, (TIDE, MADDER))
    pixels = lay(pixels, distant, 2.2)
    return sand(pixels, ridge(WIDTH, HEIGHT, 1520, 60, 4), "#ecd6a8", "#b08e5c", seed)


def _long_dune(seed: int) -> Pixels:
    pixels = sky("#7fa6c0", "#f0e4cf", -0.1, seed)
    pixels = sand(pixels, ridge(WIDTH, HEIGHT, 900, 120, 12), "#e7cd9b", "#a07c4e", seed)
    pixels = sand(pixels, ridge(WIDTH, HEIGHT, 1220, 190, 21), "#f3deb0", "#8f6b40", seed + 5)
    return lay(pixels, kite(560, 470, 80, 14, (MADDER, "#f4ecdd")), 2.0)


def _open_sea(seed: int) -> Pixels:
    pixels = sky("#5c90b5", "#dfe7e4", 0.18, seed)
    pixels = sea(pixels, 830, "#2f6a82", seed + 3)
    return lay(pixels, kite(1500, 430, 120, -24, (SAFFRON, TIDE)), 1.6)


def _dusk(seed: int) -> Pixels:
    pixels = sky("#2a3358", "#f0a062", -0.16, seed)
    pixels = sea(pixels, 1120, "#4a4a66", seed + 2)
    dark = "#191726"
    silhouettes = kite(820, 520, 150, 16, (dark, dark)) + kite(1900, 700, 95, -10, (dark, dark))
    pixels = lay(pixels, silhouettes, 1.5)
    return lay(pixels, f'<path d="{ridge(WIDTH, HEIGHT, 1560, 50, 8)}" fill="{dark}"/>', 1.5)


def _close_cloth(seed: int) -> Pixels:
    pixels = sky("#6e9fc2", "#d6e4ea", 0.1, seed)
    pixels = lay(pixels, kite(1180, 900, 720, 31, (MADDER, SAFFRON)), 0.8)
    height, width = pixels.shape[:2]
    folds = noise(height, width, 210, 3, seed + 9)
    weave = _threads(width)[None, :] * _threads(height)[:, None]
    return pixels * (1 + 0.03 * weave[..., None] + 0.1 * folds[..., None])


def _threads(count: int) -> Pixels:
    return np.sin(np.arange(count, dtype=np.float32) / np.float32(1.7))


def _bunting(seed: int) -> Pixels:
    pixels = sky("#8fb2c4", "#f2eadb", 0.0, seed)
    pixels = sea(pixels, 1240, "#3d7a86", seed + 1)
    colours = (MADDER, SAFFRON, TIDE, PINE)
    flags = "".join(
        f'<path d="M{60 + i * 210} {300 + (i - 6) ** 2 * 7} h150 l-75 210 z"'
        f' fill="{colours[i % 4]}"/>'
        for i in range(12)
    )
    pixels = lay(pixels, flags, 1.4)
    return sand(pixels, ridge(WIDTH, HEIGHT, 1480, 45, 31), "#e9d3a6", "#a88355", seed)


def _shoreline(seed: int) -> Pixels:
    pixels = sky("#5f93b4", "#efe6d2", 0.04, seed, (WIDE, LOW))
    pixels = sea(pixels, 690, "#33707f", seed + 1)
    pier = "".join(
        f'<rect x="{3180 + i * 64}" y="{706 - i * 3}" width="9" height="{70 + i * 6}"/>'
        for i in range(14)
    )
    deck = '<path d="M3160 712 L4090 660 L4090 676 L3160 724 Z"/>'
    pixels = lay(pixels, f'<g fill="#3a2f26">{pier}{deck}</g>', 1.2)
    far = "".join(
        kite(x, y, size, turn, (colour, "#f4ecdd"))
        for x, y, size, turn, colour in (
            (420, 300, 60, 12, MADDER),
            (900, 420, 44, -20, TIDE),
            (1480, 240, 90, 18, SAFFRON),
            (2140, 380, 52, -8, PINE),
            (2760, 210, 74, 22, MADDER),
            (4460, 300, 110, -16, TIDE),
        )
    )
    pixels = lay(pixels, far, 1.6)
    return sand(pixels, ridge(WIDE, LOW, 1130, 70, 6), "#ecd8ad", "#a5845a", seed + 2)


SCENES = (
    Scene("kites-at-noon.jpg", "A red and yellow kite over the dunes at noon", _kites_at_noon),
    Scene("long-dune.jpg", "Wind ripples on a long dune", _long_dune),
    Scene("open-sea.jpg", "A kite above the open sea", _open_sea),
    Scene("dusk.jpg", "Two kites against the evening sky", _dusk),
    Scene("close-cloth.jpg", "The cloth of a kite from close by", _close_cloth, sideways=True),
    Scene("bunting.jpg", "Bunting above the beach", _bunting),
)


PANORAMA = Scene("shoreline.jpg", "The shore of Quillmere from end to end", _shoreline, width=WIDE)


def draw_photograph(index: int, folder: Path) -> Path:
    """Write the scene numbered ``index`` as a JPEG; returns its path."""
    return draw_scene(SCENES[index], 40 + index, folder)


def draw_panorama(folder: Path) -> Path:
    """Write the wide picture for slicing; returns its path."""
    return draw_scene(PANORAMA, 60, folder)


def draw_scene(scene: Scene, seed: int, folder: Path) -> Path:
    """Write a scene as a JPEG; returns its path."""
    pixels = _finished(scene.draw(seed), scene.width, seed + 30)
    image = pyvips.Image.new_from_array(pixels.astype(np.uint8)).copy(interpretation="srgb")
    if scene.sideways:
        image = image.rot270().copy()
        image.set_type(pyvips.GValue.gint_type, "orientation", 6)
    target = folder / scene.file
    image.jpegsave(str(target), Q=QUALITY)
    return target

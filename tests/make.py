"""Small sources for tests, made from arrays."""

from __future__ import annotations

import io
import random
import zipfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np
import pillow_heif
import pyvips
from PIL import Image

pillow_heif.register_heif_opener()

RED, GREEN, BLUE = (200, 30, 20), (20, 160, 60), (30, 60, 200)


def flat(width: int, height: int, colour: tuple[int, ...] = RED) -> pyvips.Image:
    """One colour, 3 or 4 bands; one pixel is a level off, so that it is no case for CSS."""
    pixels = np.zeros((height, width, len(colour)), np.uint8)
    pixels[:] = colour
    pixels[-1, -1, 0] ^= 1
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def dot(
    width: int, height: int, box: tuple[int, int, int, int], colour: tuple[int, ...] = RED
) -> Any:
    """Transparent, with an opaque box (x, y, width, height) in it."""
    pixels = np.zeros((height, width, 4), np.uint8)
    x, y, w, h = box
    pixels[y : y + h, x : x + w] = (*colour[:3], 255)
    pixels[y + h - 1, x + w - 1, 0] ^= 1
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def photo(width: int, height: int, seed: int = 0) -> pyvips.Image:
    """Gradients and grain."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:height, 0:width]
    pixels = np.dstack([x * 255 / width, y * 255 / height, 128 + 90 * np.sin((x + y) / 37)])
    pixels = pixels + rng.normal(0, 5, (height, width, 1))
    return pyvips.Image.new_from_array(pixels.clip(0, 255).astype(np.uint8), interpretation="srgb")


def with_tag(image: pyvips.Image, name: str, value: int) -> pyvips.Image:
    """A copy with an integer metadata field."""
    copy = image.copy()
    copy.set_type(pyvips.GValue.gint_type, name, value)
    return copy


@dataclass
class L:
    """A layer of an OpenRaster file; topmost first in its group."""

    name: str
    image: pyvips.Image
    x: int = 0
    y: int = 0
    attributes: dict[str, str] = field(default_factory=dict)


@dataclass
class G:
    """A group."""

    name: str
    items: list[Any]
    attributes: dict[str, str] = field(default_factory=dict)


def ora(path: Path, width: int, height: int, items: list[Any]) -> Path:
    """Write an OpenRaster file."""
    bitmaps: dict[str, bytes] = {}

    def write(item: Any) -> str:
        extra = " ".join(f"{key}={quoteattr(value)}" for key, value in item.attributes.items())
        if isinstance(item, G):
            inner = "".join(write(child) for child in item.items)
            return f"<stack name={quoteattr(item.name)} {extra}>{inner}</stack>"
        source = f"data/{len(bitmaps)}.png"
        bitmaps[source] = item.image.pngsave_buffer(compression=1)
        return (
            f'<layer name={quoteattr(item.name)} src="{source}" x="{item.x}" y="{item.y}" {extra}/>'
        )

    xml = f'<image w="{width}" h="{height}"><stack>{"".join(map(write, items))}</stack></image>'
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "image/openraster")
        archive.writestr("stack.xml", xml)
        for name, data in bitmaps.items():
            archive.writestr(name, data)
    return path


def svg(path: Path, body: str, width: int = 400, height: int = 300, more: str = "") -> Path:
    """Write an SVG file."""
    path.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}"'
        f' viewBox="0 0 {width} {height}" {more}>{body}</svg>',
        "utf-8",
    )
    return path


def loaded(data: bytes) -> pyvips.Image:
    """A file's bytes as a picture."""
    return pyvips.Image.new_from_buffer(data, "")


def largest_difference(a: pyvips.Image, b: pyvips.Image) -> float:
    """In levels of 255."""
    assert (a.width, a.height, a.bands) == (b.width, b.height, b.bands)
    return float((a.cast("float") - b.cast("float")).abs().max())


def standard_profile(name: str) -> bytes:
    """One of those that libvips brings: ``srgb``, ``p3`` or ``cmyk``."""
    found = pyvips.Image.profile_load(name)
    return bytes(found if isinstance(found, bytes) else found.get())


def broken_profiles() -> list[bytes]:
    """None of them can be used for an RGB picture."""
    rng, good = random.Random(4), standard_profile("srgb")
    return [
        b"x", rng.randbytes(200), b"\0" * 60_000, rng.randbytes(300_000), good[:200],
        good[:128] + rng.randbytes(len(good) - 128), standard_profile("cmyk"),
    ]  # fmt: skip


def with_profile(image: pyvips.Image, kind: str, profile: bytes) -> bytes:
    """A file with any bytes as its profile: libvips would leave out what is none."""
    out = io.BytesIO()
    Image.fromarray(image.numpy()).save(out, kind, icc_profile=profile)
    return out.getvalue()

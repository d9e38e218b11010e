"""A small sound file of every kind that Gefa reads, and what has to come out of each."""

from __future__ import annotations

import gzip
import io
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
import pillow_heif
import pyvips
from numpy.typing import NDArray
from PIL import Image

from tests.make import L, ora

WIDTH, HEIGHT = 120, 80
LEFT, RIGHT = (200, 60, 40), (40, 90, 190)
"""colours of the two halves: as sRGB, well inside what CMYK can print"""
DELAYS = (40, 120, 200)
"""ms of the frames of what moves"""


@dataclass(frozen=True)
class Kind:
    """A file called ``name``. ``cuts`` are the pictures that it has, ``frames`` those of each.
    ``rough`` colours are only near: print and grey. What is ``css`` makes no file."""

    name: str
    cuts: int = 1
    frames: int = 1
    rough: int = 12
    css: bool = False
    grey: bool = False
    drawn: bool = False
    flat: bool = True


KINDS = (
    Kind("plain.png"),
    Kind("grey.png", grey=True),
    Kind("deep.png"),
    Kind("moves.png", frames=3),
    Kind("plain.jpg"),
    Kind("steps.jpg"),
    Kind("print.jpg", rough=80),
    Kind("print-with.jpg", rough=60),
    Kind("plain.webp"),
    Kind("moves.webp", frames=3, rough=24),
    Kind("plain.avif"),
    Kind("moves.avif", frames=3, rough=24),
    Kind("plain.gif"),
    Kind("moves.gif", frames=3, rough=16),
    Kind("phone.heic"),
    Kind("none.tif"),
    Kind("lzw.tif"),
    Kind("deflate.tif"),
    Kind("packbits.tif"),
    Kind("jpeg.tif"),
    Kind("pages.tif", cuts=2, flat=False),
    Kind("design.ora", flat=False),
    Kind("named.svg", drawn=True, flat=False),
    Kind("panel.svg", css=True, flat=False),
    Kind("icon.svg", drawn=True, flat=False),
    Kind("packed.svgz", drawn=True, flat=False),
)
BY_NAME = {kind.name: kind for kind in KINDS}


def halves() -> NDArray[np.uint8]:
    """The picture of every file: its left half in one colour, the right one in another, with some
    grain, so that it is no flat art."""
    grain = np.random.default_rng(5).integers(-6, 7, (HEIGHT, WIDTH, 1))
    picture = np.zeros((HEIGHT, WIDTH, 3), int)
    picture[:, : WIDTH // 2], picture[:, WIDTH // 2 :] = LEFT, RIGHT
    return np.clip(picture + grain, 0, 255).astype(np.uint8)


def _vips(rgb: NDArray[np.uint8] | None = None) -> pyvips.Image:
    image = pyvips.Image.new_from_array(halves() if rgb is None else rgb)
    return image.copy(interpretation="srgb")


def _moving(format: str) -> bytes:
    """Three frames; those after the first have one stripe more each."""
    frames = []
    for number in range(3):
        rgb = halves()
        rgb[60 : 60 + 6 * number, 10:110] = 250
        frames.append(Image.fromarray(rgb))
    more = {"quality": 90} if format in ("webp", "avif") else {}
    target = io.BytesIO()
    first, *rest = frames
    first.save(
        target, format, save_all=True, append_images=rest, duration=list(DELAYS), loop=0, **more
    )
    return target.getvalue()


def _heic() -> bytes:
    target = io.BytesIO()
    pillow_heif.from_pillow(Image.fromarray(halves())).save(target, quality=90, format="HEIF")
    return target.getvalue()


def _pages() -> bytes:
    target = io.BytesIO()
    page = Image.fromarray(halves())
    page.save(
        target, "tiff", save_all=True, append_images=[page.transpose(Image.Transpose.ROTATE_180)]
    )
    return target.getvalue()


def _cmyk(*, profile: bool) -> bytes:
    if not profile:
        target = io.BytesIO()
        Image.fromarray(halves()).convert("CMYK").save(target, "jpeg", quality=92)
        return target.getvalue()
    return bytes(_vips().icc_export(output_profile="cmyk").jpegsave_buffer(Q=92))


def _rect(x: int, colour: tuple[int, int, int], id: str = "") -> str:
    named = f' id="{id}"' if id else ""
    return f'<path{named} d="M{x} 0h60v80h-60z" fill="rgb{colour}"/>'


def _svg(body: str) -> bytes:
    head = f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}">'
    return f"{head}{body}</svg>".encode()


_BOTH = _rect(0, LEFT) + _rect(60, RIGHT)
_MAKERS: dict[str, Callable[[], bytes]] = {
    "plain.png": lambda: _vips().pngsave_buffer(),
    "grey.png": lambda: _vips().colourspace("b-w").pngsave_buffer(),
    "deep.png": lambda: _vips().colourspace("rgb16").pngsave_buffer(bitdepth=16),
    "moves.png": lambda: _moving("png"),
    "plain.jpg": lambda: _vips().jpegsave_buffer(Q=92),
    "steps.jpg": lambda: _vips().jpegsave_buffer(Q=92, interlace=True),
    "print.jpg": lambda: _cmyk(profile=False),
    "print-with.jpg": lambda: _cmyk(profile=True),
    "plain.webp": lambda: _vips().webpsave_buffer(Q=92),
    "moves.webp": lambda: _moving("webp"),
    "plain.avif": lambda: _vips().heifsave_buffer(compression="av1", Q=85),
    "moves.avif": lambda: _moving("avif"),
    "plain.gif": lambda: _vips().gifsave_buffer(),
    "moves.gif": lambda: _moving("gif"),
    "phone.heic": _heic,
    "pages.tif": _pages,
    "named.svg": lambda: _svg(f'<g id="Sail #icon">{_BOTH}<circle cx="9" cy="9" r="4"/></g>'),
    "panel.svg": lambda: _svg(f'<g id="panel #figure"><rect width="{WIDTH}" height="{HEIGHT}" fill="rgb{LEFT}"/></g>'),
    "icon.svg": lambda: _svg(f'<g id="kite #icon">{_BOTH}<path d="M3 3l20 9-9 20z"/></g>'),
    "packed.svgz": lambda: gzip.compress(_svg(f'<g id="kite #icon">{_BOTH}<path d="M3 3l9 9-9 9z"/></g>')),
}  # fmt: skip


def _tiff(name: str) -> bytes:
    compression = name.partition(".")[0]
    return bytes(_vips().tiffsave_buffer(compression=compression, Q=92))


@cache
def content(name: str) -> bytes:
    """The bytes of the file of that name."""
    if name == "design.ora":
        folder = Path(__file__).with_name("__pycache__")
        folder.mkdir(exist_ok=True)
        path = ora(folder / "kinds-design.ora", WIDTH, HEIGHT, [L("Sail #figure", _vips(), 0, 0)])
        return path.read_bytes()
    return bytes(_MAKERS[name]() if name in _MAKERS else _tiff(name))


def zipped(names: list[str]) -> bytes:
    """A zip of files, each in a folder."""
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        for name in names:
            archive.writestr(f"inside/{name}", content(name))
    return target.getvalue()


def check_picture(kind: Kind, data: bytes, width: int) -> None:
    """That a file made of ``kind`` shows what it has to: size, frames, delays, a pixel of each
    half."""
    image = pyvips.Image.new_from_buffer(data, "")
    pages = image.get("n-pages") if image.get_typeof("n-pages") else 1
    if kind.frames > 1 and image.get("vips-loader").startswith("webp"):
        assert pages == kind.frames, f"{kind.name}: {pages} frames"
        assert tuple(pyvips.Image.webpload_buffer(data, n=-1).get("delay")) == DELAYS, kind.name
    height = round(width * HEIGHT / WIDTH)
    assert (image.width, image.height) == (width, height), f"{kind.name}: {image.width} px wide"
    rgb = image.colourspace("srgb")
    for at, wanted in ((0.25, LEFT), (0.75, RIGHT)):
        patch = rgb.crop(round(at * width) - 2, height // 3, 4, 4)
        seen = [patch.extract_band(band).avg() for band in range(min(3, patch.bands))]
        if kind.grey:
            light = 0.2126 * wanted[0] + 0.7152 * wanted[1] + 0.0722 * wanted[2]
            assert max(seen) - min(seen) < 4, f"{kind.name} is not grey: {seen}"
            assert abs(seen[0] - light) < 40, f"{kind.name}: {seen}"
        else:
            worst = max(abs(a - b) for a, b in zip(seen, wanted, strict=True))
            assert worst <= kind.rough, f"{kind.name}: {seen} instead of {wanted}"

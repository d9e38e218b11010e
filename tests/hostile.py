"""Files that want too much: of time, of memory, or of somebody's trust."""

from __future__ import annotations

import base64
import struct
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from io import BytesIO

import pyvips
from PIL import Image

SVG = (
    '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" {}>{}</svg>'
)


@dataclass(frozen=True)
class Hostile:
    """A file that is made when somebody asks for it."""

    name: str
    make: Callable[[], bytes]


def _chunk(name: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))


def png_of(width: int, height: int, *, depth: int = 1, interlaced: bool = False) -> bytes:
    """A black PNG of that size in a few kB."""
    line = b"\0" * (1 + (width * depth + 7) // 8)
    packer = zlib.compressobj(9)
    data = [packer.compress(line * 64) for _ in range((height + 63) // 64 + 2)]
    head = struct.pack(">IIBBBBB", width, height, depth, 0, 0, 0, int(interlaced))
    packed = b"".join(data) + packer.flush()
    return (
        b"\x89PNG\r\n\x1a\n"
        + _chunk(b"IHDR", head)
        + _chunk(b"IDAT", packed)
        + _chunk(b"IEND", b"")
    )


def svg(inner: str, attributes: str = 'width="200" height="200"') -> bytes:
    return SVG.format(attributes, inner).encode()


def _embedded(how: str) -> bytes:
    picture = base64.b64encode(png_of(30_000, 30_000)).decode()
    if how == "twice":
        image = (
            f'<image xlink:href="#x" href="data:image/png;base64,{picture}" width="9" height="9"/>'
        )
    elif how == "inside":
        inner = svg(f'<image href="data:image/png;base64,{picture}" width="9" height="9"/>')
        packed = base64.b64encode(inner).decode()
        image = f'<image href="data:image/svg+xml;base64,{packed}" width="9" height="9"/>'
    elif how == "capitals":
        image = f'<image href="DATA:image/png;BASE64,{picture}" width="9" height="9"/>'
    elif how == "charset":
        image = f'<image href="data:image/png;charset=x;BASE64,{picture}" width="9" height="9"/>'
    else:
        image = f'<image href="data:image/png;base64,{picture}" width="9" height="9"/>'
    return svg(image)


def _frames(format: str, side: int, count: int) -> bytes:
    frames = [Image.new("L", (side, side), (at * 37) % 256) for at in range(2)] * (count // 2)
    target = BytesIO()
    if format == "GIF":
        frames = [frame.convert("P") for frame in frames]
    frames[0].save(
        target, format, save_all=True, append_images=frames[1:], duration=20, loop=0,
        **({"disposal": 1} if format == "GIF" else {"lossless": True, "quality": 0, "method": 0}),
    )  # fmt: skip
    return target.getvalue()


def _avif(side: int) -> bytes:
    return bytes(pyvips.Image.black(side, side, bands=3).heifsave_buffer(
        compression="av1", effort=0, Q=1))  # fmt: skip


def _tiff_pages(count: int) -> bytes:
    """So many pages of one pixel."""
    out = bytearray(b"II*\0" + struct.pack("<I", 8))
    for at in range(count):
        entries = [(256, 4, 1, 1), (257, 4, 1, 1), (258, 3, 1, 8), (259, 3, 1, 1), (262, 3, 1, 1),
                   (273, 4, 1, 4), (277, 3, 1, 1), (278, 4, 1, 1), (279, 4, 1, 1)]  # fmt: skip
        size = 2 + 12 * len(entries) + 4
        following = len(out) + size if at + 1 < count else 0
        out += struct.pack("<H", len(entries))
        for entry in entries:
            out += struct.pack("<HHII", *entry)
        out += struct.pack("<I", following)
    return bytes(out)


def _turned(count: int) -> bytes:
    turns = "translate(1) " * count
    return svg(f'<rect width="9" height="9" transform="{turns}rotate(3)!"/>')


def _filters(primitive: str, count: int) -> bytes:
    return svg(
        f'<filter id="f">{primitive * count}</filter>'
        '<g id="a" filter="url(#f)"><rect width="200" height="200"/></g>'
    )


HOSTILE = [
    Hostile("turns.svg", lambda: _turned(40)),
    Hostile("digits.svg", lambda: svg(f'<rect width="{"1" * 40_000}!" height="9"/>')),
    Hostile("font.svg", lambda: svg(f'<text font="{"1" * 90_000}">a</text>')),
    Hostile("style.svg", lambda: svg(f'<rect style="{";" * 2_000_000}" width="9" height="9"/>')),
    Hostile("blur.svg", lambda: _filters('<feGaussianBlur stdDeviation="3000"/>', 1)),
    Hostile("blurs.svg", lambda: _filters('<feGaussianBlur stdDeviation="3"/>', 300)),
    Hostile("noise.svg", lambda: _filters('<feTurbulence baseFrequency="1" numOctaves="9"/>', 500)),
    Hostile("spread.svg", lambda: _filters('<feMorphology operator="dilate" radius="2000"/>', 1)),
    Hostile("rects.svg", lambda: svg("".join(
        f'<rect id="r{at}" x="{at % 200}" width="3" height="3"/>' for at in range(3000)))),
    Hostile("chain.svg", lambda: svg("<defs>" + "".join(
        f'<linearGradient id="g{at}" href="#g{at + 1}"/>' for at in range(3000))
        + '</defs><rect id="r" fill="url(#g0)" width="9" height="9"/>')),
    Hostile("text.svg", lambda: svg(f'<text id="t" y="20">{"word " * 400_000}</text>')),
    Hostile("markers.svg", lambda: svg(
        '<marker id="m"><rect width="9" height="9"/></marker>'
        f'<path id="p" marker-mid="url(#m)" d="M0 0{" L9 9 L0 0" * 100_000}"/>')),
    Hostile("path.svg", lambda: svg(f'<path id="p" d="M0 0{" L9 9 L0 0" * 2_400_000}"/>')),
    *(Hostile(f"embedded-{how}.svg", lambda how=how: _embedded(how))  # type: ignore[misc]
      for how in ("plain", "twice", "inside", "capitals", "charset")),
    Hostile("canvas.svg", lambda: svg("<rect id='a' width='100%' height='100%'/>",
                                      'width="22000" height="22000"')),
    Hostile("nested.svg", lambda: svg("<g>" * 120 + "".join(
        f'<g id="i{at}"/>' for at in range(200_000)) + "</g>" * 120)),
    Hostile("large.avif", lambda: _avif(16_000)),
    Hostile("interlaced.png", lambda: png_of(22_000, 22_000, depth=8, interlaced=True)),
    Hostile("frames.webp", lambda: _frames("WEBP", 700, 1_000)),
    Hostile("tiny-frames.webp", lambda: _frames("WEBP", 2, 6_000)),
    Hostile("frames.gif", lambda: _frames("GIF", 400, 3_000)),
    Hostile("tiny-frames.gif", lambda: _frames("GIF", 1, 20_000)),
    Hostile("pages.tif", lambda: _tiff_pages(60_000)),
]  # fmt: skip


def named(*names: str) -> Iterator[Hostile]:
    return (one for one in HOSTILE if one.name in names)

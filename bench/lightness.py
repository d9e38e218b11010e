"""Bytes at the same look: what encoders are told now, against plain settings of the same ones."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from math import exp, log
from pathlib import Path
from statistics import mean

import pyvips

from gefa.core.pixels import drop_opaque_alpha
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import Format
from gefa.core.treat.invisible import with_black_beneath, with_quiet_colours
from gefa.core.treat.nature import nature_of
from gefa.core.treat.recipe import Aim, Settings
from gefa.core.treat.svg_file import sent_bytes, svg_file
from gefa_demo.pennants import draw_pennants
from gefa_demo.programme import draw_programme

WIDTH = 800
LOOK = 75.0
PIECE_LOOK = 85.0
QUALITIES = (35, 50, 62, 72, 80, 86, 92)
Encoder = Callable[[pyvips.Image, int], bytes]


@dataclass
class Lightness:
    """Bytes now over bytes with plain settings, at the same look: photographs as JPEG and WebP,
    photographs and drawn pieces as PNG without loss, and drawn pieces as PNG with a palette and as
    WebP at a look. And the
    parts of a drawing as SVG files, as they are sent, over the same as WebP."""

    jpeg: float
    webp: float
    png_of_photographs: float
    png: float
    palettes: float
    pieces: float
    drawings: float
    photographs: int
    drawn: int


def lightness(photos: Sequence[Path], folder: Path) -> Lightness:
    """Photographs at 800 px and the parts of two designs."""
    images = [pyvips.Image.thumbnail(str(path), WIDTH).copy_memory() for path in photos]
    pieces = list(_pieces(folder))
    return Lightness(
        jpeg=_at_equal_look(images, Format.JPEG, _plain_jpeg),
        webp=_at_equal_look(images, Format.WEBP, _plain_webp),
        png_of_photographs=_ratio(images[:2], _png, _plain_png),
        png=_ratio(pieces, _png, _plain_png),
        palettes=_ratio(pieces, _png_at_look, _plain_palette),
        pieces=_ratio(pieces, _webp_at_look, _plain_webp_at_look),
        drawings=_as_svg(folder / "weighed.svg"),
        photographs=len(images),
        drawn=len(pieces),
    )


def _pieces(folder: Path) -> Iterator[pyvips.Image]:
    designs = [folder / "weighed.svg", folder / "weighed.ora"]
    draw_pennants(designs[0])
    draw_programme(designs[1])
    for path in designs:
        document = read(path)
        for part in survey(document).parts[1:]:
            if part.extent is None or part.extent.empty or part.extent.size.megapixels > 0.4:
                continue
            width = 360 if part.scalable else part.extent.width
            image = document.render(document.part(part.path), part.extent, width)
            yield with_quiet_colours(drop_opaque_alpha(image).copy_memory()).copy_memory()


def _as_svg(drawing: Path) -> float:
    """Of parts that are 360 px wide."""
    document = read(drawing)
    as_svg = as_webp = 0
    for part in survey(document).parts[1:]:
        if part.extent is None or part.extent.empty or not part.scalable:
            continue
        own = document.part(part.path)
        image = document.render(own, part.extent, 360)
        as_svg += sent_bytes(svg_file(document, own, part.extent, image))
        as_webp += len(_webp_at_look(with_quiet_colours(image.copy_memory()).copy_memory()))
    return as_svg / as_webp


def _at_equal_look(images: Sequence[pyvips.Image], format: Format, plain: Encoder) -> float:
    """The mean over pictures of how heavy they are at LOOK, by what lies between qualities."""
    logs = []
    for image in images:
        source = EncodeSource(image)
        now, before = (
            _weight_at(source, format, encoder)
            for encoder in (lambda image, quality: encode(image, format, quality), plain)
        )
        logs.append(now - before)
    return exp(mean(logs))


def _weight_at(source: EncodeSource, format: Format, encoder: Encoder) -> float:
    """The logarithm of bytes at LOOK."""
    points = []
    for quality in QUALITIES:
        data = encoder(source.image, quality)
        points.append((source.score(data, format), log(len(data))))
    points.sort()
    above = next((i for i, (score, _) in enumerate(points) if score >= LOOK), len(points) - 1)
    (low, light), (high, heavy) = points[max(0, above - 1)], points[max(1, above)]
    return light + (heavy - light) * (LOOK - low) / (high - low)


def _ratio(
    images: Sequence[pyvips.Image],
    now: Callable[[pyvips.Image], bytes],
    before: Callable[[pyvips.Image], bytes],
) -> float:
    return sum(len(now(image)) for image in images) / sum(len(before(image)) for image in images)


def _plain_jpeg(image: pyvips.Image, quality: int) -> bytes:
    return bytes(
        image.jpegsave_buffer(Q=quality, optimize_coding=True, interlace=True, keep="none")
    )


def _plain_webp(image: pyvips.Image, quality: int) -> bytes:
    return bytes(image.webpsave_buffer(Q=quality, effort=4, keep="none"))


def _png(image: pyvips.Image) -> bytes:
    return encode(image, Format.PNG, None)


def _plain_png(image: pyvips.Image) -> bytes:
    return bytes(with_black_beneath(image).pngsave_buffer(compression=9, keep="none"))


def _png_at_look(image: pyvips.Image) -> bytes:
    """With the fewest colours that reach the look."""
    source = EncodeSource(image, nature=nature_of(image).nature)
    request = EncodeRequest(Format.PNG, Aim(look=PIECE_LOOK), Settings(colours="auto"))
    return find(source, request).data


def _plain_palette(image: pyvips.Image) -> bytes:
    """256 colours, which reach the look of all pieces."""
    data = bytes(image.pngsave_buffer(palette=True, compression=9, keep="none"))
    assert EncodeSource(image).score(data, Format.PNG) >= PIECE_LOOK
    return data


def _webp_at_look(image: pyvips.Image) -> bytes:
    source = EncodeSource(image, nature=nature_of(image).nature)
    return find(source, EncodeRequest(Format.WEBP, Aim(look=PIECE_LOOK), Settings())).data


def _plain_webp_at_look(image: pyvips.Image) -> bytes:
    """The lighter of the file without loss and the lightest with loss that reaches the look."""
    source = EncodeSource(image)
    without = bytes(image.webpsave_buffer(lossless=True, effort=4, keep="none"))
    first, last = 15, 100
    best = without
    while first <= last:
        middle = (first + last) // 2
        data = _plain_webp(image, middle)
        if source.score(data, Format.WEBP) >= PIECE_LOOK:
            best, last = min(best, data, key=len), middle - 1
        else:
            first = middle + 1
    return best

"""``make effects``: pictures for ``docs/lighter-files.md`` of what each step of saving bytes does,
measured on the sample site."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from pathlib import Path

import pyvips

from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.load import parse_plan
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import Format
from gefa.core.treat.png import colours_of
from gefa.core.treat.recipe import PALETTE_LOOK, Aim, Settings
from gefa.core.treat.svg_file import sent_bytes, svg_file
from gefa.core.units import weight
from gefa_demo.pennants import draw_pennants
from gefa_demo.photographs import SCENES, draw_photograph
from gefa_demo.programme import draw_programme

TARGET = Path(__file__).parents[1] / "docs" / "effects"
WIDE, ROW, LABEL, CROP = 720, 30, 250, 105
PHOTO_WIDTH = 960
LOOK = 75.0
LADDER = (480, 960, 1000, 1440, 1920)


@dataclass(frozen=True)
class Bar:
    """A weight in bytes with what it is of; ``note`` stands behind it."""

    label: str
    bytes: int
    note: str = ""
    ours: bool = True


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        photos = [_photo(at, folder) for at in (0, 1)]
        _write("look", *_look(photos))
        _write("jpeg", *_jpeg(photos[0]))
        _write("png", *_png(photos[0]))
        _write("palette", *_palette(folder))
        _write("drawing", *_drawing(folder))
        _write("widths", *_widths(folder))


Drawn = tuple[str, list[Bar], list[bytes]]


def _photo(at: int, folder: Path) -> pyvips.Image:
    draw_photograph(at, folder)
    return pyvips.Image.thumbnail(str(folder / SCENES[at].file), PHOTO_WIDTH).copy_memory()


def _look(photos: Sequence[pyvips.Image]) -> Drawn:
    bars = []
    for at, image in enumerate(photos, 1):
        source = EncodeSource(image)
        fixed = encode(image, Format.AVIF, 55)
        found = find(source, EncodeRequest(Format.AVIF, Aim(look=LOOK), Settings()))
        score = source.score(fixed, Format.AVIF)
        bars += [
            Bar(f"picture {at}, AVIF at quality 55", len(fixed), f"look {score:.0f}", ours=False),
            Bar(
                f"picture {at}, look {LOOK:g}",
                len(found.data),
                f"look {found.score or 0:.0f}, quality {found.quality}",
            ),
        ]
    return "The same look for every picture", bars, []


def _jpeg(image: pyvips.Image) -> Drawn:
    """The plain encoder at the quality that looks as ours does."""
    source = EncodeSource(image)
    ours = find(source, EncodeRequest(Format.JPEG, Aim(look=LOOK), Settings())).data
    wanted = source.score(ours, Format.JPEG)
    plain = next(
        data
        for quality in range(30, 100)
        if source.score(data := _plain_jpeg(image, quality), Format.JPEG) >= wanted
    )
    bars = [
        Bar("JPEG as encoders come", len(plain), f"look {wanted:.0f}", ours=False),
        Bar("with trellis quantisation", len(ours), f"look {wanted:.0f}"),
    ]
    return "JPEG at one look", bars, [_crop(plain), _crop(ours)]


def _png(image: pyvips.Image) -> Drawn:
    plain = len(image.pngsave_buffer(compression=9, keep="none"))
    bars = [
        Bar("PNG as encoders come", plain, ours=False),
        Bar("made smaller without loss", len(encode(image, Format.PNG, None))),
    ]
    return "PNG, the same pixels", bars, []


def _palette(folder: Path) -> Drawn:
    """A piece of a design as PNG: all colours, 256, and the fewest that reach the look."""
    path = folder / "programme.ora"
    draw_programme(path)
    document = read(path)
    found = next(part for part in survey(document).parts if part.path.endswith("Masthead"))
    assert found.extent is not None
    part = document.part(found.path)
    image = document.render(part, found.extent, found.extent.width).copy_memory()
    source, settings = EncodeSource(image), Settings(colours="auto")
    whole = encode(image, Format.PNG, None)
    many = encode(image, Format.PNG, None, Settings(colours=256))
    few = find(source, EncodeRequest(Format.PNG, Aim(look=PALETTE_LOOK), settings)).data
    bars = [
        Bar("all colours", len(whole), ours=False),
        Bar("256 colours", len(many), f"look {source.score(many, Format.PNG):.0f}", ours=False),
        Bar(f"{colours_of(few)} colours", len(few), f"look {source.score(few, Format.PNG):.0f}"),
    ]
    return "PNG of a piece of a design", bars, []


def _drawing(folder: Path) -> Drawn:
    path = folder / "pennants.svg"
    draw_pennants(path)
    document = read(path)
    part = document.part("Badges/Steward badge")
    extent = next(one.extent for one in survey(document).parts if one.path == part.path)
    assert extent is not None
    bars = []
    for width in (48, 96, 192):
        image = document.render(part, extent, width)
        found = find(EncodeSource(image), EncodeRequest(Format.WEBP, Aim(look=85.0), Settings()))
        bars.append(Bar(f"WebP of {width} px", len(found.data), ours=False))
    drawn = svg_file(document, part, extent, document.render(part, extent, 192))
    bars.append(Bar("SVG for all widths", sent_bytes(drawn), "by gzip"))
    return "A badge", bars, []


def _widths(folder: Path) -> Drawn:
    """What each width of a ladder weighs; those that help nobody are not made."""
    text = (
        'default = "t"\n[recipes.t]\nformats = ["webp"]\nquality = { webp = 76 }\n'
        f"widths = {list(LADDER)}\nevery_format = true\n"
    )
    plan = parse_plan(text, "plan")
    file = folder / SCENES[0].file
    document = read(file)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    made = {one.width for one in carry_out(job, lambda: document, MemoryShelf()).files}
    bars = []
    for width in LADDER:
        data = encode(pyvips.Image.thumbnail(str(file), width).copy_memory(), Format.WEBP, 76)
        kept = width in made
        bars.append(
            Bar(f"{width:,} px", len(data), "" if kept else "left out: hardly lighter", ours=kept)
        )
    return "Widths that help nobody", bars, []


def _plain_jpeg(image: pyvips.Image, quality: int) -> bytes:
    return bytes(
        image.jpegsave_buffer(Q=quality, optimize_coding=True, interlace=True, keep="none")
    )


def _crop(data: bytes) -> bytes:
    """A piece of a file at twice its size, as PNG."""
    image = pyvips.Image.new_from_buffer(data, "")
    piece = image.crop(image.width // 2, image.height // 3, CROP, CROP)
    return bytes(piece.resize(2, kernel="nearest").pngsave_buffer(palette=True, keep="none"))


def _write(name: str, title: str, bars: Sequence[Bar], crops: Sequence[bytes]) -> None:
    """A drawing with a bar for each weight, on one scale; light and dark pages show it alike."""
    most = max(bar.bytes for bar in bars)
    top, lines = 46, []
    for at, bar in enumerate(bars):
        y = top + at * ROW
        length = max(1.0, bar.bytes / most * (WIDE - LABEL - 230))
        colour = "#00676a" if bar.ours else "#8d806b"
        told = weight(bar.bytes) + (f", {bar.note}" if bar.note else "")
        lines += [
            f'<text x="{LABEL - 12}" y="{y + 15}" text-anchor="end">{escape(bar.label)}</text>',
            f'<rect x="{LABEL}" y="{y + 3}" width="{length:.1f}" height="16" fill="{colour}"/>',
            f'<text x="{LABEL + length + 8:.1f}" y="{y + 15}">{escape(told)}</text>',
        ]
    height = top + len(bars) * ROW + 12
    for at, crop in enumerate(crops):
        data = base64.b64encode(crop).decode("ascii")
        x = LABEL + at * (2 * CROP + 14)
        lines += [
            f'<image x="{x}" y="{height}" width="{2 * CROP}" height="{2 * CROP}"'
            f' href="data:image/png;base64,{data}"/>',
            f'<text x="{x}" y="{height + 2 * CROP + 18}">{escape(bars[at].label)}</text>',
        ]
    height += (2 * CROP + 34) if crops else 0
    svg = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE} {height}" width="{WIDE}"'
        f' height="{height}" font-family="sans-serif" font-size="13" fill="#211c15">'
        f'<rect width="{WIDE}" height="{height}" fill="#f8f3e9"/>'
        f'<text x="20" y="28" font-size="16" font-weight="600">{escape(title)}</text>'
        f"{''.join(lines)}</svg>\n"
    )
    (TARGET / f"{name}.svg").write_text(svg, "utf-8")


if __name__ == "__main__":
    main()

"""A page that places files as in the design: HTML, CSS, and positions as JSON."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from gefa.core.cut.cut import Origin
from gefa.core.deliver.manifest import CutRecord, File
from gefa.core.deliver.markup import Offer, picture
from gefa.core.geometry import Size

_CANVAS_CSS = """\
.canvas { position: relative; width: 100%%; max-width: %dpx; aspect-ratio: %d / %d; }
.piece { position: absolute; display: block; }
.piece img { display: block; width: 100%%; height: 100%%; }
"""


@dataclass(frozen=True, slots=True)
class Piece:
    """A cut in a layout, with its files; ``moves`` names the animated ones."""

    record: CutRecord
    files: tuple[File, ...]


@dataclass(frozen=True, slots=True)
class Layout:
    """``html`` links to ``css`` by the given name; ``canvas`` is the natural size in px."""

    canvas: Size
    html: str
    css: str
    json: str


def pieces(cuts: Sequence[CutRecord], files: dict[str, list[File]]) -> list[Piece]:
    """The pieces of a layout, bottom first; ``cuts`` are topmost first.

    If there are slices, they are the layout. Otherwise a part inside another cut part belongs to
    the outer one, and the first of several cuts of a part counts.
    """
    shown = [cut for cut in cuts if files.get(cut.name) or cut.css]
    slices = [cut for cut in shown if cut.origin is Origin.SLICE]
    if not slices:
        paths = {cut.part for cut in shown}
        seen: set[str] = set()
        for cut in shown:
            if cut.part not in seen and not _inside(cut.part, paths):
                slices.append(cut)
            seen.add(cut.part)
    return [Piece(cut, tuple(files.get(cut.name, ()))) for cut in reversed(slices)]


def _inside(part: str, paths: set[str]) -> bool:
    if part == "/":
        return False
    above = part.split("/")
    ancestors = {"/".join(above[:depth]) for depth in range(1, len(above))} | {"/"}
    return bool(ancestors & paths)


def lay_out(
    chosen: Sequence[Piece], canvas: Size, title: str, css_name: str = "layout.css"
) -> Layout:
    """A page with the pieces where they lie on the canvas (px), bottom first; in percentages, so
    the page scales with the window up to its natural width."""
    classes = _classes(chosen)
    rules = [_CANVAS_CSS % (canvas.width, canvas.width, canvas.height)]
    elements = []
    for piece, name in zip(chosen, classes, strict=True):
        rules.append(_rule(piece, name, canvas))
        elements.append(_element(piece, name, canvas))
    html = (
        '<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n'
        f"<title>{escape(title)}</title>\n"
        f'<link rel="stylesheet" href="{escape(css_name)}">\n'
        "<style>body { margin: 0 }</style>\n</head>\n<body>\n"
        f'<div class="canvas">\n{"".join(elements)}</div>\n</body>\n</html>\n'
    )
    return Layout(canvas, html, "".join(rules), _positions(chosen, classes, canvas))


def _classes(chosen: Sequence[Piece]) -> list[str]:
    return [
        f"piece-{re.sub(r'[^A-Za-z0-9_-]', '-', piece.record.name)}-{index}"
        for index, piece in enumerate(chosen, start=1)
    ]


def _share(part: int, whole: int) -> str:
    return f"{100 * part / whole:.6f}".rstrip("0").rstrip(".") + "%"


def _rule(piece: Piece, name: str, canvas: Size) -> str:
    cut = piece.record
    css = f" {cut.css};" if cut.css else ""
    return (
        f".{name} {{ left: {_share(cut.x, canvas.width)}; top: {_share(cut.y, canvas.height)};"
        f" width: {_share(cut.width, canvas.width)};"
        f" height: {_share(cut.height, canvas.height)};{css} }}\n"
    )


def _element(piece: Piece, name: str, canvas: Size) -> str:
    cut = piece.record
    if cut.css:
        return f'<div class="piece {name}"></div>\n'
    offers = [Offer(f.path, f.format, f.width, f.height, f.moves) for f in piece.files]
    share = 100 * cut.width / canvas.width
    sizes = f"(max-width: {canvas.width}px) {share:.4f}vw, {cut.width}px"
    markup = picture(offers, Size(cut.width, cut.height), None, sizes=sizes, lazy=False)
    if not markup.startswith("<picture>"):
        markup = f"<picture>{markup}</picture>"
    return markup.replace("<picture>", f'<picture class="piece {name}">', 1) + "\n"


def _positions(chosen: Sequence[Piece], classes: Sequence[str], canvas: Size) -> str:
    listed = [
        {
            "cut": piece.record.name,
            "class": name,
            "x": piece.record.x,
            "y": piece.record.y,
            "width": piece.record.width,
            "height": piece.record.height,
            "z": level,
            "css": piece.record.css,
            "files": [file.path for file in piece.files],
        }
        for level, (piece, name) in enumerate(zip(chosen, classes, strict=True))
    ]
    shape = {"canvas": {"width": canvas.width, "height": canvas.height}, "pieces": listed}
    return json.dumps(shape, indent=2) + "\n"

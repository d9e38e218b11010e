"""Sprites: the drawings of a recipe in one file, as ``<symbol>``s that pages ``<use>``."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from html import escape
from urllib.parse import quote
from xml.etree import ElementTree
from xml.etree.ElementTree import Element
from zlib import crc32

from gefa.core.deliver.manifest import CutRecord, File, Manifest, Sprite
from gefa.core.read import xml
from gefa.core.read.svg.elements import SVG
from gefa.core.treat.formats import FORMATS

_NOT_IN_IDS = re.compile(r"[^\w-]+")
_OF_THE_FILE = frozenset({"width", "height", "id"})
"""attributes of a file's root that a symbol does not need"""


def sprites_of(cuts: Sequence[CutRecord], files: Sequence[File]) -> list[Sprite]:
    """The sprites that recipes of these cuts ask for."""
    drawn = {file.cut for file in files if FORMATS[file.format].drawn}
    by_recipe: dict[str, list[str]] = {}
    for cut in cuts:
        if cut.sprite and cut.name in drawn:
            by_recipe.setdefault(cut.recipe, []).append(cut.name)
    return [
        Sprite(recipe=recipe, path=f"{recipe}/sprite.svg", symbols=_ids(names))
        for recipe, names in sorted(by_recipe.items())
    ]


def _ids(names: Sequence[str]) -> dict[str, str]:
    """An id for each name; equal ones get a suffix from their names."""
    plain = {name: _NOT_IN_IDS.sub("-", name).strip("-") or "symbol" for name in names}
    counts = Counter(id.casefold() for id in plain.values())
    return {
        name: id if counts[id.casefold()] == 1 else f"{id}-{crc32(name.encode()):08x}"
        for name, id in plain.items()
    }


def sprite_file(sprite: Sprite, load: Callable[[str], bytes]) -> bytes:
    """The sprite file. ``load`` gives the SVG file of a cut by its name."""
    root = Element(f"{{{SVG}}}svg")
    for name, id in sorted(sprite.symbols.items()):
        drawing = xml.parse(load(name), name, "the drawing")
        kept = {key: value for key, value in drawing.attrib.items() if key not in _OF_THE_FILE}
        symbol = Element(f"{{{SVG}}}symbol", {"id": id, **kept})
        symbol.extend(list(drawing))
        root.append(symbol)
    return ElementTree.tostring(root).replace(b" />", b"/>") + b"\n"


def use_line(sprite: Sprite, cut: CutRecord) -> str:
    """Markup that shows a cut from its sprite, as a decoration: what has a meaning needs a label of
    its page."""
    address = f"{quote(sprite.path)}#{sprite.symbols[cut.name]}"
    return (
        f'<svg width="{cut.width}" height="{cut.height}" aria-hidden="true">'
        f'<use href="{escape(address)}"/></svg>'
    )


def drawing_of(manifest: Manifest, cut: str) -> File | None:
    """The SVG file of a cut."""
    return next((f for f in manifest.files if f.cut == cut and FORMATS[f.format].drawn), None)


def sprite_files(manifest: Manifest, load: Callable[[File], bytes]) -> dict[str, bytes]:
    """All sprite files of a manifest by their paths. ``load`` gives the bytes of a file."""

    def of(cut: str) -> bytes:
        file = drawing_of(manifest, cut)
        assert file is not None
        return load(file)

    return {sprite.path: sprite_file(sprite, of) for sprite in manifest.sprites}

"""Which typefaces this machine has, and which ones a drawing asks for in vain."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from xml.etree.ElementTree import Element

from PIL import ImageFont

from gefa.core.read import xml
from gefa.core.read.svg.elements import inherited

FOLDERS = ("/usr/share/fonts", "/usr/local/share/fonts", "~/.fonts", "~/.local/share/fonts")
GENERIC = frozenset(
    {"serif", "sans-serif", "sans", "monospace", "mono", "cursive", "fantasy", "system-ui",
     "ui-serif", "ui-sans-serif", "ui-monospace", "inherit", "initial", "math", "emoji"}
)  # fmt: skip
_IN_SHEET = re.compile(r"font-family\s*:\s*([^;}]+)", re.I)
_SHORTHAND = re.compile(r"(?<![\d.])[\d.]++(?:px|pt|em|rem|%)(?:/\S++)?+\s++(.+)$", re.I)


@lru_cache(maxsize=1)
def installed() -> frozenset[str]:
    """Family names of the typefaces that drawings can use here, in lower case."""
    folders = [*FOLDERS, f"{os.environ.get('XDG_DATA_HOME', '')}/fonts"]
    found = set()
    for folder in folders:
        for path in Path(folder).expanduser().rglob("*"):
            if path.suffix.lower() in (".ttf", ".otf", ".ttc", ".pfb"):
                found |= _families(path)
    return frozenset(found)


def _families(path: Path) -> set[str]:
    try:
        family = ImageFont.truetype(str(path), 10).getname()[0]
    except (OSError, ValueError):
        return set()
    return {family.lower()} if family else set()


def missing(families: str) -> str:
    """The first name of a CSS font list if this machine has no typeface of that name;
    else empty."""
    names = [name.strip(" \t\n'\"") for name in families.split(",")]
    first = next((name for name in names if name), "")
    if not first or first.lower() in GENERIC or first.lower() in installed():
        return ""
    return first


def asked_for(line: tuple[Element, ...]) -> Iterator[str]:
    """The font lists of the text in the last element of ``line``, which begins at the root."""
    element = line[-1]
    if xml.local_name(element.tag) in ("text", "tspan", "textPath"):
        family = inherited(line, "font-family")
        shorthand = _SHORTHAND.search(inherited(line, "font"))
        if family or shorthand:
            yield family or (shorthand[1] if shorthand else "")
    for child in element:
        yield from asked_for((*line, child))


def in_sheets(sheets: list[Element]) -> Iterator[str]:
    """The font lists that style sheets name."""
    for sheet in sheets:
        yield from _IN_SHEET.findall(sheet.text or "")

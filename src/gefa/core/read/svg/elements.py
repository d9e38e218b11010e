"""What single SVG elements say: names, lengths, properties, references."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from urllib.parse import unquote_to_bytes
from xml.etree.ElementTree import Element

from gefa.core.errors import SourceError
from gefa.core.geometry import Size
from gefa.core.read import xml
from gefa.core.read.document import Kind

SVG = "http://www.w3.org/2000/svg"
RESOURCES = frozenset(
    {
        *("defs", "style", "linearGradient", "radialGradient", "pattern", "clipPath", "mask"),
        *("filter", "symbol", "marker", "font", "font-face", "color-profile", "cursor", "view"),
    }
)
"""Elements that show nothing where they stand."""
KINDS = {
    "g": Kind.GROUP,
    "svg": Kind.GROUP,
    "a": Kind.GROUP,
    "switch": Kind.GROUP,
    "image": Kind.IMAGE,
    "text": Kind.TEXT,
    "use": Kind.USE,
    "path": Kind.SHAPE,
    "rect": Kind.SHAPE,
    "circle": Kind.SHAPE,
    "ellipse": Kind.SHAPE,
    "line": Kind.SHAPE,
    "polyline": Kind.SHAPE,
    "polygon": Kind.SHAPE,
}
"""what a named element is as a part"""
STYLE = "<style>"
"""stands for a style sheet where ids are noted; no id can be that"""
_UNITS = {"": 1.0, "px": 1.0, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "pt": 96 / 72,
          "pc": 16.0, "q": 96 / 101.6}  # fmt: skip
_LENGTH = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)\s*([a-z]*|%)\s*$", re.I)
_REFERENCE = re.compile(r"""url\(\s*['"]?#([^)'"\s]+)|^\s*#(\S+)\s*$""")


def length(text: str, whole: float) -> float:
    """A CSS length in px; a percentage of ``whole``; 0 if it says nothing usable."""
    match = _LENGTH.match(text)
    if not match:
        return 0.0
    value, unit = float(match[1]), match[2].lower()
    if unit == "%":
        return whole * value / 100
    return value * _UNITS.get(unit, 16.0 if unit in ("em", "rem") else 0.0)


def number(text: str, default: float) -> float:
    """A number or percentage (100 % is 1); ``default`` if it is neither."""
    try:
        value = float(text.strip().removesuffix("%")) / (100 if text.strip().endswith("%") else 1)
    except ValueError:
        return default
    return value if value == value else default


def raw_name(element: Element) -> str:
    """Its ``<title>``, else an attribute whose local name is ``label``, else its ``id``."""
    for child in element:
        if xml.local_name(child.tag) == "title" and (child.text or "").strip():
            return (child.text or "").strip()
    for key, value in element.attrib.items():
        if xml.local_name(key) == "label" and value.strip():
            return value.strip()
    return element.get("id", "").strip()


def own_property(element: Element, name: str) -> str:
    """A presentation property of the element itself: its style attribute first."""
    for declaration in element.get("style", "").split(";"):
        key, _, value = declaration.partition(":")
        if key.strip().lower() == name:
            return value.replace("!important", "").strip()
    return element.get(name, "").strip()


def inherited(line: tuple[Element, ...], name: str) -> str:
    """A property of the last element of ``line``, which begins at the root."""
    for element in reversed(line):
        value = own_property(element, name)
        if value and value != "inherit":
            return value
    return ""


def is_shown(element: Element) -> bool:
    hidden = own_property(element, "visibility") in ("hidden", "collapse")
    return not hidden and own_property(element, "display") != "none"


def href(element: Element) -> str:
    for key, value in element.attrib.items():
        if xml.local_name(key) == "href" or key == "href":
            return value.strip()
    return ""


def references(element: Element) -> Iterator[str]:
    """Ids that the element, or anything in it, refers to."""
    for inner in element.iter():
        for key, value in inner.attrib.items():
            if "#" in value and key != "id":
                for match in _REFERENCE.finditer(value):
                    yield match[1] or match[2]
        if xml.local_name(inner.tag) == "style" and inner.text:
            for match in _REFERENCE.finditer(inner.text):
                yield match[1] or match[2]


def has_bitmap(element: Element) -> bool:
    return any(xml.local_name(e.tag) in ("image", "feImage") for e in element.iter())


def embedded(text: str) -> bytes:
    """The bytes of a ``data:`` URL (RFC 2397); none if it is broken or something else."""
    if not text.startswith("data:"):
        return b""
    head, _, body = text.partition(",")
    try:
        if head.endswith(";base64"):
            return base64.b64decode(unquote_to_bytes(re.sub(r"\s+", "", body)))
        return unquote_to_bytes(body)
    except (binascii.Error, ValueError):
        return b""


def shell(element: Element, style: str = "") -> Element:
    """The element without its children, with more ``style``."""
    copy = Element(element.tag, dict(element.attrib))
    if style:
        own = copy.get("style", "").strip().rstrip(";")
        copy.set("style", f"{own};{style}" if own else style)
    return copy


def note_held(element: Element, held: dict[Element, frozenset[str]]) -> None:
    """For each element below ``element``: what it holds that others may need, that is the ids in
    it, and ``STYLE`` if there is a style sheet in it."""
    for inner in reversed(list(element.iter())):
        own = {inner.get("id", "")} - {""}
        if xml.local_name(inner.tag) == "style":
            own.add(STYLE)
        held[inner] = frozenset(own.union(*(held[child] for child in inner)))


def canvas_size(svg: Element, file: str) -> Size:
    """The canvas in px, from width and height or the viewBox; SourceError if neither helps."""
    box = [number(v, 0.0) for v in re.split(r"[\s,]+", svg.get("viewBox", "").strip())]
    from_box = (box[2], box[3]) if len(box) == 4 else (0.0, 0.0)
    width = length(svg.get("width", ""), from_box[0])
    height = length(svg.get("height", ""), from_box[1])
    if not width and not height:
        width, height = from_box
    elif width and not height and from_box[0]:
        height = width * from_box[1] / from_box[0]
    elif height and not width and from_box[1]:
        width = height * from_box[0] / from_box[1]
    if not (0 < width < 1e9 and 0 < height < 1e9):
        raise SourceError(
            "has neither a usable width and height nor a viewBox.",
            file=file,
            advice="Give the <svg> element a viewBox and bring it in again.",
        )
    return Size(max(1, round(width)), max(1, round(height)))

"""What single SVG elements say: names, lengths, properties, references."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from urllib.parse import unquote_to_bytes
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

from gefa.core.errors import SourceError
from gefa.core.geometry import Size
from gefa.core.read import xml
from gefa.core.read.document import Kind

SVG = "http://www.w3.org/2000/svg"
XLINK = "http://www.w3.org/1999/xlink"
# Here, before anything is written: fingerprints are of the text of elements, which must not depend
# on what else a process has written before.
ElementTree.register_namespace("", SVG)
ElementTree.register_namespace("xlink", XLINK)
RESOURCES = frozenset(
    {
        *("defs", "style", "linearGradient", "radialGradient", "pattern", "clipPath", "mask"),
        *("filter", "symbol", "marker", "font", "font-face", "color-profile", "cursor", "view"),
    }
)
"""Elements that are not drawn where they stand."""
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
"""the kind of part that a named element is"""
STYLE = "<style>"
"""stands for a style sheet among ids; no id can be equal to it"""
_UNITS = {"": 1.0, "px": 1.0, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "pt": 96 / 72,
          "pc": 16.0, "q": 96 / 101.6}  # fmt: skip
DEFAULT_CANVAS = Size(300, 150)
"""CSS 2, section 10.3.2: a replaced element without a size"""
LONGEST_CANVAS = 20_000
"""px of the longest canvas to measure on"""
MOST_CANVAS_MEGAPIXELS = 100.0
"""of a canvas to measure positions on; shapes are still drawn at any size"""
_LONGEST_NUMBER = 64
"""characters: matching a pattern takes time with the square of a text's length"""
_LENGTH = re.compile(
    r"\s*+([-+]?(?:\d++\.?+\d*+|\.\d++)(?:e[-+]?\d++)?+)\s*+([a-z]*+|%)\s*+$", re.I
)
XML_NAMESPACE = "http://www.w3.org/XML/1998/namespace"
_ESCAPE = re.compile(r"_x([0-9A-Fa-f]{2,6})_")
_REFERENCE = re.compile(r"""url\(\s*['"]?#([^)'"\s]+)|^\s*#(\S+)\s*$""")


def length(text: str, whole: float) -> float:
    """A CSS length in px; a percentage of ``whole``; 0 if unusable."""
    match = _LENGTH.match(text) if len(text) <= _LONGEST_NUMBER else None
    if not match:
        return 0.0
    value, unit = float(match[1]), match[2].lower()
    if unit == "%":
        return whole * value / 100
    return value * _UNITS.get(unit, 16.0 if unit in ("em", "rem") else 0.0)


def number(text: str, default: float) -> float:
    """A number or percentage (100 % is 1); ``default`` if neither."""
    try:
        value = float(text.strip().removesuffix("%")) / (100 if text.strip().endswith("%") else 1)
    except ValueError:
        return default
    return value if value == value else default


def raw_name(element: Element) -> str:
    """Its ``<title>``, else the name from the program that wrote it: an attribute whose local name
    is ``label``, ``data-name``, an ``id`` of a foreign namespace; else its own ``id``."""
    for child in element:
        if xml.local_name(child.tag) == "title" and (child.text or "").strip():
            return (child.text or "").strip()
    for wanted in (_is_label, _is_data_name, _is_foreign_id):
        for key, value in element.attrib.items():
            if wanted(key) and value.strip():
                return value.strip()
    return unescaped(element.get("id", "").strip())


def _is_label(key: str) -> bool:
    return xml.local_name(key) == "label"


def _is_data_name(key: str) -> bool:
    return key == "data-name"


def _is_foreign_id(key: str) -> bool:
    return key.startswith("{") and key.endswith("}id") and XML_NAMESPACE not in key


def unescaped(id: str) -> str:
    """``layer_x5F_1_x20__x23_icon`` to ``layer_1 #icon``: ids allow only some characters, and
    programs write the others by number."""
    return _ESCAPE.sub(lambda match: _character(int(match[1], 16), match[0]), id)


def _character(code: int, otherwise: str) -> str:
    plain = code < 0x110000 and not 0xD800 <= code < 0xE000
    return chr(code) if plain and chr(code).isprintable() else otherwise


def own_property(element: Element, name: str) -> str:
    """A presentation property of the element itself; its style attribute comes first."""
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
    """Ids that the element, or anything inside it, refers to."""
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
    """The bytes of a ``data:`` URL (RFC 2397); empty if broken, or for any other URL."""
    if text[:5].lower() != "data:":
        return b""
    head, _, body = text.partition(",")
    try:
        if head.lower().replace(" ", "").endswith(";base64"):
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
    """For each element below ``element``, what it contains that others may need: referenced ids,
    and ``STYLE`` for a style sheet."""
    wanted = frozenset(references(element))
    for inner in reversed(list(element.iter())):
        own = {inner.get("id", "")} & wanted
        if xml.local_name(inner.tag) == "style":
            own.add(STYLE)
        held[inner] = frozenset(own.union(*(held[child] for child in inner)))


def canvas_size(svg: Element, file: str) -> tuple[Size, list[str]]:
    """The canvas in px, from width and height or the viewBox, with warnings; SourceError if neither
    helps."""
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
    if not any((width, height, svg.get("viewBox"), svg.get("width"), svg.get("height"))):
        told = (
            f"has no width, height and viewBox, so its canvas is {DEFAULT_CANVAS.width} ×"
            f" {DEFAULT_CANVAS.height} px, as in browsers; give the <svg> element a viewBox"
        )
        return DEFAULT_CANVAS, [told]
    if not (0 < width < 1e9 and 0 < height < 1e9):
        raise SourceError(
            "has neither a usable width and height nor a viewBox.",
            file=file,
            advice="Give the <svg> element a viewBox and bring it in again.",
        )
    return _within_limits(width, height, svg)


def _within_limits(width: float, height: float, svg: Element) -> tuple[Size, list[str]]:
    """A drawing has no pixels, so a canvas that is too large is measured on a smaller one."""
    size = Size(max(1, round(width)), max(1, round(height)))
    share = min(1.0, LONGEST_CANVAS / max(width, height))
    if size.megapixels <= MOST_CANVAS_MEGAPIXELS and share == 1.0:
        return size, []
    share = min(share, (MOST_CANVAS_MEGAPIXELS * 1e6 / (width * height)) ** 0.5)
    smaller = Size(max(1, int(width * share)), max(1, int(height * share)))
    if "viewBox" not in svg.attrib:
        svg.set("viewBox", f"0 0 {width:.12g} {height:.12g}")
    return smaller, [
        f"its canvas is {size.width:,} × {size.height:,} px; positions are measured on one of"
        f" {smaller.width:,} × {smaller.height:,} px. Every width is still drawn in full"
    ]

"""One part of a drawing as an SVG file that stands alone: it holds what the part refers to and
nothing else, and nothing in it is active, foreign or loaded from elsewhere.

Elements, attributes and properties that may stay are listed; all others go.
"""

from __future__ import annotations

import re
from copy import deepcopy
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

from gefa.core.errors import NotDrawable
from gefa.core.geometry import Rect, Size
from gefa.core.read import xml
from gefa.core.read.embedded import media_type_of
from gefa.core.read.svg.allowed import (
    AS_ATTRIBUTES,
    ATTRIBUTES,
    ELEMENTS,
    INITIAL,
    PROPERTIES,
    TEXT,
)
from gefa.core.read.svg.cascade import declarations_of, winners
from gefa.core.read.svg.elements import SVG, embedded, href, number, references
from gefa.core.read.svg.frame import FONT_SIZE

MOST_PICTURE_BYTES = 8_000
"""of all bitmaps inside a part: heavier ones are better as pixels"""
MOST_BYTES = 300_000
"""of a part before cleaning, which takes 7 s for that much: compressed it is 90 kB and more"""
_PICTURE_TYPES = frozenset({"image/png", "image/jpeg", "image/gif", "image/webp"})
_GROUPS = frozenset({"a", "switch"})
"""elements that draw the same as a group"""
_COPIED = ATTRIBUTES | AS_ATTRIBUTES
_URL = re.compile(r"url\(\s*['\"]?\s*([^)'\"\s]*)\s*['\"]?\s*\)", re.I)


def standalone(
    inner: Element, region: Rect, size: Size, *, keep_text: bool = False, matte: str = ""
) -> bytes:
    """The SVG file, not cleaned yet. ``inner`` is a tree with the part alone, in the px of the
    canvas, style sheets worked out; ``region`` (canvas px) is what the file shows, and ``size`` px
    its natural size. A ``matte`` (#rrggbb) lies beneath. NotDrawable with the reason where that
    cannot be a file that shows the same to everybody."""
    _check_pictures(inner)
    _check_text_on_paths(inner)
    root = Element(
        f"{{{SVG}}}svg",
        {
            "width": str(size.width),
            "height": str(size.height),
            "viewBox": f"{region.x} {region.y} {region.width} {region.height}",
        },
    )
    if abs(size.width * region.height - size.height * region.width) > max(
        region.width, region.height
    ):
        root.set("preserveAspectRatio", "none")
    if matte:
        root.append(_matte(region, matte))
    kept = _kept(inner)
    if kept is not None:
        root.append(_unwrapped(kept))
    _drop_undrawn(root)
    if _has_text(root):
        if not keep_text:
            raise NotDrawable(
                "it has text, and visitors may lack its typeface; turn the text into outlines, or"
                ' let the recipe say text = "keep"'
            )
        root.set("font-size", FONT_SIZE)
    _drop_ids(root)
    data = ElementTree.tostring(root)
    if len(data) > MOST_BYTES:
        raise NotDrawable(f"the drawing is too intricate: {len(data) / 1e3:,.0f} kB of shapes")
    return data


def _has_text(root: Element) -> bool:
    texts = (element for element in root.iter() if xml.local_name(element.tag) in TEXT)
    return any("".join(element.itertext()).strip() for element in texts)


def _check_text_on_paths(inner: Element) -> None:
    """Renderers leave this text out, and so would the file."""
    for element in inner.iter():
        if xml.local_name(element.tag) == "textPath" and "".join(element.itertext()).strip():
            raise NotDrawable("it has text on a path; turn the text into outlines")


def _check_pictures(inner: Element) -> None:
    bytes = 0
    for element in inner.iter():
        name = xml.local_name(element.tag)
        if name == "feImage":
            raise NotDrawable("it has a filter that shows a picture")
        if name != "image":
            continue
        data = embedded(href(element))
        if data and media_type_of(data) not in _PICTURE_TYPES:
            raise NotDrawable("the picture inside it is of a kind that SVG files cannot hold")
        bytes += len(data)
    if bytes > MOST_PICTURE_BYTES:
        raise NotDrawable(
            f"the pictures inside it weigh {bytes / 1e3:,.1f} kB;"
            f" an SVG file holds {MOST_PICTURE_BYTES / 1e3:,.0f} kB of them at most"
        )


def _matte(region: Rect, colour: str) -> Element:
    box = {"x": region.x, "y": region.y, "width": region.width, "height": region.height}
    return Element(
        f"{{{SVG}}}rect", {**{name: str(side) for name, side in box.items()}, "fill": colour}
    )


# -- what stays ------------------------------------------------------------------------------


def _kept(element: Element) -> Element | None:
    """A copy with only the allowed properties; None for an element that is not allowed."""
    if not isinstance(element.tag, str) or not element.tag.startswith(f"{{{SVG}}}"):
        return None
    name = xml.local_name(element.tag)
    if name in _GROUPS:
        name = "g"
    if name not in ELEMENTS:
        return None
    copy = Element(f"{{{SVG}}}{name}", _attributes(element))
    if name in TEXT:
        copy.text = element.text
    for child in element:
        kept = _kept(child)
        if kept is not None:
            if name in TEXT:
                kept.tail = child.tail
            copy.append(kept)
        elif name in TEXT and child.tail and len(copy):
            copy[-1].tail = (copy[-1].tail or "") + child.tail
    return copy


def _attributes(element: Element) -> dict[str, str]:
    kept = {
        key: value
        for key, value in element.attrib.items()
        if key == "id" or (key in _COPIED and _is_local(value))
    }
    address = href(element)
    if address.startswith("#") or (xml.local_name(element.tag) == "image" and embedded(address)):
        kept["href"] = address
    if element.get("{http://www.w3.org/XML/1998/namespace}space") == "preserve":
        kept["{http://www.w3.org/XML/1998/namespace}space"] = "preserve"
    styles: list[str] = []
    for key, value in winners(declarations_of(element.get("style", ""))).items():
        if key not in PROPERTIES or not _is_local(value):
            continue
        if key in AS_ATTRIBUTES:
            kept[key] = value
        else:
            kept.pop(key, None)
            styles.append(f"{key}:{value}")
    for key, value in INITIAL.items():
        if kept.get(key) == value:
            del kept[key]
        styles = [style for style in styles if style != f"{key}:{value}"]
    if styles:
        kept["style"] = ";".join(styles)
    return kept


def _is_local(value: str) -> bool:
    """Whether a value refers to nothing outside the file."""
    lower = value.lower()
    if (
        "\\" in value
        or "script:" in lower
        or "image(" in lower
        or "src(" in lower
        or "image-set" in lower
    ):
        return False
    if "url" not in lower:
        return True
    found = _URL.findall(value)
    return lower.count("url(") == len(found) and all(one.startswith("#") for one in found)


# -- what is not needed ------------------------------------------------------------------------


def _unwrapped(canvas: Element) -> Element:
    """The canvas as a group, if its ``viewBox`` is in px and nothing inside depends on it."""
    box = [number(side, 0.0) for side in canvas.get("viewBox", "").replace(",", " ").split()]
    px = [0.0, 0.0, number(canvas.get("width", ""), 0.0), number(canvas.get("height", ""), 0.0)]
    if (len(box) == 4 and box != px) or _measures_by_canvas(canvas):
        return canvas
    group = Element(f"{{{SVG}}}g", dict(canvas.attrib))
    for name in ("x", "y", "width", "height", "viewBox", "preserveAspectRatio", "overflow", "id"):
        group.attrib.pop(name, None)
    group.extend(list(canvas))
    return group


def _measures_by_canvas(canvas: Element) -> bool:
    """Whether a percentage refers to the canvas, and not to a shape or gradient."""
    return any(
        "%" in value
        for element in canvas.iter()
        if not _measures_by_itself(element)
        for value in element.attrib.values()
    )


def _measures_by_itself(element: Element) -> bool:
    name = xml.local_name(element.tag)
    by_shape = element.get("gradientUnits", "objectBoundingBox") == "objectBoundingBox"
    return name == "stop" or (name.endswith("Gradient") and by_shape)


def _drop_undrawn(root: Element) -> None:
    """Remove elements that are invisible and not referenced."""
    wanted = set(references(root))
    for parent in list(root.iter()):
        for child in list(parent):
            if _draws_nothing(child) and not any(e.get("id") in wanted for e in child.iter()):
                parent.remove(child)


def _draws_nothing(element: Element) -> bool:
    name = xml.local_name(element.tag)
    if element.get("display") == "none":
        return True
    if name == "image":
        return not href(element)
    return name in ("g", "defs") and not len(element)


def _drop_ids(root: Element) -> None:
    wanted = set(references(root))
    for element in root.iter():
        if element.get("id") not in wanted:
            element.attrib.pop("id", None)


def copy_of(svg: Element) -> tuple[Element, dict[Element, Element]]:
    """A copy of a tree, and the copy's elements by the original's."""
    copy = deepcopy(svg)
    return copy, dict(zip(svg.iter(), copy.iter(), strict=True))

"""What of a drawing is not drawn as a browser draws it: told with its element and place."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from xml.etree.ElementTree import Element

from gefa.core.read import xml
from gefa.core.read.document import CANVAS_PATH, Notice
from gefa.core.read.embedded import media_type_of, size_of
from gefa.core.read.part_names import one_line
from gefa.core.read.svg.elements import embedded, href, number, own_property

MAX_TOLD = 8
"""elements of one kind that are listed one by one"""
_OUTLINES = "turn it into outlines in the program that made it"
_ELEMENTS = {
    "textPath": f"text on a path is not drawn; {_OUTLINES}",
    "foreignObject": "HTML inside a drawing is not drawn; use SVG elements instead",
    "flowRoot": f"flowed text is not drawn; {_OUTLINES}",
    "flowPara": "",
    "meshgradient": "mesh gradients are not drawn; use another gradient or an embedded picture",
    "meshGradient": "mesh gradients are not drawn; use another gradient or an embedded picture",
    "mesh": "meshes are not drawn; use an embedded picture",
    "hatch": "hatches are not drawn; use a pattern",
    "animate": "animations are not drawn; the picture shows the drawing as it starts",
    "animateTransform": "animations are not drawn; the picture shows the drawing as it starts",
    "animateMotion": "animations are not drawn; the picture shows the drawing as it starts",
    "set": "animations are not drawn; the picture shows the drawing as it starts",
    "script": "scripts do not run; the picture shows the drawing without them",
    "video": "videos are not drawn; embed a picture instead",
    "canvas": "canvases are not drawn; embed a picture instead",
}
_TEXT = frozenset({"text", "tspan"})
_LISTS = ("x", "y", "dx", "dy", "rotate")
_ORIGINS = frozenset({"", "0", "0 0", "0px 0px", "0% 0%", "top left", "left top"})
_URL = re.compile(r"""url\(\s*['"]?#([^)'"\s]+)""")
_USES = frozenset({"use", "image", "feImage", "textPath", "mpath"})


def undrawn(
    svg: Element,
    by_id: Mapping[str, Element],
    paths: Mapping[Element, str],
    unknown_css: Mapping[Element, list[str]],
) -> list[Notice]:
    """Notices about everything that is not drawn as intended. ``paths`` are those of parts by their
    elements."""
    told: dict[str, int] = {}
    found: list[Notice] = []
    more: dict[str, int] = {}
    for element, path in _placed(svg, paths):
        for kind, reason in _reasons(element, by_id, unknown_css.get(element, ())):
            told[kind] = told.get(kind, 0) + 1
            if told[kind] <= MAX_TOLD:
                found.append(Notice(path, f"{_called(element)}: {reason}"))
            else:
                more[kind] = more.get(kind, 0) + 1
    found += [
        Notice(CANVAS_PATH, f"{count:,} more elements are not drawn either ({kind})")
        for kind, count in more.items()
    ]
    return found


def _placed(svg: Element, paths: Mapping[Element, str]) -> Iterator[tuple[Element, str]]:
    """Every element, with the path of its part."""
    stack = [(svg, CANVAS_PATH)]
    while stack:
        element, above = stack.pop()
        path = paths.get(element, above)
        yield element, path
        stack.extend((child, path) for child in reversed(element))


def _called(element: Element) -> str:
    own = one_line(element.get("id", ""))[:60]
    name = xml.local_name(element.tag)
    return f"<{name} id={own!r}>" if own else f"<{name}>"


def _reasons(
    element: Element, by_id: Mapping[str, Element], css: Iterable[str]
) -> Iterator[tuple[str, str]]:
    """A word for each kind of problem, and its message."""
    name = xml.local_name(element.tag)
    if _ELEMENTS.get(name):
        yield f"<{name}>", _ELEMENTS[name]
    if name in ("image", "feImage"):
        yield from _picture(element)
    yield from _lost(element, name, by_id)
    if name in _TEXT:
        yield from _text(element)
    for value in dict.fromkeys(css):
        yield "CSS", f"{one_line(value)[:80]} cannot be worked out; write the value itself"
    yield from _transforms(element)


def _picture(element: Element) -> Iterator[tuple[str, str]]:
    address = href(element)
    if not address or address.startswith("#"):
        return
    if address[:5].lower() != "data:":
        yield (
            "linked pictures",
            f"it links to {one_line(address)[:80]!r}, and linked files are not read; embed the"
            " picture in the drawing",
        )
        return
    data = embedded(address)
    is_drawing = media_type_of(data) == "image/svg+xml"
    if not data or (size_of(data) is None and not is_drawing):
        yield "broken pictures", "the picture in it cannot be read; embed it again"


def _lost(element: Element, name: str, by_id: Mapping[str, Element]) -> Iterator[tuple[str, str]]:
    """References to missing elements."""
    if name in _USES and href(element).startswith("#"):
        target = href(element)[1:]
        if target not in by_id:
            yield "missing references", f"it uses #{target[:60]}, which is not in the drawing"
    for target in dict.fromkeys(_URL.findall(" ".join(element.attrib.values()))):
        if target not in by_id:
            yield "missing references", f"it refers to #{target[:60]}, which is not in the drawing"


def _text(element: Element) -> Iterator[tuple[str, str]]:
    for key in _LISTS:
        if len(element.get(key, "").replace(",", " ").split()) > 1:
            yield (
                "glyph positions",
                f"letters placed one by one ({key}) are set in a row; {_OUTLINES}",
            )
            break
    if element.get("textLength"):
        yield "textLength", f"its textLength is not kept to; {_OUTLINES}"


def _transforms(element: Element) -> Iterator[tuple[str, str]]:
    """Only if there is something to transform."""
    if not own_property(element, "transform"):
        return
    origin = own_property(element, "transform-origin")
    if " ".join(origin.split()) not in _ORIGINS and any(
        number(part.removesuffix("px"), 1.0) != 0 for part in origin.split()
    ):
        yield "transform-origin", "its transform-origin is not applied; write it into the transform"
    if own_property(element, "transform-box") not in ("", "view-box", "border-box", "stroke-box"):
        yield "transform-box", "its transform-box is not applied; write it into the transform"

"""Changes to a drawing before it is drawn, so that librsvg draws it as browsers do."""

from __future__ import annotations

from xml.etree.ElementTree import Element

from gefa.core.read import xml
from gefa.core.read.svg.elements import own_property

LANGUAGE = "en"
"""compared with ``systemLanguage``: librsvg would use the server's locale"""


def normalise(svg: Element) -> None:
    """Choose the children of every ``<switch>``, and apply transform origins given in px."""
    for element in list(svg.iter()):
        if xml.local_name(element.tag) == "switch":
            _choose(element)
        if "origin" in f"{element.attrib}":
            _apply_origin(element)


def _choose(switch: Element) -> None:
    """Keep the first child whose language and features match (SVG 2, 5.10)."""
    tested = [child for child in switch if xml.local_name(child.tag)]
    chosen = next((child for child in tested if _passes(child)), None)
    for child in tested:
        if child is not chosen:
            switch.remove(child)
    if chosen is not None:
        chosen.attrib.pop("systemLanguage", None)


def _passes(child: Element) -> bool:
    if child.get("requiredExtensions") is not None or child.tag == "foreignObject":
        return False
    if xml.local_name(child.tag) == "foreignObject":
        return False
    languages = child.get("systemLanguage")
    if languages is None:
        return True
    told = [tag.strip().lower() for tag in languages.split(",")]
    return any(tag == LANGUAGE or tag.startswith(f"{LANGUAGE}-") for tag in told)


def _apply_origin(element: Element) -> None:
    origin = own_property(element, "transform-origin")
    transform = element.get("transform", "")
    if not transform or own_property(element, "transform-box") not in ("", "view-box"):
        return
    try:
        sides = [float(part.removesuffix("px")) for part in origin.split()]
    except ValueError:
        return
    if len(sides) not in (2, 3):
        return
    element.set("transform", about(transform, sides[0], sides[1]))
    element.attrib.pop("transform-origin", None)
    if "transform-origin" in element.get("style", ""):
        kept = [
            declaration
            for declaration in element.get("style", "").split(";")
            if declaration.partition(":")[0].strip().lower() != "transform-origin"
        ]
        element.set("style", ";".join(kept))


def about(transform: str, x: float, y: float) -> str:
    """The transform list with ``x``, ``y`` as its origin."""
    return f"translate({x:g} {y:g}) {transform} translate({-x:g} {-y:g})"

"""Rectangles that CSS draws as well as a file would: one colour, round corners, plain gradients."""

from __future__ import annotations

import re
from collections.abc import Mapping
from xml.etree.ElementTree import Element

from gefa.core.read import xml
from gefa.core.read.svg.elements import (
    RESOURCES,
    href,
    inherited,
    length,
    number,
    own_property,
)
from gefa.core.read.svg.transforms import functions

_COLOUR = re.compile(r"#[0-9a-f]{3,8}|(?:rgb|hsl)a?\([\d\s.,%/-]+\)|[a-z]{3,24}", re.I)
_NOT_COLOURS = frozenset({"none", "inherit", "currentcolor", "initial", "unset"})
_STRAIGHT = frozenset({"translate", "scale"})
"""transforms that keep a rectangle upright"""
_BREAKING = ("filter", "clip-path", "mask", "mix-blend-mode")


def css_of(line: tuple[Element, ...], by_id: Mapping[str, Element]) -> str:
    """Declarations for the last element of ``line`` (which begins at the root); empty if it is not
    a plain rectangle. The drawing must have no style sheet."""
    rect = _only_rect(line)
    if rect is None:
        return ""
    line = (*line, *rect) if rect[0] is not line[-1] else line
    element = line[-1]
    if not all(_is_straight(e) for e in line[1:]) or _has_stroke(line):
        return ""
    background = _background(element, inherited(line, "fill") or "black", by_id)
    if not background:
        return ""
    declarations = [f"background: {background}"]
    radius = _radius(element)
    if radius is None:
        return ""
    if radius:
        declarations.append(f"border-radius: {radius}")
    opacity = number(own_property(element, "opacity"), 1.0)
    opacity *= number(inherited(line, "fill-opacity"), 1.0)
    if opacity < 1:
        declarations.append(f"opacity: {opacity:.4g}")
    return "; ".join(declarations)


def _only_rect(line: tuple[Element, ...]) -> tuple[Element, ...] | None:
    """The rectangle that the last element is, or contains as the only visible thing."""
    element, below = line[-1], []
    while xml.local_name(element.tag) == "g":
        shown = [
            child
            for child in element
            if xml.local_name(child.tag) not in RESOURCES | {"title", "desc", "metadata", ""}
        ]
        if len(shown) != 1 or number(own_property(element, "opacity"), 1.0) < 1:
            return None
        element = shown[0]
        below.append(element)
    if xml.local_name(element.tag) != "rect":
        return None
    return tuple(below) or (element,)


def _is_straight(element: Element) -> bool:
    if any(own_property(element, name) not in ("", "none", "normal") for name in _BREAKING):
        return False
    try:
        names = {name for name, _ in functions(element.get("transform", ""))}
    except ValueError:
        return False
    return names <= _STRAIGHT and "transform" not in element.get("style", "")


def _has_stroke(line: tuple[Element, ...]) -> bool:
    return inherited(line, "stroke") not in ("", "none")


def _radius(element: Element) -> str | None:
    """``border-radius`` in % of the sides, empty for square corners; None if CSS cannot
    express it."""
    width = length(element.get("width", ""), 0)
    height = length(element.get("height", ""), 0)
    if width <= 0 or height <= 0:
        return None
    rx, ry = own_property(element, "rx"), own_property(element, "ry")
    across = length(rx or ry, width)
    down = length(ry or rx, height)
    across, down = min(across, width / 2), min(down, height / 2)
    if across <= 0 or down <= 0:
        return ""
    return f"{across / width:.4%} / {down / height:.4%}".replace("0%", "%").replace(".%", "%")


def _background(element: Element, fill: str, by_id: Mapping[str, Element]) -> str:
    if fill.startswith("url("):
        name = fill[4:].split(")")[0].strip(" '\"#")
        gradient = by_id.get(name)
        return _gradient(gradient, element, by_id) if gradient is not None else ""
    return _colour(fill)


def _colour(text: str) -> str:
    text = text.strip()
    if text.lower() in _NOT_COLOURS or not _COLOUR.fullmatch(text):
        return ""
    return text


def _gradient(gradient: Element, rect: Element, by_id: Mapping[str, Element]) -> str:
    if xml.local_name(gradient.tag) != "linearGradient" or gradient.get("gradientTransform"):
        return ""
    if gradient.get("spreadMethod", "pad") != "pad":
        return ""
    line = _gradient_line(gradient, rect)
    stops = _stops(gradient, by_id)
    if line is None or len(stops) < 2:
        return ""
    side, start, end = line
    colours = [f"{colour} {(start + at * (end - start)):.4%}" for colour, at in stops]
    return f"linear-gradient({side}, {', '.join(colours)})"


def _gradient_line(gradient: Element, rect: Element) -> tuple[str, float, float] | None:
    """Direction, start and end as shares of the box; None if slanted."""
    in_px = gradient.get("gradientUnits") == "userSpaceOnUse"
    ends = [number(gradient.get(n, d), float(d)) for n, d in
            (("x1", "0"), ("y1", "0"), ("x2", "1"), ("y2", "0"))]  # fmt: skip
    if in_px:
        x, y = length(rect.get("x", "0"), 0), length(rect.get("y", "0"), 0)
        width, height = length(rect.get("width", ""), 0), length(rect.get("height", ""), 0)
        if "x2" not in gradient.attrib or width <= 0 or height <= 0:
            return None
        ends = [(ends[0] - x) / width, (ends[1] - y) / height,
                (ends[2] - x) / width, (ends[3] - y) / height]  # fmt: skip
    x1, y1, x2, y2 = ends
    if y1 == y2 and x1 != x2:
        return ("to right", x1, x2) if x2 > x1 else ("to left", 1 - x1, 1 - x2)
    if x1 == x2 and y1 != y2:
        return ("to bottom", y1, y2) if y2 > y1 else ("to top", 1 - y1, 1 - y2)
    return None


def _stops(gradient: Element, by_id: Mapping[str, Element]) -> list[tuple[str, float]]:
    own = [child for child in gradient if xml.local_name(child.tag) == "stop"]
    if not own:
        other = by_id.get(href(gradient).removeprefix("#"))
        own = [] if other is None else [c for c in other if xml.local_name(c.tag) == "stop"]
    stops: list[tuple[str, float]] = []
    for stop in own:
        colour = _colour(own_property(stop, "stop-color") or "black")
        if not colour:
            return []
        opacity = number(own_property(stop, "stop-opacity"), 1.0)
        if opacity < 1:
            colour = f"color-mix(in srgb, {colour} {opacity:.4%}, transparent)"
        at = number(stop.get("offset", "0"), 0.0)
        stops.append((colour, max(stops[-1][1] if stops else 0.0, min(1.0, max(0.0, at)))))
    return stops

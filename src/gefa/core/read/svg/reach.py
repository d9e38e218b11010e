"""How far outside a rectangle something may lie and still change what is drawn in it.

librsvg computes filters, masks and patterns on a surface as large as the frame it is asked for.
What lies outside the frame is missing from blurs and shadows, and groups inside a pattern are cut
off at the frame's size. So a region is drawn in a frame larger by the reach worked out here.

The reach is an upper bound: too large costs time, too small costs pixels.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from math import hypot
from typing import NamedTuple
from xml.etree.ElementTree import Element

from gefa.core.geometry import Size
from gefa.core.read import xml
from gefa.core.read.svg.elements import href, length, number, own_property, references
from gefa.core.read.svg.transforms import largest_scale

BLUR_REACH = 3.0
"""standard deviations: librsvg blurs with three boxes, which end at 2.8 of them"""
LIGHT_REACH = 2.0
"""px: lighting looks at neighbouring pixels (Filter Effects 1, section 9.9)"""
MOST_CANVASES = 2.0
"""longer sides of the canvas that a reach may have: what lies farther away is not drawn"""
_DEEPEST = 120
"""references through references to follow; hostile files nest thousands"""
_FILTER_FUNCTION = re.compile(r"(blur|drop-shadow)\(([^()]*+(?:\([^()]*+\)[^()]*+)*+)\)", re.I)
_LENGTHS = re.compile(
    r"(?<![\d.])[-+]?(?:\d++\.?+\d*+|\.\d++)(?:px|pt|mm|cm|in|pc|em|rem)?+(?=[\s,]|$)"
)
_PAINTED = ("fill", "stroke")
_WHOLE_REGION = frozenset({"feTile", "feImage", "feTurbulence"})
"""primitives that move pixels from anywhere in the filter region"""


class Distance(NamedTuple):
    """``units`` in the user units of an element's parent, plus ``px`` of the canvas: a share of a
    bounding box does not grow with the transforms around it."""

    units: float = 0.0
    px: float = 0.0

    def and_then(self, other: Distance) -> Distance:
        """Effects one after another."""
        return Distance(self.units + other.units, self.px + other.px)

    def or_else(self, other: Distance) -> Distance:
        """The farther of two parallel effects."""
        return Distance(max(self.units, other.units), max(self.px, other.px))

    def scaled(self, by: float) -> Distance:
        return Distance(self.units * by, self.px)


class Reaches:
    """The reach of each part of one drawing. ``sheets`` are its style sheets: anything they refer
    to may apply to any element."""

    def __init__(
        self, svg: Element, by_id: Mapping[str, Element], sheets: Sequence[Element], canvas: Size
    ) -> None:
        self._by_id = by_id
        self._canvas = canvas
        self._longest = float(max(canvas.width, canvas.height))
        self._known: dict[Element, Distance] = {}
        root = Element("svg", {"viewBox": svg.get("viewBox", "")})  # drawn as large as the canvas
        self._root_scale = _viewbox_scale(root, canvas) * largest_scale(svg)
        self._svg = svg
        texts = [sheet.text or "" for sheet in sheets]
        self._by_sheet = self._of_sheets([text for text in texts if "(" in text])

    def of(self, line: Sequence[Element]) -> float:
        """The reach of the last element of ``line`` (which begins at the root), in canvas px."""
        scale = 1.0
        reach = Distance()
        for element in line[:-1]:
            scale *= self.scale(element)
            # An ancestor's mask still counts; its filter is taken away with its other children.
            reach = reach.and_then(self._masking(element, 0).scaled(scale))
        own = self._below(line[-1], 0)
        reach = reach.and_then(own.scaled(scale)).and_then(self._by_sheet)
        return min(reach.units + reach.px, MOST_CANVASES * self._longest)

    def scale(self, element: Element) -> float:
        """The factor by which the element enlarges what it contains, or more."""
        if element is self._svg:
            return self._root_scale
        scale = largest_scale(element)
        if xml.local_name(element.tag) in ("svg", "symbol"):
            scale *= _viewbox_scale(element, self._canvas)
        return scale

    def _below(self, element: Element, depth: int) -> Distance:
        """In the units of the element's parent: its own effects, plus the farthest of what it
        contains and refers to."""
        if element in self._known or depth > _DEEPEST:
            return self._known.get(element, Distance())
        self._known[element] = Distance()  # a circle of references ends here
        inner = Distance()
        for child in element:
            inner = inner.or_else(self._below(child, depth + 1))
        for target in self._referred(element):
            inner = inner.or_else(self._below(target, depth + 1))
        own = self._filtering(element).and_then(self._masking(element, depth))
        own = own.and_then(self._painting(element))
        self._known[element] = own.and_then(inner).scaled(self.scale(element))
        return self._known[element]

    def _referred(self, element: Element) -> Iterator[Element]:
        shell = Element(element.tag, dict(element.attrib))
        for name in references(shell):
            target = self._by_id.get(name)
            if target is not None and xml.local_name(target.tag) != "filter":
                yield target

    # -- filters -------------------------------------------------------------------------

    def _filtering(self, element: Element) -> Distance:
        value = own_property(element, "filter")
        return self._of_filter_value(value) if value not in ("", "none") else Distance()

    def _of_filter_value(self, value: str) -> Distance:
        reach = Distance(sum(_function_reach(*found) for found in _FILTER_FUNCTION.findall(value)))
        for name in references(Element("g", {"filter": value})):
            target = self._by_id.get(name)
            if target is not None and xml.local_name(target.tag) == "filter":
                reach = reach.and_then(self._of_filter(target))
        return reach

    def _of_filter(self, filter: Element) -> Distance:
        """All primitives one after another, however they are connected: never too little."""
        shares = filter.get("primitiveUnits") == "objectBoundingBox"
        reach = Distance()
        for primitive in filter.iter():
            far = _primitive_reach(primitive)
            reach = reach.and_then(Distance(0.0, far * self._longest) if shares else Distance(far))
            if xml.local_name(primitive.tag) in _WHOLE_REGION:
                reach = reach.and_then(self._region(filter))
        return reach

    def _region(self, filter: Element) -> Distance:
        """The length of the filter region (Filter Effects 1, section 8.2: 120 % by default)."""
        sides = [filter.get(side, "120%") for side in ("width", "height")]
        if filter.get("filterUnits") == "userSpaceOnUse":
            return Distance(max(length(side, self._longest) for side in sides))
        return Distance(0.0, max(abs(number(side, 1.2)) for side in sides) * self._longest)

    # -- masks and patterns ----------------------------------------------------------------

    def _masking(self, element: Element, depth: int) -> Distance:
        reach = Distance()
        for name in ("mask", "clip-path"):
            value = own_property(element, name)
            if "#" not in value:
                continue
            for reference in references(Element("g", {name: value})):
                target = self._by_id.get(reference)
                if target is not None:
                    reach = reach.and_then(self._below(target, depth + 1))
        return reach

    def _painting(self, element: Element) -> Distance:
        reach = Distance()
        for name in _PAINTED:
            value = own_property(element, name)
            if "#" not in value:
                continue
            for reference in references(Element("g", {name: value})):
                target = self._by_id.get(reference)
                if target is not None and xml.local_name(target.tag) == "pattern":
                    reach = reach.or_else(self._tile(target, 0))
        return reach

    def _tile(self, pattern: Element, depth: int) -> Distance:
        """The reach of a tile from its corner, whose content is drawn on a surface of the frame's
        size; a pattern may inherit its sides from another."""
        if "width" not in pattern.attrib and depth < _DEEPEST:
            other = self._by_id.get(href(pattern).removeprefix("#"))
            if other is not None and other is not pattern:
                return self._tile(other, depth + 1)
        scale = largest_scale(pattern, "patternTransform")
        sides = [
            abs(length(pattern.get(side, "0"), self._longest))
            + abs(length(pattern.get(corner, "0"), self._longest))
            for side, corner in (("width", "x"), ("height", "y"))
        ]
        if pattern.get("patternUnits") == "userSpaceOnUse":
            return Distance(max(sides) * scale)
        shares = [abs(number(pattern.get(side, "0"), 0.0)) for side in ("width", "height")]
        return Distance(0.0, max(shares) * self._longest * scale)

    # -- style sheets --------------------------------------------------------------------

    def _of_sheets(self, texts: Sequence[str]) -> Distance:
        """What style sheets may apply to any element, at the largest scale of the drawing."""
        if not texts:
            return Distance()
        reach = Distance()
        for text in texts:
            reach = reach.and_then(self._of_filter_value(text))
            for name in references(Element("g", {"style": text})):
                target = self._by_id.get(name)
                if target is None:
                    continue
                if xml.local_name(target.tag) == "pattern":
                    reach = reach.or_else(self._tile(target, 0))
                reach = reach.or_else(self._below(target, 0))
        if reach == Distance():
            return reach
        return Distance(0.0, reach.units * self._largest_scale() + reach.px)

    def _largest_scale(self) -> float:
        largest = 1.0
        stack = [(self._svg, 1.0)]
        while stack:
            element, above = stack.pop()
            scale = above * self.scale(element)
            largest = max(largest, scale)
            stack.extend((child, scale) for child in element)
        return largest


def _viewbox_scale(element: Element, canvas: Size) -> float:
    """The factor by which a viewport enlarges its content."""
    box = [number(part, 0.0) for part in element.get("viewBox", "").replace(",", " ").split()]
    if len(box) != 4 or box[2] <= 0 or box[3] <= 0:
        return 1.0
    width = length(element.get("width", ""), canvas.width) or canvas.width
    height = length(element.get("height", ""), canvas.height) or canvas.height
    return max(width / box[2], height / box[3])


def _numbers(text: str) -> list[float]:
    return [abs(number(part, 0.0)) for part in text.replace(",", " ").split()]


def _largest(element: Element, attribute: str, default: float = 0.0) -> float:
    return max(_numbers(element.get(attribute, "")), default=default)


def _primitive_reach(primitive: Element) -> float:
    """In the units of the filter's primitives (Filter Effects 1, section 9)."""
    name = xml.local_name(primitive.tag)
    if name == "feGaussianBlur":
        return BLUR_REACH * _largest(primitive, "stdDeviation")
    if name == "feOffset":
        return _largest(primitive, "dx") + _largest(primitive, "dy")
    if name == "feDropShadow":
        moved = _largest(primitive, "dx", 2.0) + _largest(primitive, "dy", 2.0)
        return moved + BLUR_REACH * _largest(primitive, "stdDeviation", 2.0)
    if name == "feMorphology":
        return _largest(primitive, "radius")
    if name == "feConvolveMatrix":
        return _largest(primitive, "order", 3.0)
    if name == "feDisplacementMap":
        return _largest(primitive, "scale") / 2
    if name in ("feDiffuseLighting", "feSpecularLighting"):
        return LIGHT_REACH
    return 0.0


def _function_reach(name: str, arguments: str) -> float:
    """Of the CSS filter functions that move pixels (Filter Effects 1, section 6)."""
    values = [abs(length(text, 0.0)) for text in _LENGTHS.findall(arguments)]
    if name.lower() == "blur":
        return BLUR_REACH * (values[0] if values else 0.0)
    dx, dy, deviation = ([*values[:3], 0.0, 0.0, 0.0])[:3]
    return hypot(dx, dy) + BLUR_REACH * deviation

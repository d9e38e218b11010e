"""How much work the filters of a drawing are, before anything is drawn.

librsvg computes each primitive of a filter for the whole filter region, and 200 bytes can ask for a
region of 36 megapixels. Work is counted in megapixels × steps. A step is a primitive that looks at
each pixel once, such as feColorMatrix, and took 0.25 s of CPU time for 1 megapixel.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from math import inf, isfinite
from xml.etree.ElementTree import Element

from gefa.core.geometry import Size
from gefa.core.read import xml
from gefa.core.read.svg.elements import (
    RESOURCES,
    href,
    length,
    number,
    own_property,
    references,
)
from gefa.core.read.svg.transforms import IDENTITY, Matrix, matrix_of

Box = tuple[float, float, float, float]
"""left, top, right, bottom"""

EVERYWHERE: Box = (-inf, -inf, inf, inf)
"""of what has no box that can be known without drawing, such as text"""
_MOST_VISITS = 200_000
"""elements, each as often as references draw it; a drawing made by hand has some thousands"""
_DEEPEST = 250
"""elements inside elements, across references: circles of references end here"""
_LONGEST_PATH = 300_000
"""characters of path data that are read; longer paths count as everywhere"""
_FUNCTION = re.compile(r"(?<![a-z-])([a-z-]++)\([^()]*+(?:\([^()]*+\)[^()]*+)*+\)", re.I)
_DECLARED = re.compile(r"filter\s*+:([^;}]*+)", re.I)
_MARKERS = ("marker", "marker-start", "marker-mid", "marker-end")
_NUMBERS = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?", re.I)
# Steps of primitives, from CPU seconds of librsvg for 4 megapixels each.
_STEPS = {
    "feFlood": 0.1, "feOffset": 0.1, "feTile": 0.1, "feImage": 0.1,
    "feGaussianBlur": 2.0, "feDropShadow": 2.0, "feDisplacementMap": 6.0,
    "feDiffuseLighting": 1.2, "feSpecularLighting": 1.2,
}  # fmt: skip
_OCTAVE, _KERNEL, _NEIGHBOUR = 0.45, 0.14, 0.06
"""steps of an octave of noise, a number of a convolution, a neighbour of feMorphology"""


def filter_work(
    svg: Element,
    by_id: Mapping[str, Element],
    canvas: Size,
    scale_of: Callable[[Element], float],
    sheets: str = "",
) -> float:
    """Megapixels × steps of drawing all elements once, also hidden ones, which can be cut; never
    too few.

    ``scale_of`` gives the factor by which an element enlarges what it contains. ``sheets`` is the
    text of style sheets that could not be worked out: their filters may apply to any element.
    """
    anywhere = " ".join(_DECLARED.findall(sheets))
    if not anywhere and not any(
        "filter" in key or "filter" in value for e in svg.iter() for key, value in e.items()
    ):
        return 0.0
    return _Drawing(by_id, canvas, scale_of, anywhere).work(svg)


class _Drawing:
    """One drawing at its natural size."""

    def __init__(
        self,
        by_id: Mapping[str, Element],
        canvas: Size,
        scale_of: Callable[[Element], float],
        anywhere: str,
    ) -> None:
        self._by_id, self._canvas, self._scale_of = by_id, canvas, scale_of
        self._anywhere = anywhere
        self._boxes: dict[Element, Box] = {}
        self._visits = 0

    def work(self, svg: Element) -> float:
        return self._below(svg, 1.0, 0)

    def _below(self, element: Element, scale: float, depth: int) -> float:
        """Of the element and all that it shows; ``scale`` from its parent's units to canvas px."""
        self._visits += 1
        if self._visits > _MOST_VISITS:
            return inf
        if depth > _DEEPEST:
            return 0.0
        scale *= self._scale_of(element)
        total = self._own(element, scale)
        for inner in (*self._drawn_inside(element), *self._referred(element)):
            total += self._below(inner, scale, depth + 1)
            if total == inf:
                break
        return total

    def _drawn_inside(self, element: Element) -> Iterator[Element]:
        for child in element:
            if xml.local_name(child.tag) not in RESOURCES:
                yield child

    def _referred(self, element: Element) -> Iterator[Element]:
        """What the element shows by reference: copies, patterns, masks, a marker at each vertex."""
        shell = Element(element.tag, dict(element.attrib))
        names = list(references(shell))
        vertices = 1
        if any(own_property(element, name) for name in _MARKERS):
            vertices += len(_NUMBERS.findall(element.get("d", "") + element.get("points", ""))) // 2
        for name in names:
            target = self._by_id.get(name)
            if target is None or xml.local_name(target.tag) == "filter":
                continue
            times = vertices if xml.local_name(target.tag) == "marker" else 1
            yield from (target for _ in range(min(times, _MOST_VISITS)))

    # -- one filter ----------------------------------------------------------------------

    def _own(self, element: Element, scale: float) -> float:
        value = f"{own_property(element, 'filter')} {self._anywhere}".strip()
        if value in ("", "none"):
            return 0.0
        named = (self._by_id.get(name) for name in references(Element("g", {"filter": value})))
        filters = [f for f in named if f is not None and xml.local_name(f.tag) == "filter"]
        functions = [name for name in _FUNCTION.findall(value) if name.lower() != "url"]
        work = sum(_steps(f, scale) * self._region(f, element, scale) for f in filters)
        for name in functions:
            work += (
                _STEPS["feGaussianBlur"] * self._canvas.megapixels
                if name.lower() in _BLURS
                else self._canvas.megapixels
            )
        return work

    def _region(self, filter: Element, element: Element, scale: float) -> float:
        """Megapixels of the filter region (Filter Effects 1, section 8.2), inside the canvas."""
        if filter.get("filterUnits") == "userSpaceOnUse":
            width = length(filter.get("width", "120%"), self._canvas.width)
            height = length(filter.get("height", "120%"), self._canvas.height)
        else:
            left, top, right, bottom = self._box(element, 0)
            width = (right - left) * number(filter.get("width", "120%"), 1.2)
            height = (bottom - top) * number(filter.get("height", "120%"), 1.2)
        area = abs(width * height) * scale * scale / 1e6
        return min(self._canvas.megapixels, area) if isfinite(area) else self._canvas.megapixels

    # -- boxes of elements ---------------------------------------------------------------

    def _box(self, element: Element, depth: int) -> Box:
        """The bounding box in the element's own units (SVG 2, section 8.10), or larger."""
        if element not in self._boxes:
            self._boxes[element] = EVERYWHERE  # of a circle of references
            self._boxes[element] = self._found_box(element, depth)
        return self._boxes[element]

    def _found_box(self, element: Element, depth: int) -> Box:
        name = xml.local_name(element.tag)
        if depth > _DEEPEST:
            return EVERYWHERE
        if name in ("g", "a", "switch"):
            return _union(self._in_parent(child, depth) for child in self._drawn_inside(element))
        if name == "use":
            target = self._by_id.get(href(element).removeprefix("#"))
            if target is None or xml.local_name(target.tag) in ("svg", "symbol"):
                return EVERYWHERE
            x, y = self._across(element, "x"), self._down(element, "y")
            left, top, right, bottom = self._in_parent(target, depth)
            return left + x, top + y, right + x, bottom + y
        return self._shape(name, element)

    def _in_parent(self, element: Element, depth: int) -> Box:
        box = self._box(element, depth + 1)
        text = own_property(element, "transform")
        if own_property(element, "transform-origin"):
            return EVERYWHERE
        try:
            matrix = matrix_of(text) if text not in ("", "none") else IDENTITY
        except (ValueError, OverflowError):
            return EVERYWHERE
        return _moved(box, matrix)

    def _shape(self, name: str, element: Element) -> Box:
        match name:
            case "rect" | "image":
                x, y = self._across(element, "x"), self._down(element, "y")
                width, height = self._across(element, "width"), self._down(element, "height")
                known = name == "rect" or (width > 0 and height > 0)
                return (x, y, x + width, y + height) if known else EVERYWHERE
            case "circle" | "ellipse":
                x, y = self._across(element, "cx"), self._down(element, "cy")
                longest = max(self._canvas.width, self._canvas.height)
                radii = [abs(length(element.get(r, "0"), longest)) for r in ("r", "rx", "ry")]
                far = max(radii)
                return x - far, y - far, x + far, y + far
            case "path" | "polygon" | "polyline":
                points = "points" if name != "path" else "d"
                return _path_box(own_property(element, points), name == "path")
        return EVERYWHERE

    def _across(self, element: Element, name: str) -> float:
        return length(own_property(element, name), self._canvas.width)

    def _down(self, element: Element, name: str) -> float:
        return length(own_property(element, name), self._canvas.height)


_BLURS = ("blur", "drop-shadow")


def _steps(filter: Element, scale: float) -> float:
    return sum(_steps_of(primitive, scale) for primitive in filter)


def _steps_of(primitive: Element, scale: float) -> float:
    name = xml.local_name(primitive.tag)
    if name == "feTurbulence":
        return 0.6 + _OCTAVE * max(1.0, number(primitive.get("numOctaves", "1"), 1.0))
    if name == "feMorphology":
        # Looks at all neighbours within the radius, for each pixel.
        found = [abs(float(n)) for n in _NUMBERS.findall(primitive.get("radius", "0"))] or [0.0]
        return _NEIGHBOUR * (2 * found[0] * scale + 1) * (2 * found[-1] * scale + 1)
    if name == "feConvolveMatrix":
        return max(2.0, _KERNEL * len(_NUMBERS.findall(primitive.get("kernelMatrix", ""))))
    if name == "feMerge":
        return 0.7 * len(primitive)
    return _STEPS.get(name, 1.0) if name.startswith("fe") else 0.0


def _path_box(data: str, is_path: bool) -> Box:
    """Of all points, also those that only bend a curve. Paths that cannot be read are everywhere:
    librsvg draws them up to their first mistake."""
    if len(data) > _LONGEST_PATH:
        return EVERYWHERE
    # Here, since most drawings have no filters and the library takes 0.05 s to load.
    from fontTools.pens.boundsPen import ControlBoundsPen
    from fontTools.svgLib.path import parse_path

    pen = ControlBoundsPen(None)
    try:
        parse_path(data if is_path else f"M{data}", pen)
    except Exception:  # whatever a parser says of hostile data
        return EVERYWHERE
    return pen.bounds or (0.0, 0.0, 0.0, 0.0)


def _union(boxes: Iterator[Box]) -> Box:
    found = list(boxes)
    if not found:
        return 0.0, 0.0, 0.0, 0.0
    lefts, tops, rights, bottoms = zip(*found, strict=True)
    return min(lefts), min(tops), max(rights), max(bottoms)


def _moved(box: Box, matrix: Matrix) -> Box:
    if not all(map(isfinite, box)):
        return EVERYWHERE
    a, b, c, d, e, f = matrix
    corners = [(x, y) for x in box[::2] for y in box[1::2]]
    across = [a * x + c * y + e for x, y in corners]
    down = [b * x + d * y + f for x, y in corners]
    return min(across), min(down), max(across), max(down)

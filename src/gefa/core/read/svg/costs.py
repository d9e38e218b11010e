"""Refuses drawings that would cost too much to draw, before anything is drawn: a few hundred bytes
can ask for hours."""

from __future__ import annotations

from math import isfinite
from xml.etree.ElementTree import Element

from gefa.core.errors import SourceError
from gefa.core.read import xml
from gefa.core.read.embedded import media_type_of, size_of
from gefa.core.read.limits import MAX_FILTER_WORK, MAX_LETTERS, MAX_PRIMITIVES, check_size
from gefa.core.read.svg.elements import embedded

_MOST_NESTED = 3
"""drawings inside drawings"""


def check_costs(svg: Element, file: str, depth: int = 0) -> None:
    """SourceError that names the limit a drawing exceeds."""
    letters = 0
    for element in svg.iter():
        name = xml.local_name(element.tag)
        if name == "filter" and len(element) > MAX_PRIMITIVES:
            raise _too_much(f"a filter with {len(element):,} steps", f"{MAX_PRIMITIVES}", file)
        if name in ("text", "tspan", "textPath"):
            letters += len(element.text or "") + sum(len(child.tail or "") for child in element)
        _check_pictures(element, file, depth)
    if letters > MAX_LETTERS:
        raise _too_much(f"{letters:,} letters of text", f"{MAX_LETTERS:,}", file)


def check_filters(work: float, file: str) -> None:
    """SourceError if the filters of a drawing cost too much: ``work`` in megapixels × steps."""
    if work <= MAX_FILTER_WORK:
        return
    much = f"{work:,.0f}" if isfinite(work) else "too many to count"
    raise SourceError(
        f"has filters that would take too long to draw (megapixels × steps: {much}; the limit is"
        f" {MAX_FILTER_WORK:.0f}).",
        file=file,
        advice="Use fewer or smaller filters, or embed that part as a picture.",
    )


def _check_pictures(element: Element, file: str, depth: int) -> None:
    """Check every picture of the element, in each attribute: renderers differ in which of two
    counts."""
    for key, value in element.attrib.items():
        if xml.local_name(key) != "href" and key != "href":
            continue
        data = embedded(value.strip())
        if not data:
            continue
        size = size_of(data)
        if size is not None:
            check_size(size, file, "a picture inside the drawing", whole=True)
        elif media_type_of(data) == "image/svg+xml":
            if depth == _MOST_NESTED:
                raise _too_much("drawings in drawings", f"{_MOST_NESTED}", file)
            check_costs(xml.parse(data, file, "a drawing inside the drawing"), file, depth + 1)


def _too_much(what: str, limit: str, file: str) -> SourceError:
    return SourceError(
        f"has {what}; the limit is {limit}.",
        file=file,
        advice="Simplify it, or embed that part as a picture.",
    )

"""Transform lists of SVG elements (CSS Transforms 1, section 8), read in one pass."""

from __future__ import annotations

import re
from math import cos, hypot, radians, sin, sqrt, tan
from xml.etree.ElementTree import Element

from gefa.core.read.svg.elements import own_property

Matrix = tuple[float, float, float, float, float, float]
"""a, b, c, d, e, f of x' = ax + cy + e, y' = bx + dy + f"""

IDENTITY: Matrix = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
MAX_TEXT = 20_000
"""characters of a transform list that are parsed; drawings have a few hundred"""


def functions(text: str) -> list[tuple[str, list[float]]]:
    """``"translate(2 3) rotate(4)"`` to names and numbers; ValueError if it is no such list.

    Splits at parentheses instead of matching a pattern for the whole list: a pattern with two ways
    to match the same text takes exponential time on hostile input.
    """
    found = []
    rest = text[:MAX_TEXT].strip()
    while rest:
        name, opened, rest = rest.partition("(")
        arguments, closed, rest = rest.partition(")")
        if not opened or not closed:
            raise ValueError(f"{text[:40]!r} is not a list of transforms")
        found.append((name.strip(" \t\r\n,"), [float(n) for n in _NUMBER.findall(arguments)]))
        rest = rest.strip(" \t\r\n,")
    return found


def matrix_of(text: str) -> Matrix:
    """The matrix of a transform list; ValueError for functions that SVG does not have."""
    whole = IDENTITY
    for name, numbers in functions(text):
        whole = multiplied(whole, _matrix(name, numbers))
    return whole


def multiplied(first: Matrix, second: Matrix) -> Matrix:
    """The matrix that applies ``second`` to points, then ``first``."""
    a, b, c, d, e, f = first
    g, h, i, j, k, m = second
    return (
        a * g + c * h, b * g + d * h,
        a * i + c * j, b * i + d * j,
        a * k + c * m + e, b * k + d * m + f,
    )  # fmt: skip


def _matrix(name: str, numbers: list[float]) -> Matrix:
    n = numbers or [0.0]
    match name:
        case "matrix" if len(n) == 6:
            return (n[0], n[1], n[2], n[3], n[4], n[5])
        case "translate":
            return (1.0, 0.0, 0.0, 1.0, n[0], n[1] if len(n) > 1 else 0.0)
        case "scale":
            return (n[0], 0.0, 0.0, n[1] if len(n) > 1 else n[0], 0.0, 0.0)
        case "rotate":
            turned = (cos(radians(n[0])), sin(radians(n[0])))
            spin: Matrix = (turned[0], turned[1], -turned[1], turned[0], 0.0, 0.0)
            if len(n) < 3:
                return spin
            there: Matrix = (1.0, 0.0, 0.0, 1.0, n[1], n[2])
            back: Matrix = (1.0, 0.0, 0.0, 1.0, -n[1], -n[2])
            return multiplied(multiplied(there, spin), back)
        case "skewX":
            return (1.0, 0.0, tan(radians(n[0])), 1.0, 0.0, 0.0)
        case "skewY":
            return (1.0, tan(radians(n[0])), 0.0, 1.0, 0.0, 0.0)
    raise ValueError(f"{name!r} is not a transform of SVG")


def scale_of(matrix: Matrix) -> float:
    """The largest factor by which a matrix stretches anything: its larger singular value."""
    a, b, c, d, _, _ = matrix
    one, other = hypot(a + d, b - c), hypot(a - d, b + c)
    return (one + other) / 2


def largest_scale(element: Element, attribute: str = "transform") -> float:
    """The factor by which an element's own transform stretches its content; 1 without a transform,
    and a generous guess if it cannot be read."""
    text = own_property(element, attribute)
    if not text or text == "none":
        return 1.0
    try:
        return scale_of(matrix_of(text))
    except (ValueError, OverflowError):
        largest = max((abs(float(n)) for n in _NUMBER.findall(text[:MAX_TEXT])), default=1.0)
        return min(max(1.0, largest), 100.0) * sqrt(2)

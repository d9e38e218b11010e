"""CSS that librsvg does not know, rewritten to CSS that it does: ``var()`` and newer colours.

CSS Custom Properties 1 and CSS Color 4. What cannot be worked out is left as it is and told.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from xml.etree.ElementTree import Element

import tinycss2

from gefa.core.read import xml

NEW_COLOURS = frozenset({"lab", "lch", "oklab", "oklch", "hwb", "color"})
"""functions of CSS Color 4 that are computed here, clipped to sRGB as in browsers"""
SPACED_COLOURS = frozenset({"rgb", "rgba", "hsl", "hsla"})
"""functions that CSS Color 4 also allows with spaces and a slash"""
NEWER_COLOURS = frozenset({"color-mix", "light-dark", "contrast-color", "device-cmyk"})
"""functions whose result depends on more than the drawing"""
_COLOURS = NEW_COLOURS | SPACED_COLOURS | NEWER_COLOURS
_ROOTS = frozenset({":root", "svg", "*", "html"})
"""selectors that set custom properties for the whole drawing"""
_DEEPEST = 20
"""variables inside variables"""
_MOST_NESTED = 40
"""brackets inside brackets: the parser recurses for each"""

Variables = Mapping[str, Sequence[Any]]


@dataclass
class Rewriting:
    """A value that is being rewritten; ``unknown`` collects what could not be resolved,
    as written."""

    variables: Variables
    unknown: list[str] = field(default_factory=list)

    def text(self, tokens: Iterable[Any], depth: int = 0) -> str:
        return "".join(self._token(token, depth) for token in tokens)

    def _token(self, token: Any, depth: int) -> str:
        if token.type == "function":
            return self._function(token, depth)
        if token.type in ("() block", "[] block", "{} block"):
            opened, closed = token.type[0], token.type[1]
            return f"{opened}{self.text(token.content, depth)}{closed}"
        return str(token.serialize())

    def _function(self, token: Any, depth: int) -> str:
        name = token.lower_name
        if name == "var" and depth < _DEEPEST:
            return self._variable(token, depth)
        text = f"{token.name}({self.text(token.arguments, depth)})"
        if name not in _COLOURS:
            return text
        if name in SPACED_COLOURS and "," in text:
            return text
        found = in_srgb(text)
        if not found:
            self.unknown.append(text)
        return found or text

    def _variable(self, token: Any, depth: int) -> str:
        name = next((t.value for t in token.arguments if t.type == "ident"), "")
        if name in self.variables:
            return self.text(self.variables[name], depth + 1).strip()
        commas = [i for i, t in enumerate(token.arguments) if t == ","]
        if commas:
            return self.text(token.arguments[commas[0] + 1 :], depth + 1).strip()
        self.unknown.append(f"var({name})")
        return str(token.serialize())


def in_srgb(text: str) -> str:
    """A colour of CSS Color 4 as ``rgba()``, clipped to sRGB; empty if it is not one."""
    # Loading it takes a seventh of a second, and few drawings need it.
    from coloraide import Color

    try:
        colour = Color(text).convert("srgb").clip()
    except (ValueError, TypeError):
        return ""
    red, green, blue = (round(max(0.0, min(1.0, c)) * 255) for c in colour.coords(nans=False))
    alpha = max(0.0, min(1.0, colour.alpha(nans=False)))
    if alpha == 1.0:
        return f"#{red:02x}{green:02x}{blue:02x}"
    return f"rgba({red},{green},{blue},{alpha:.4g})"


def rewrite(svg: Element, sheets: Sequence[Element]) -> dict[Element, list[str]]:
    """Resolve all values of the drawing in place; returns what could not be resolved,
    by element."""
    if not any(_may_need(text) for text in _all_values(svg, sheets)):
        return {}
    unknown: dict[Element, list[str]] = {}
    shared, scoped = _of_sheets(sheets)
    inline: set[str] = set()
    _rewrite_elements(svg, shared, scoped, unknown, inline)
    for sheet in sheets:
        if _too_deep(sheet.text or ""):
            unknown[sheet] = [sheet.text or ""]
            continue
        local = {n: v for n, v in shared.items() if n not in scoped | inline}
        rewriting = Rewriting(local)
        sheet.text = rewriting.text(tinycss2.parse_component_value_list(sheet.text or ""))
        if rewriting.unknown:
            unknown[sheet] = rewriting.unknown
    return unknown


def _too_deep(text: str) -> bool:
    depth = deepest = 0
    for character in text:
        if character in "([{":
            depth += 1
            deepest = max(deepest, depth)
        elif character in ")]}":
            depth -= 1
    return deepest > _MOST_NESTED


def _may_need(text: str) -> bool:
    lower = text.lower()
    return "var(" in lower or any(f"{name}(" in lower for name in _COLOURS)


def _all_values(svg: Element, sheets: Sequence[Element]) -> Iterator[str]:
    for element in svg.iter():
        yield from (value for value in element.attrib.values() if "(" in value)
    yield from (sheet.text or "" for sheet in sheets)


def _rewrite_elements(
    svg: Element,
    shared: Variables,
    scoped: set[str],
    unknown: dict[Element, list[str]],
    inline: set[str],
) -> None:
    """Top down, as custom properties are inherited."""
    stack: list[tuple[Element, Variables]] = [(svg, _less(shared, scoped))]
    while stack:
        element, variables = stack.pop()
        own = _custom(element.get("style", ""))
        if own:
            inline |= own.keys()
            variables = {**variables, **own}
        rewriting = Rewriting(variables)
        for key, value in element.attrib.items():
            if "(" in value and xml.local_name(key) != "href" and _may_need(value):
                if _too_deep(value):
                    rewriting.unknown.append(value)
                    continue
                tokens = tinycss2.parse_component_value_list(value)
                element.attrib[key] = rewriting.text(tokens)
        if rewriting.unknown:
            unknown[element] = rewriting.unknown
        stack.extend((child, variables) for child in element)


def _less(variables: Variables, names: set[str]) -> Variables:
    return {name: value for name, value in variables.items() if name not in names}


def _custom(style: str) -> dict[str, Sequence[Any]]:
    """The custom properties that a list of declarations sets."""
    if "--" not in style or _too_deep(style):
        return {}
    found = tinycss2.parse_blocks_contents(style, skip_comments=True, skip_whitespace=True)
    return {
        declaration.name: declaration.value
        for declaration in found
        if declaration.type == "declaration" and declaration.name.startswith("--")
    }


def _of_sheets(sheets: Sequence[Element]) -> tuple[dict[str, Sequence[Any]], set[str]]:
    """Custom properties that style sheets set for the whole drawing, and the names that other
    selectors set too, which only a full cascade could resolve."""
    shared: dict[str, Sequence[Any]] = {}
    scoped: set[str] = set()
    for sheet in sheets:
        if _too_deep(sheet.text or ""):
            continue
        rules = tinycss2.parse_stylesheet(
            sheet.text or "", skip_comments=True, skip_whitespace=True
        )
        for rule in rules:
            if rule.type != "qualified-rule":
                continue
            selectors = {s.strip() for s in tinycss2.serialize(rule.prelude).split(",")}
            own = _custom(tinycss2.serialize(rule.content))
            if selectors <= _ROOTS:
                shared |= own
            else:
                scoped |= own.keys()
    return shared, scoped

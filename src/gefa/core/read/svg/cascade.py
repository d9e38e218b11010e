"""Style sheets worked out: every element gets what they say of it in its own ``style``.

CSS Cascading 4, sections 6.1 and 6.4, for sheets of one origin. Selectors are matched by
cssselect2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any
from xml.etree.ElementTree import Element

import cssselect2
import tinycss2

from gefa.core.read import xml

_HARMLESS = frozenset({"charset", "import", "font-face", "keyframes", "-webkit-keyframes", "page"})
"""at-rules that change nothing here: nothing is loaded, nothing moves"""
_MOST_MATCHES = 2_000_000
"""selectors × elements to match; a drawing made by hand has some thousands"""


@dataclass(frozen=True, slots=True)
class Declaration:
    """``name: value`` from one place, for one element."""

    name: str
    value: str
    important: bool = False


def declarations_of(style: str) -> list[Declaration]:
    """The declarations of a ``style`` attribute in order, without those that cannot be parsed."""
    parsed = tinycss2.parse_blocks_contents(style, skip_comments=True, skip_whitespace=True)
    return list(_declarations(parsed))


def winners(declarations: Iterable[Declaration]) -> dict[str, str]:
    """The winning value of each property: the last one, and important ones before others."""
    ordered = sorted(declarations, key=lambda declaration: declaration.important)
    return {declaration.name: declaration.value for declaration in ordered}


def put_in_styles(svg: Element, sheets: Sequence[Element]) -> str:
    """Move the ``sheets`` into the ``style`` of the elements of ``svg``, in place. If that is
    impossible, changes nothing and says why; empty on success."""
    matcher = cssselect2.Matcher()
    count = 0
    for rule in _rules(sheets):
        if rule.type == "at-rule":
            if rule.lower_at_keyword not in _HARMLESS:
                return f"its style sheet has @{rule.lower_at_keyword} rules"
        elif rule.type == "qualified-rule":
            count += _add(matcher, rule)
    if count * sum(1 for _ in svg.iter()) > _MOST_MATCHES:
        return "its style sheet has too many rules"
    if count:
        _write(matcher, svg)
    return ""


def _rules(sheets: Sequence[Element]) -> Iterator[Any]:
    for sheet in sheets:
        if sheet.get("media", "all").strip().lower() in ("", "all", "screen"):
            text = sheet.text or ""
            yield from tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True)


def _add(matcher: Any, rule: Any) -> int:
    """Returns how many selectors of a rule were added. One unknown selector invalidates the whole
    rule (Selectors 4, section 4.1)."""
    try:
        selectors = cssselect2.compile_selector_list(rule.prelude)
    except cssselect2.SelectorError:
        return 0
    content = tinycss2.parse_blocks_contents(rule.content, skip_comments=True, skip_whitespace=True)
    declarations = list(_declarations(content))
    for selector in selectors:
        matcher.add_selector(selector, declarations)
    return len(selectors)


def _declarations(parsed: Iterable[Any]) -> Iterator[Declaration]:
    for one in parsed:
        if one.type == "declaration":
            value = tinycss2.serialize(one.value).strip()
            yield Declaration(one.lower_name, value, one.important)


def _write(matcher: Any, svg: Element) -> None:
    for wrapped in cssselect2.ElementWrapper.from_xml_root(svg).iter_subtree():
        found = [
            declaration
            for _, _, pseudo, declarations in matcher.match(wrapped)
            if pseudo is None
            for declaration in declarations
        ]
        if not found:
            continue
        element = wrapped.etree_element
        own = declarations_of(element.get("style", ""))
        values = winners([*found, *own])
        element.set("style", ";".join(f"{name}:{value}" for name, value in values.items()))
        if xml.local_name(element.tag) == "style":
            del element.attrib["style"]

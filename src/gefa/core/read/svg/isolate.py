"""One part of a drawing alone: everything else is taken out of the tree but what the part needs."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from xml.etree.ElementTree import Element

from gefa.core.read import xml
from gefa.core.read.svg.elements import (
    RESOURCES,
    STYLE,
    SVG,
    is_shown,
    note_held,
    references,
    shell,
)

Line = tuple[Element, ...]
"""an element after all its ancestors, root first"""

_ALWAYS_SHOWN = "display:inline!important"
_NEUTRAL = (
    f"{_ALWAYS_SHOWN};opacity:1!important;filter:none!important;mix-blend-mode:normal!important"
)
_NOT_SHOWN = "display:none!important"
_LOOKS_AT_SIBLINGS = re.compile(r":(?:nth-|first-|last-|only-|not\(|has\(|is\()|[+~]")
"""selectors of a style sheet that depend on sibling elements"""
_HEAVY = frozenset({"d", "points", "href", "style", "transform"})
"""attributes that a placeholder leaves out: they can be megabytes, and selectors do not look at
them"""


class Isolator:
    """Isolates single elements of ``svg``. ``sheets`` are its style sheets."""

    def __init__(
        self, svg: Element, by_id: Mapping[str, Element], sheets: Sequence[Element]
    ) -> None:
        self._svg, self._by_id, self._sheets = svg, by_id, sheets
        self._stand_ins = any(_LOOKS_AT_SIBLINGS.search(sheet.text or "") for sheet in sheets)
        self._held: dict[Element, frozenset[str]] = {}
        note_held(svg, self._held)

    def needed_by(self, roots: Sequence[Element]) -> set[str]:
        """Ids that ``roots`` refer to, directly or indirectly."""
        found: set[str] = set()
        waiting = list(roots)
        while waiting:
            for reference in references(waiting.pop()):
                if reference in self._by_id and reference not in found:
                    found.add(reference)
                    waiting.append(self._by_id[reference])
        return found

    def alone(
        self, line: Line, visible: bool = True, without: frozenset[Element] = frozenset()
    ) -> Element:
        """The drawing with only the last element of ``line``, without its children in ``without``,
        and what it refers to. The element counts as visible."""
        if len(line) == 1:
            return self._svg
        shells = [shell(element) for element in line[:-1]]
        wanted = self.needed_by([line[-1], *shells, *self._sheets])
        shown = shell(line[-1], f"{_ALWAYS_SHOWN};mix-blend-mode:normal!important")
        if not visible:
            shown = shell(shown, "visibility:visible")
        shown.text = line[-1].text
        shown.extend(child for child in line[-1] if child not in without)
        for depth in range(len(line) - 2, -1, -1):
            holder = shell(line[depth], _NEUTRAL if depth else "")
            for child in line[depth]:
                if child is line[depth + 1]:
                    holder.append(shown)
                else:
                    holder.extend(self._kept_of(child, wanted))
            shown = holder
        return shown

    def up_to(self, line: Line) -> Element:
        """The drawing with the last element of ``line`` visible, and nothing painted after it
        except what others refer to."""
        wanted = self.needed_by([self._svg])
        shown = line[-1]
        if not is_shown(shown):
            shown = shell(line[-1], "display:inline!important;visibility:visible!important")
            shown.text = line[-1].text
            shown.extend(line[-1])
        for depth in range(len(line) - 2, -1, -1):
            holder = shell(line[depth], "" if is_shown(line[depth]) else _ALWAYS_SHOWN)
            after = False
            for child in line[depth]:
                if child is line[depth + 1]:
                    holder.append(shown)
                    after = True
                elif after:
                    holder.extend(self._kept_of(child, wanted))
                else:
                    holder.append(child)
            shown = holder
        return shown

    def _kept_of(self, element: Element, wanted: set[str]) -> Iterator[Element]:
        """What stays of an invisible element: style sheets, and referenced elements. If style
        sheets look at siblings, exactly one element takes its place, so that ``:nth-child`` and
        ``+`` still match the same elements."""
        held = self._held[element]
        if STYLE in held or not held.isdisjoint(wanted):
            yield from self._resources(element, wanted)
        elif self._stand_ins and xml.local_name(element.tag):
            yield _stand_in(element)

    def _resources(self, element: Element, wanted: set[str]) -> Iterator[Element]:
        held = self._held[element]
        name = xml.local_name(element.tag)
        if name in RESOURCES and name != "defs":
            yield element
        elif name == "defs":
            defs = shell(element)
            for child in element:
                defs.extend(self._kept_of(child, wanted))
            yield defs
        elif held.isdisjoint(wanted):
            sheets = [inner for inner in element.iter() if xml.local_name(inner.tag) == "style"]
            holder = shell(element, _NOT_SHOWN)
            holder.extend(sheets)
            yield from [holder] if self._stand_ins else sheets
        else:
            defs = Element(f"{{{SVG}}}defs")
            defs.append(element)
            yield defs


def _stand_in(element: Element) -> Element:
    kept = {k: v for k, v in element.attrib.items() if xml.local_name(k) not in _HEAVY}
    return Element(element.tag, {**kept, "style": _NOT_SHOWN})

"""Changes the text of a plan file; comments and order stay.

The text is taken apart into blocks, one for each entry or recipe, each with the comments right
above it. A block whose entry is the same stays as it is to the last byte; in one whose entry was
edited only the keys that are other are set.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any, NamedTuple

import tomlkit
from tomlkit.exceptions import TOMLKitError

from gefa.core.errors import PlanError
from gefa.core.plan import toml_blocks
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from gefa.core.plan.toml_blocks import LISTS

_IDENTITY = {
    "sources": ("files",),
    "rules": ("sources", "parts"),
    "cuts": ("source", "part"),
    "slices": ("source",),
    "originals": ("sources", "parts"),
    "pictures": ("name",),
    "pages": ("name", "html"),
    "audiences": ("name",),
}
"""keys that identify an entry after an edit"""
_HEADER = re.compile(r"\s*\[(?P<list>\[)?\s*(?P<key>[^\[\]\"'#]+?)\s*\]\]?\s*(#.*)?")
Entry = dict[str, Any]


def rewritten(text: str, plan: Plan, same: Callable[[Plan, Plan], bool]) -> str:
    """``text``, a plan file, edited to say what ``plan`` says. ``same`` tells whether two plans are
    equal. If comments cannot be kept, the plan is written without them."""
    for in_order in (False, True):
        try:
            new = _Text.of(text, parse_plan(text, "gefa.toml")).saying(plan, in_order=in_order)
            if same(parse_plan(new, "gefa.toml"), plan):
                return new
        except (_Unclear, PlanError, TOMLKitError):
            continue
    return plan.to_toml()


class _Unclear(Exception):
    """The text does not have the usual structure."""


@dataclass
class _Block:
    """Lines of the text: one entry, one recipe or another table."""

    kind: str
    name: str = ""
    lines: list[str] = field(default_factory=list)

    @property
    def text(self) -> str:
        return "".join(self.lines)


def _blocks(text: str) -> list[_Block]:
    """Split into blocks; the first is everything before the first table."""
    blocks = [_Block("")]
    for line in text.splitlines(keepends=True):
        header = _HEADER.fullmatch(line.rstrip("\r\n"))
        if header is None:
            blocks[-1].lines.append(line)
            continue
        keys = [key.strip() for key in header["key"].split(".")]
        last = blocks[-1]
        inside = keys[0] == last.kind and len(keys) > 1 and keys[0] in LISTS
        if keys[0] == "recipes" and len(keys) > 2:
            inside = (last.kind, last.name) == ("recipes", keys[1])
        if inside:
            last.lines.append(line)
            continue
        lead = _taken_lead(last.lines)
        name = keys[1] if keys[0] == "recipes" and len(keys) > 1 else ""
        blocks.append(_Block(keys[0], name, [*lead, line]))
    if not text.endswith("\n"):
        blocks[-1].lines.append("\n")
    return blocks


def _taken_lead(lines: list[str]) -> list[str]:
    """Remove the comments right above the next header from the end of a block."""
    start = len(lines)
    while start and lines[start - 1].lstrip().startswith("#"):
        start -= 1
    lead = lines[start:]
    del lines[start:]
    return lead


class _Own(NamedTuple):
    """An entry and its block."""

    entry: Entry
    block: _Block


@dataclass
class _Text:
    """A plan file in blocks, and the plan that it holds."""

    blocks: list[_Block]
    fields: Entry

    @classmethod
    def of(cls, text: str, plan: Plan) -> _Text:
        return cls(_blocks(text), plan.fields())

    def saying(self, plan: Plan, *, in_order: bool) -> str:
        wanted = plan.fields()
        for kind in LISTS:
            if self.fields.get(kind) != wanted.get(kind):
                self._set_list(kind, wanted.get(kind, []), in_order=in_order)
        self._set_recipes(wanted.get("recipes", {}))
        self._set_check(wanted.get("check"))
        self._set_head(wanted)
        return "".join(block.text for block in self.blocks).lstrip("\n")

    # -- lists of entries ----------------------------------------------------------------

    def _set_list(self, kind: str, wanted: Sequence[Entry], *, in_order: bool) -> None:
        blocks = [block for block in self.blocks if block.kind == kind]
        entries = self.fields.get(kind, [])
        if len(blocks) != len(entries):
            raise _Unclear
        own = [_Own(entry, block) for entry, block in zip(entries, blocks, strict=True)]
        matched = _matched(kind, own, wanted)
        new = [
            _edited(kind, own[at], entry) if at is not None else _new_block(kind, entry)
            for entry, at in zip(wanted, matched, strict=True)
        ]
        if not in_order:
            new = _in_file_order(new, matched)
        self._replace(kind, blocks, new)

    def _replace(self, kind: str, old: Sequence[_Block], new: Sequence[_Block]) -> None:
        """Replace blocks; additional ones follow the last."""
        places = [at for at, block in enumerate(self.blocks) if block.kind == kind]
        kept: list[_Block] = []
        waiting = list(new)
        for at, block in enumerate(self.blocks):
            if at not in places:
                kept.append(block)
            elif waiting:
                kept.append(waiting.pop(0))
                if at == places[-1]:
                    kept += waiting
                    waiting = []
        self.blocks = [*kept, *waiting]
        added = [block for block in new if not any(block is one for one in old)]
        for before, block in pairwise(self.blocks):
            if any(one is block or one is before for one in added) and before.text.strip():
                _end_with_blank(before)

    # -- recipes, the check, and what stands above -----------------------------------------

    def _set_recipes(self, wanted: Mapping[str, Entry]) -> None:
        known = self.fields.get("recipes", {})
        for name in sorted(known.keys() | wanted.keys()):
            if known.get(name) == wanted.get(name):
                continue
            block = next(
                (b for b in self.blocks if (b.kind, b.name) == ("recipes", name)),
                None,
            )
            if name in known and block is None:
                raise _Unclear
            if name not in wanted:
                self.blocks = [one for one in self.blocks if one is not block]
            elif block is None:
                self._add_recipe(name, wanted[name])
            else:
                _set(block, ("recipes", name), known[name], wanted[name])

    def _add_recipe(self, name: str, recipe: Entry) -> None:
        block = _Block("recipes", name, _lines(toml_blocks.recipe(name, recipe)))
        last = max((at for at, b in enumerate(self.blocks) if b.kind == "recipes"), default=None)
        at = len(self.blocks) if last is None else last + 1
        if self.blocks[at - 1].text.strip():
            _end_with_blank(self.blocks[at - 1])
        if at < len(self.blocks):
            _end_with_blank(block)
        self.blocks.insert(at, block)

    def _set_check(self, wanted: Entry | None) -> None:
        known = self.fields.get("check")
        if known == wanted:
            return
        block = next((one for one in self.blocks if one.kind == "check"), None)
        if known is not None and block is None:
            raise _Unclear
        if block is None:
            _end_with_blank(self.blocks[-1])
            self.blocks.append(
                _Block("check", "", _lines(toml_blocks.table("[check]", wanted or {})))
            )
        elif wanted is None:
            self.blocks = [one for one in self.blocks if one is not block]
        else:
            _set(block, ("check",), known or {}, wanted)

    def _set_head(self, wanted: Entry) -> None:
        names = ("out", "default")
        old = {name: self.fields[name] for name in names if name in self.fields}
        new = {name: wanted[name] for name in names if name in wanted}
        if old != new:
            _set(self.blocks[0], (), old, new)
            if len(self.blocks) > 1 and self.blocks[0].text.strip():
                _end_with_blank(self.blocks[0])


def _matched(kind: str, own: Sequence[_Own], wanted: Sequence[Entry]) -> list[int | None]:
    """For each wanted entry its earlier self: equal, or identified by its keys."""
    free = list(range(len(own)))
    matched: list[int | None] = [None] * len(wanted)

    def match(alike: Callable[[Entry, Entry], bool]) -> None:
        for at, entry in enumerate(wanted):
            if matched[at] is None:
                found = next((one for one in free if alike(own[one].entry, entry)), None)
                if found is not None:
                    matched[at] = found
                    free.remove(found)

    def known_again(one: Entry, other: Entry) -> bool:
        return all(one.get(key) == other.get(key) for key in _IDENTITY[kind])

    match(lambda one, other: one == other)
    match(known_again)
    return matched


def _in_file_order(new: Sequence[_Block], matched: Sequence[int | None]) -> list[_Block]:
    """Earlier entries in the order of the file, each followed by the new ones after it."""
    led: list[list[_Block]] = [[]]
    places: list[int] = [-1]
    for block, at in zip(new, matched, strict=True):
        if at is None:
            led[-1].append(block)
        else:
            led.append([block])
            places.append(at)
    order = sorted(range(len(led)), key=places.__getitem__)
    return [block for one in order for block in led[one]]


def _edited(kind: str, own: _Own, entry: Entry) -> _Block:
    if own.entry != entry:
        _set(own.block, (kind, 0), own.entry, entry)
    return own.block


def _new_block(kind: str, entry: Entry) -> _Block:
    return _Block(kind, "", _lines(toml_blocks.table(f"[[{kind}]]", entry)))


def _lines(text: str) -> list[str]:
    return text.splitlines(keepends=True)


def _end_with_blank(block: _Block) -> None:
    if block.lines and block.lines[-1].strip():
        block.lines.append("\n")


def _set(block: _Block, path: Sequence[str | int], old: Entry, new: Entry) -> None:
    """Change the keys of a table that differ, in a block."""
    document = tomlkit.parse(block.text)
    table: Any = document
    for key in path:
        table = table[key]
    for key in old.keys() - new.keys():
        del table[key]
    for key, value in new.items():
        if old.get(key) != value:
            table[key] = toml_blocks.value(value)
    block.lines = document.as_string().splitlines(keepends=True)

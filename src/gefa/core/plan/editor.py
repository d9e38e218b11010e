"""Changes to a plan, each giving a new plan: what the Cut screen does."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import zip_longest

from gefa.core.cut.cut import Cut, Origin
from gefa.core.cut.shown_size import ShownSize
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect
from gefa.core.plan.gather import default_recipe, gather
from gefa.core.plan.plan import CellEntry, CutEntry, Guides, Plan, Rule, SliceEntry, Split
from gefa.core.plan.slice_cuts import grid
from gefa.core.read.survey import Survey
from gefa.core.treat.recipe import OwnQuality


@dataclass(frozen=True)
class PlanEditor:
    """Edits ``plan`` for ``source``; every method gives the new plan. PlanError where the caller
    names a part, rule, slice or recipe that does not exist.

    A ``line`` is one of the cuts of a part: the id of its entry or, where the plan has none for the
    part yet, its number among those that tags and rules ask for. An empty one is the first.
    """

    plan: Plan
    source: Survey

    # -- cuts ----------------------------------------------------------------------------

    def tick(self, parts: Iterable[str], on: bool) -> Plan:
        """Cut parts by hand, or leave them out by hand, whatever tags and rules say."""
        return self._each(parts, lambda entry: entry.model_copy(update={"leave_out": not on}))

    def take_back(self, parts: Iterable[str]) -> Plan:
        """Forget what was chosen by hand: tags and rules count again."""
        gone = set(parts)
        return self._with_cuts([entry for entry in self.plan.cuts if entry.part not in gone])

    def rename(self, part: str, line: str, name: str) -> Plan:
        """Set a cut's name; an empty name means the part's own."""
        own = self.source.part(part).display_name
        wanted = None if name.strip() in ("", own) else name.strip()
        return self._one(part, line, {"name": wanted, "leave_out": False})

    def choose(self, parts: Sequence[str], recipe: str, line: str | None = None) -> Plan:
        """Give parts a recipe: for one of their cuts, or for all."""
        self.plan.recipe(recipe)
        change = {"recipe": recipe, "leave_out": False}
        if line is not None:
            return self._one(parts[0], line, change)
        return self._each(parts, lambda entry: entry.model_copy(update=change))

    def follow_default(self, parts: Iterable[str]) -> Plan:
        """Remove the exceptions of these parts, their own recipe and quality: tags and rules count
        again, else the default."""
        editor = self
        for part in parts:
            usual = PlanEditor(editor.take_back([part]), self.source)._entries(part)
            kept = [
                entry.model_copy(update={field: getattr(like, field) for field in _EXCEPTIONAL})
                for entry, like in zip_longest(editor._entries(part), usual)
                if entry is not None and like is not None
            ]
            same = _unnamed(kept) == usual and not any(entry.leave_out for entry in kept)
            asked_for = same and editor._asked_for(part)
            plan = editor.take_back([part]) if asked_for else editor._replaced(part, kept)
            editor = PlanEditor(plan, self.source)
        return editor.plan

    def _asked_for(self, part: str) -> bool:
        """Whether tags or rules make a cut of the part, apart from choices by hand."""
        made = gather(self.source, self.take_back([part]), default=False)
        return any(cut.part == part and not cut.rect for cut in made.cuts)

    def set_default(self, recipe: str) -> Plan:
        """Set the default recipe; empty for the built-in choice."""
        if recipe:
            self.plan.recipe(recipe)
        return self.plan.model_copy(update={"default": recipe or None})

    def judge(self, part: str, line: str, quality: OwnQuality | None) -> Plan:
        """Give a cut a quality of its own; None for the recipe's."""
        return self._one(part, line, {"quality": quality, "leave_out": False})

    def slice_follows_default(self, key: str) -> Plan:
        """Remove the exceptions of a slice."""
        return self._change_slice(key, {"recipe": None, "quality": None})

    def judge_slice(self, key: str, quality: OwnQuality | None) -> Plan:
        return self._change_slice(key, {"quality": quality})

    def line_of(self, cut: Cut) -> str:
        """Which of a part's cuts now stands for a cut of an earlier plan: the one of the same
        entry, else of the same recipe, else the first."""
        entries = self._entries(cut.part)
        lines = [entry.id or str(number) for number, entry in enumerate(entries)]
        if cut.entry in lines:
            return cut.entry
        usual = default_recipe(self.source, self.source.part(cut.part), self.plan)
        same = (i for i, e in zip(lines, entries, strict=True) if (e.recipe or usual) == cut.recipe)
        return next(same, lines[0])

    def also(self, part: str, recipe: str) -> Plan:
        """Cut a part with one more recipe."""
        self.plan.recipe(recipe)
        entries = self._entries(part)
        return self._replaced(part, [*entries, CutEntry(part=part, recipe=recipe)])

    def drop(self, part: str, line: str) -> Plan:
        """Remove one of several cuts of a part."""
        entries = self._entries(part)
        index = _line(line, entries)
        return self._replaced(part, entries[:index] + entries[index + 1 :])

    def resize(self, part: str, line: str, size: ShownSize | None) -> Plan:
        """Give a cut a size of its own; None for the recipe's widths."""
        return self._one(part, line, {"size": size, "leave_out": False})

    def widen(self, part: str, recipe: str, widths: Sequence[int]) -> Plan:
        """Give a part's cuts by one recipe widths of their own, px."""
        usual = default_recipe(self.source, self.source.part(part), self.plan)
        own = [
            entry.model_copy(update={"widths": tuple(widths)})
            if (entry.recipe or usual) == recipe
            else entry
            for entry in self._entries(part)
        ]
        return self._replaced(part, own).checked()

    def as_file(self, part: str, line: str, on: bool) -> Plan:
        """Make files even where CSS could draw the part."""
        return self._one(part, line, {"as_file": on, "leave_out": False})

    def strays(self, part: str, line: str, on: bool) -> Plan:
        """Keep or leave out stray objects."""
        return self._one(part, line, {"strays": on, "leave_out": False})

    def _entries(self, part: str) -> list[CutEntry]:
        """The plan's entries for a part; if it has none, what tags and rules make."""
        own = [entry for entry in self.plan.cuts if entry.part == part]
        if own:
            return own
        self.source.part(part)
        made = gather(self.source, self.plan, default=not self.source.layered).cuts
        seeded = [_seeded(cut) for cut in made if cut.part == part and not cut.rect]
        named = seeded and seeded[0].name != self.source.part(part).display_name
        kept = [
            entry.model_copy(update={"name": entry.name if named and not at else None})
            for at, entry in enumerate(seeded)
        ]
        return kept or [CutEntry(part=part)]

    def _one(self, part: str, line: str, change: dict[str, object]) -> Plan:
        entries = self._entries(part)
        index = _line(line, entries)
        entries[index] = entries[index].model_copy(update=change)
        return self._replaced(part, entries)

    def _each(self, parts: Iterable[str], change: Callable[[CutEntry], CutEntry]) -> Plan:
        editor = self
        for part in parts:
            changed = [change(entry) for entry in editor._entries(part)]
            editor = PlanEditor(editor._replaced(part, changed), self.source)
        return editor.plan

    def _replaced(self, part: str, entries: list[CutEntry]) -> Plan:
        cuts, placed = [], False
        for entry in self.plan.cuts:
            if entry.part != part:
                cuts.append(entry)
            elif not placed:
                cuts += entries
                placed = True
        return self._with_cuts(cuts if placed else [*cuts, *entries])

    def _with_cuts(self, cuts: Sequence[CutEntry]) -> Plan:
        return self.plan.with_entries(cuts=cuts)

    # -- rules ---------------------------------------------------------------------------

    def add_rule(self, rule: Rule) -> Plan:
        """Add a rule at the end: the first that matches wins."""
        if rule.recipe is not None:
            self.plan.recipe(rule.recipe)
        return self.plan.with_entries(rules=[*self.plan.rules, rule])

    def remove_rule(self, rule_id: str) -> Plan:
        gone = _position(rule_id, self.plan.rules, "rule")
        return self.plan.with_entries(
            rules=[rule for at, rule in enumerate(self.plan.rules) if at != gone]
        )

    def raise_rule(self, rule_id: str) -> Plan:
        """Move a rule up by one."""
        rules = list(self.plan.rules)
        index = _position(rule_id, rules, "rule")
        above = max(0, index - 1)
        rules[above], rules[index] = rules[index], rules[above]
        return self.plan.with_entries(rules=rules)

    # -- slices --------------------------------------------------------------------------

    def split(self, columns: int, rows: int, gap: int = 0, margin: int = 0) -> Plan:
        """Split the canvas evenly, with ``gap`` and ``margin`` px; one column and one row without a
        margin remove the lines."""
        if columns == rows == 1 and not margin:
            return self._with_grid(None)
        split = Split(columns=columns, rows=rows, gap=gap, margin=margin)
        return self._with_grid(SliceEntry(split=split))

    def guides(self, x: Sequence[int | str], y: Sequence[int | str]) -> Plan:
        """Cut the canvas at these guides; no guides remove the slices between lines."""
        if not x and not y:
            return self._with_grid(None)
        return self._with_grid(SliceEntry(guides=Guides(x=tuple(x), y=tuple(y))))

    def _with_grid(self, entry: SliceEntry | None) -> Plan:
        """One entry holds the lines; settings of the entry and of cells that still exist stay."""
        old = next((known for known in self.plan.slices if known.area is None), None)
        drawn = [known for known in self.plan.slices if known.area is not None]
        if entry is not None and old is not None:
            places = {f"r{c.row}-c{c.column}" for c in grid(entry, self.source.size)}
            cells = {place: cell for place, cell in old.cells.items() if place in places}
            lines = {"split": entry.split, "guides": entry.guides}
            entry = old.model_copy(update={**lines, "cells": cells})
        return self._with_slices([entry, *drawn] if entry else drawn)

    def draw(self, rects: Iterable[Rect]) -> Plan:
        """Add drawn slices."""
        added = [SliceEntry(rect=(r.x, r.y, r.width, r.height)) for r in rects]
        return self._with_slices([*self.plan.slices, *added])

    def reshape(self, slice_id: str, rect: Rect) -> Plan:
        """Move or resize a drawn slice."""
        entry = self._slice(slice_id)
        if entry.area is None:
            raise PlanError("slices between lines move with their lines.")
        inside = rect.intersection(Rect(0, 0, self.source.width, self.source.height))
        if inside.empty:
            raise PlanError(
                "the slice would lie outside the picture.", advice="Give it a place inside."
            )
        place = (inside.x, inside.y, inside.width, inside.height)
        return self._with_slice(entry.model_copy(update={"rect": place}))

    def remove_slice(self, slice_id: str) -> Plan:
        gone = self._slice(slice_id)
        return self._with_slices([entry for entry in self.plan.slices if entry.id != gone.id])

    def remove_slices(self) -> Plan:
        return self._with_slices([])

    def name_slice(self, key: str, name: str) -> Plan:
        return self._change_slice(key, {"name": name.strip() or None})

    def choose_for_slices(self, keys: Iterable[str], recipe: str) -> Plan:
        self.plan.recipe(recipe)
        editor = self
        for key in keys:
            editor = PlanEditor(editor._change_slice(key, {"recipe": recipe}), self.source)
        return editor.plan

    def leave_slices(self, keys: Iterable[str], on: bool) -> Plan:
        """Leave slices out (drawn ones are removed), or bring them back."""
        editor = self
        for key in keys:
            slice_id, cell = _place(key)
            if cell:
                changed = editor._change_slice(key, {"leave_out": not on})
            elif on:
                continue
            else:
                changed = editor.remove_slice(slice_id)
            editor = PlanEditor(changed, self.source)
        return editor.plan

    def _change_slice(self, key: str, change: dict[str, object]) -> Plan:
        slice_id, cell = _place(key)
        entry = self._slice(slice_id)
        if not cell:
            return self._with_slice(entry.model_copy(update=change))
        own = entry.cells.get(cell, CellEntry()).model_copy(update=change)
        return self._with_slice(entry.model_copy(update={"cells": {**entry.cells, cell: own}}))

    def _slice(self, slice_id: str) -> SliceEntry:
        return self.plan.slices[_position(slice_id, self.plan.slices, "slice")]

    def _with_slice(self, changed: SliceEntry) -> Plan:
        slices = [changed if entry.id == changed.id else entry for entry in self.plan.slices]
        return self._with_slices(slices)

    def _with_slices(self, slices: Sequence[SliceEntry]) -> Plan:
        return self.plan.with_entries(slices=slices)


_EXCEPTIONAL = ("recipe", "quality", "widths", "formats")
"""fields that make a cut an exception"""


def _seeded(cut: Cut) -> CutEntry:
    """An entry for the cut that a tag or rule makes, with the words of its tag."""
    return CutEntry(
        part=cut.part,
        name=cut.name,
        recipe=None if cut.origin is Origin.DEFAULT else cut.recipe,
        quality=cut.quality,
        widths=cut.widths,
        formats=cut.formats,
        size=cut.size,
        picture=cut.picture or None,
        media=cut.media,
    )


def _unnamed(entries: Iterable[CutEntry]) -> list[CutEntry]:
    return [entry.model_copy(update={"id": ""}) for entry in entries]


def _place(key: str) -> tuple[str, str]:
    """``"2 r1-c3"`` to ``("2", "r1-c3")``; ``"2"`` to ``("2", "")``."""
    slice_id, _, cell = key.partition(" ")
    return slice_id, cell


def _position(wanted: str, entries: Sequence[Rule | SliceEntry | CutEntry], what: str) -> int:
    for index, entry in enumerate(entries):
        if entry.id == wanted:
            return index
    raise PlanError(f"there is no such {what} any more.", advice="Load the page again.")


def _line(line: str, entries: Sequence[CutEntry]) -> int:
    """The index of a line among a part's entries; an empty line is the first."""
    if not line:
        return 0
    if any(entry.id for entry in entries):
        return _position(line, entries, "cut")
    if not line.isdecimal() or int(line) >= len(entries):
        raise PlanError("there is no such cut any more.", advice="Load the page again.")
    return int(line)

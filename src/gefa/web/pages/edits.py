"""What the Cut screen asks for, from the fields of a form to a change of the plan."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from pydantic import ValidationError

from gefa.core.cut.shown_size import ShownSize, Unit
from gefa.core.cut.suggest import suggested
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect
from gefa.core.plan.editor import PlanEditor
from gefa.core.plan.plan import Plan, Rule
from gefa.web.fields import Fields


@dataclass(frozen=True)
class EditForm(Fields):
    """The fields of a form, and the separate objects of the source (canvas px)."""

    objects: list[Rect]

    @property
    def line(self) -> str:
        """Which of a part's cuts; the first if the form does not say."""
        return self.text("line")

    def rect(self) -> Rect:
        rect = Rect(*(self.whole(side, side) for side in ("x", "y", "width", "height")))
        if rect.empty:
            raise PlanError("a slice needs a width and a height.", advice="Give at least 1 px.")
        return rect

    def lines(self, field: str) -> list[int | str]:
        """``400, 50%`` to ``[400, "50%"]``, each once, in order."""
        found: dict[int | str, None] = {}
        for text in re.split(r"[\s,;]+", self.text(field).replace(" %", "%")):
            if text.endswith("%"):
                found[text] = None
            elif text:
                try:
                    found[max(0, round(float(text.removesuffix("px"))))] = None
                except (ValueError, OverflowError):
                    raise PlanError(
                        f"{text!r} is not a place for a line.", advice="Give px or a share as 50%."
                    ) from None
        return list(found)

    def size(self) -> ShownSize | None:
        width, height = self.maybe("width", "width"), self.maybe("height", "height")
        if width is None and height is None:
            return None
        unit = self.text("unit") or "px"
        dpi = self.maybe("dpi", "dpi") or 300
        return ShownSize(width=width, height=height, unit=Unit(unit), dpi=dpi)


Edit = Callable[[PlanEditor, EditForm], Plan]


def _named(parts: list[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{len(parts)} parts"


EDITS: dict[str, tuple[Edit, Callable[[EditForm], str]]] = {
    "tick": (
        lambda editor, a: editor.tick(a.texts("part"), a.on()),
        lambda a: f"{'Cut' if a.on() else 'Left out'} {_named(a.texts('part'))}",
    ),
    "back": (
        lambda editor, a: editor.take_back(a.texts("part")),
        lambda a: f"Default for {_named(a.texts('part'))}",
    ),
    "name": (
        lambda editor, a: editor.rename(a.text("part"), a.line, a.text("name")),
        lambda a: f"Named {a.text('part')}",
    ),
    "recipe": (
        lambda editor, a: editor.choose(
            a.texts("part"), a.text("recipe"), a.line if a.text("line") else None
        ),
        lambda a: f"Recipe {a.text('recipe')} for {_named(a.texts('part'))}",
    ),
    "default": (
        lambda editor, a: editor.set_default(a.text("recipe")),
        lambda a: f"Default recipe {a.text('recipe') or 'automatic'}",
    ),
    "follow": (
        lambda editor, a: editor.follow_default(a.texts("part")),
        lambda a: f"No exception any more: {_named(a.texts('part'))}",
    ),
    "slice-follow": (
        lambda editor, a: editor.slice_follows_default(a.text("slice")),
        lambda a: "A slice is no exception any more",
    ),
    "also": (
        lambda editor, a: editor.also(a.text("part"), a.text("recipe")),
        lambda a: f"One more recipe for {a.text('part')}",
    ),
    "drop": (
        lambda editor, a: editor.drop(a.text("part"), a.line),
        lambda a: f"One recipe less for {a.text('part')}",
    ),
    "size": (
        lambda editor, a: editor.resize(a.text("part"), a.line, a.size()),
        lambda a: f"Size of {a.text('part')}",
    ),
    "file": (
        lambda editor, a: editor.as_file(a.text("part"), a.line, a.on()),
        lambda a: f"{'Files' if a.on() else 'CSS'} for {a.text('part')}",
    ),
    "strays": (
        lambda editor, a: editor.strays(a.text("part"), a.line, a.on()),
        lambda a: f"Far-off objects of {a.text('part')}",
    ),
    "rule-add": (
        lambda editor, a: editor.add_rule(
            Rule(
                parts=a.text("parts").strip(),
                recipe=a.text("recipe") or None,
                leave_out=not a.text("recipe"),
            )
        ),
        lambda a: f"Rule {a.text('parts')}",
    ),
    "rule-remove": (
        lambda editor, a: editor.remove_rule(a.text("rule")),
        lambda a: "Removed a rule",
    ),
    "rule-raise": (
        lambda editor, a: editor.raise_rule(a.text("rule")),
        lambda a: "Moved a rule up",
    ),
    "split": (
        lambda editor, a: editor.split(
            a.whole("columns", "columns", 1),
            a.whole("rows", "rows", 1),
            a.whole("gap", "gap", 0),
            a.whole("margin", "margin", 0),
        ),
        lambda a: f"Split into {a.text('columns') or 1} × {a.text('rows') or 1}",
    ),
    "guides": (
        lambda editor, a: editor.guides(a.lines("x"), a.lines("y")),
        lambda a: "Moved lines",
    ),
    "draw": (
        lambda editor, a: editor.draw([a.rect()]),
        lambda a: "Drew a slice",
    ),
    "suggest": (
        lambda editor, a: editor.draw(suggested(a.objects, a.whole("distance", "distance", 8))),
        lambda a: "Took suggested slices",
    ),
    "reshape": (
        lambda editor, a: editor.reshape(a.text("slice"), a.rect()),
        lambda a: "Changed a slice",
    ),
    "slices-none": (
        lambda editor, a: editor.remove_slices(),
        lambda a: "Removed all slices",
    ),
    "slice-name": (
        lambda editor, a: editor.name_slice(a.text("slice"), a.text("name")),
        lambda a: "Named a slice",
    ),
    "slice-recipe": (
        lambda editor, a: editor.choose_for_slices(a.texts("slice"), a.text("recipe")),
        lambda a: f"Recipe {a.text('recipe')} for {len(a.texts('slice'))} slices",
    ),
    "slice-tick": (
        lambda editor, a: editor.leave_slices(a.texts("slice"), a.on()),
        lambda a: "Slices left out" if not a.on() else "Slices included",
    ),
}
"""by their names in forms: the change, and its description in the history"""


def edit(editor: PlanEditor, asked: EditForm) -> tuple[Plan, str]:
    """The plan after a form's change, and a description of the change; PlanError if it is not
    possible."""
    known = EDITS.get(asked.text("do"))
    if known is None:
        raise PlanError(f"there is no change named {asked.text('do')!r}.")
    change, tell = known
    try:
        return change(editor, asked), tell(asked)
    except ValidationError as error:
        problem = error.errors()[0]
        place = str(problem["loc"][-1]) if problem["loc"] else "it"
        raise PlanError(f"{place}: {problem['msg'].removeprefix('Value error, ')}.") from error
    except ValueError as error:
        raise PlanError(f"{error}.") from error

"""Answers forms that were drawn from an older plan."""

from __future__ import annotations

from collections.abc import Callable

from sqlmodel import Session

from gefa.core.plan.plan import Plan
from gefa.store.models import Source
from gefa.store.plans import own_plan, plan_at, step_id
from gefa.web.pages.edits import EditForm


def is_stale(session: Session, source: Source, asked: EditForm) -> bool:
    """Whether the entries that a form names have changed since the step it was drawn from. Two
    people may change one plan, as long as they change different entries. A form without a step,
    such as a script's, is accepted."""
    if not asked.has("step"):
        return False
    drawn_from = asked.text("step")
    if drawn_from == step_id(session, source):
        return False
    before = plan_at(session, source, drawn_from)
    if before is None:
        return True
    now = own_plan(session, source)
    named = _NAMED.get(asked.text("do"), _parts)
    return named(before, asked) != named(now, asked)


def _parts(plan: Plan, asked: EditForm) -> object:
    """The plan's entries for the parts and slices that a form names."""
    parts = set(asked.texts("part"))
    ids = {key.partition(" ")[0] for key in asked.texts("slice")}
    cuts = [entry for entry in plan.cuts if entry.part in parts]
    return cuts, [entry for entry in plan.slices if entry.id in ids]


def _rules(plan: Plan, asked: EditForm) -> object:
    return plan.rules


def _slices(plan: Plan, asked: EditForm) -> object:
    return plan.slices


def _lines(plan: Plan, asked: EditForm) -> object:
    return [entry for entry in plan.slices if entry.area is None]


_NAMED: dict[str, Callable[[Plan, EditForm], object]] = {
    "rule-remove": _rules,
    "rule-raise": _rules,
    "split": _lines,
    "guides": _lines,
    "slices-none": _slices,
}

"""Undoes one step, for screens that change what another screen owns."""

from __future__ import annotations

from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.store import history
from gefa.store.models import Source, Step
from gefa.store.plans import undo
from gefa.store.recipes import shelf_of_recipes, subject_of_recipe, undo_recipe


def latest_of_recipe(session: Session, name: str) -> str:
    """The id of a recipe's last change; empty if there is none."""
    step = history.current(session, subject_of_recipe(name))
    return step.id if step else ""


def is_latest(session: Session, step_id: str) -> bool:
    """Whether a step is the latest, so that it can be undone."""
    return _latest(session, step_id) is not None


def undo_change(session: Session, step_id: str) -> str:
    """Undo the change of a source's plan or a recipe that a step names; returns its description.
    PlanError if there were later changes, or if the recipe would be gone."""
    step = _latest(session, step_id)
    if step is None:
        raise PlanError(
            "something was changed after it.", advice="Undo the later change first, on its screen."
        )
    kind, _, name = step.subject.partition(" ")
    source = session.get(Source, name) if kind == "plan" else None
    undone = ""
    if source is not None:
        undone = undo(session, source)
    elif kind == "recipe":
        undone = undo_recipe(session, name)
    if not undone or (kind == "recipe" and name not in shelf_of_recipes(session)):
        raise PlanError("this is not a change that can be undone here.")
    return undone


def _latest(session: Session, step_id: str) -> Step | None:
    step = session.get(Step, step_id) if step_id else None
    now = history.current(session, step.subject) if step is not None else None
    return step if now is not None and now.id == step_id else None

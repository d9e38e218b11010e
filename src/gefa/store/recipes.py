"""The recipes that all sources share, each with the contents that it had before."""

from __future__ import annotations

from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.core.treat.recipe import BUILT_IN, RECIPE_NAME, Recipe
from gefa.store import history
from gefa.store.models import StoredRecipe, now
from gefa.store.trail import Deed, note


def library(session: Session) -> dict[str, Recipe]:
    """The stored recipes by name, without removed ones."""
    stored = session.exec(select(StoredRecipe).order_by(col(StoredRecipe.name))).all()
    return {
        recipe.name: Recipe.model_validate(recipe.content) for recipe in stored if recipe.content
    }


def shelf_of_recipes(session: Session) -> dict[str, Recipe]:
    """The stored recipes, and the built-in ones that no stored recipe replaces."""
    return {**BUILT_IN, **library(session)}


def save_recipe(session: Session, name: str, recipe: Recipe, said: str, batch: str = "") -> None:
    """Store a recipe under a name; this can be undone. PlanError if the name is not valid."""
    if not RECIPE_NAME.fullmatch(name):
        raise PlanError(
            f"{name!r} is not a recipe name.", advice="Use letters, digits, - and _; at most 60."
        )
    content = recipe.model_dump(mode="json", exclude_defaults=True)
    stored = _stored(session, name) or StoredRecipe(name=name)
    before = Recipe.model_validate(stored.content) if stored.content else BUILT_IN.get(name)
    if before == recipe:
        return
    _step(session, stored, content, said, batch)


def remove_recipe(session: Session, name: str, said: str = "", batch: str = "") -> None:
    """Remove a stored recipe: a built-in one is reset, another is gone; both can be undone."""
    stored = _stored(session, name)
    if stored is not None and stored.content:
        told = said or ("Removed it" if name not in BUILT_IN else "Reset to built-in")
        _step(session, stored, {}, told, batch)


def _step(
    session: Session,
    stored: StoredRecipe,
    content: dict[str, object],
    said: str,
    batch: str,
) -> None:
    history.change(session, subject_of_recipe(stored.name), content, said, batch)
    note(session, Deed.RECIPE_CHANGED, stored.name, said)
    _show(session, stored, content)


def _show(session: Session, stored: StoredRecipe, content: dict[str, object]) -> None:
    stored.content, stored.changed = content, now()
    session.add(stored)
    session.flush()


def subject_of_recipe(name: str) -> str:
    return f"recipe {name}"


def undo_recipe(session: Session, name: str) -> str:
    """Undo the last change; returns its description, empty if there was none."""
    return _gone(session, name, history.undo(session, subject_of_recipe(name)), "Undone")


def redo_recipe(session: Session, name: str) -> str:
    """Redo the change undone last; empty if there was none."""
    return _gone(session, name, history.redo(session, subject_of_recipe(name)), "Redone")


def _gone(session: Session, name: str, said: str, how: str) -> str:
    stored = _stored(session, name)
    if stored is None or not said:
        return ""
    step = history.current(session, subject_of_recipe(name))
    _show(session, stored, step.content if step else {})
    note(session, Deed.RECIPE_CHANGED, name, f"{how}: {said}")
    return said


def can_undo(session: Session, name: str) -> str:
    """The change that would be undone; empty if none."""
    return history.ways(session, subject_of_recipe(name)).undo


def removed_last(session: Session) -> str:
    """The name of the recipe removed last that can be restored."""
    gone = session.exec(select(StoredRecipe).order_by(col(StoredRecipe.changed).desc())).all()
    return next((r.name for r in gone if not r.content and r.name not in BUILT_IN), "")


def _stored(session: Session, name: str) -> StoredRecipe | None:
    return session.exec(select(StoredRecipe).where(StoredRecipe.name == name)).first()

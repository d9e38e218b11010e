"""The whole plan of the site: download and import."""

from __future__ import annotations

import hashlib

from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.plan.plan import Plan
from gefa.core.plan.site_plan import Difference, composed, differences, divided
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store.models import History, Step, new_id
from gefa.store.plans import change_plan, change_shared, site_pieces
from gefa.store.recipes import library, remove_recipe, save_recipe
from gefa.store.slots import slots_with
from gefa.store.sources import present


def site_plan(session: Session) -> Plan:
    """The whole plan, with all recipes the site has changed or added. PlanUnreadable if a source's
    piece cannot be read."""
    return composed(site_pieces(session))


def version_of(plan: Plan) -> str:
    """An entity tag of a plan."""
    return hashlib.sha256(plan.to_toml().encode()).hexdigest()[:24]


def plan_mark(session: Session) -> str:
    """A value that changes whenever the plan changes; cheap."""
    found = session.execute(
        sql_select(col(Step.id))
        .join(
            History,
            (col(History.subject) == col(Step.subject)) & (col(History.number) == col(Step.number)),
        )
        .order_by(col(Step.id))
    ).scalars()
    return hashlib.sha256("".join(found).encode()).hexdigest()


def import_differences(session: Session, plan: Plan) -> list[Difference]:
    """The changes that an import of this plan would make."""
    names = {source.name for source in present(session)}
    # What the site has is divided as an import is: both then hold the same in the same pieces.
    return differences(divided(site_plan(session), names), divided(plan, names))


def import_plan(session: Session, plan: Plan, said: str) -> list[str]:
    """Replace the whole plan, as one change of the desk. Returns what could not be imported, in
    words."""
    batch = new_id()
    sources = {source.name: source for source in present(session)}
    pieces = divided(plan.checked(), sources)
    told = _import_recipes(session, pieces.recipes, said, batch)
    for name, source in sources.items():
        change_plan(session, source, pieces.own.get(name, Plan()), said, batch)
    change_shared(session, pieces.shared, said, batch, imported=True)
    return told


def _import_recipes(
    session: Session, recipes: dict[str, Recipe], said: str, batch: str
) -> list[str]:
    told = []
    for name in sorted(library(session).keys() - recipes.keys()):
        slots = [] if name in BUILT_IN else slots_with(session, name)
        if slots:
            told.append(
                f"The recipe {name} stays: uploads to {', '.join(slots)} are treated by it."
            )
        else:
            remove_recipe(session, name, said, batch)
    for name, recipe in recipes.items():
        save_recipe(session, name, recipe, said, batch)
    return told

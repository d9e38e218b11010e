"""The whole plan of the site: download and import."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.errors import GefaError
from gefa.core.plan.plan import Plan
from gefa.core.plan.site_plan import Difference, Pieces, composed, differences, divided
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store.models import History, Source, Step, new_id
from gefa.store.plans import PlanUnreadable, change_plan, change_shared, own_plans, site_pieces
from gefa.store.recipes import library, remove_recipe, save_recipe
from gefa.store.slots import slots_with
from gefa.store.sources import present
from gefa.store.store import Store

TRIES = 5
"""before an import gives up because others keep changing the plan"""


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


@dataclass(frozen=True)
class PlanImport:
    """What an import has to change: worked out from a snapshot, so that nobody waits meanwhile.
    ``mark`` and ``version`` are those of the plan in the snapshot."""

    mark: str
    version: str
    pieces: Pieces
    changed: dict[str, Plan]
    """new pieces of sources, by id"""


class PlanMoved(GefaError):
    """The plan was changed after an import was worked out."""


def prepare_import(session: Session, plan: Plan) -> PlanImport:
    """Work out what an import of this plan changes. Reads only."""
    sources = present(session)
    pieces = divided(plan, {source.name for source in sources})
    before = own_plans(session, sources)
    changed = {
        source.id: new
        for source in sources
        if (new := pieces.own.get(source.name, Plan())) != before.get(source.id, Plan())
    }
    try:
        version = version_of(site_plan(session))
    except PlanUnreadable:
        version = ""
    return PlanImport(plan_mark(session), version, pieces, changed)


def import_plan(session: Session, wanted: PlanImport, said: str) -> list[str]:
    """Replace the whole plan, as one change of the desk. Returns what could not be imported, in
    words. PlanMoved if the plan is not the one that ``wanted`` was worked out from."""
    if plan_mark(session) != wanted.mark:
        raise PlanMoved("the plan was changed meanwhile.", advice="Try again.")
    batch = new_id()
    told = _import_recipes(session, wanted.pieces.recipes, said, batch)
    for source_id, plan in wanted.changed.items():
        source = session.get(Source, source_id)
        if source is not None:
            change_plan(session, source, plan, said, batch)
    change_shared(session, wanted.pieces.shared, said, batch, imported=True)
    return told


def replace_plan(store: Store, plan: Plan, said: str) -> list[str]:
    """Import a plan whatever is there now. Returns what could not be imported. PlanMoved if others
    change the plan all the time."""
    for _ in range(TRIES):
        with store.reading() as session:
            wanted = prepare_import(session, plan)
        try:
            with store.changing() as session:
                return import_plan(session, wanted, said)
        except PlanMoved as error:
            moved = error
    raise moved


def _import_recipes(
    session: Session, recipes: dict[str, Recipe], said: str, batch: str
) -> list[str]:
    told = []
    before = library(session)
    for name in sorted(before.keys() - recipes.keys()):
        slots = [] if name in BUILT_IN else slots_with(session, name)
        if slots:
            told.append(
                f"The recipe {name} stays: uploads to {', '.join(slots)} are treated by it."
            )
        else:
            remove_recipe(session, name, said, batch)
    for name, recipe in recipes.items():
        if before.get(name) != recipe:
            save_recipe(session, name, recipe, said, batch)
    return told

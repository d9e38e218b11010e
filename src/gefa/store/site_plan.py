"""The whole plan of the site: download and import."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass

from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.errors import GefaError
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import Place
from gefa.core.plan.site_plan import Difference, Pieces, composed, differences, divided, joined
from gefa.core.plan.unknown_names import unknown_parts, unknown_pictures, unknown_sources
from gefa.core.read.document import CANVAS_PATH
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store.models import History, RevisionState, Source, Step, new_id
from gefa.store.plans import (
    PlanUnreadable,
    change_plan,
    change_shared,
    expanded_for,
    own_plans,
    site_pieces,
)
from gefa.store.recipes import library, remove_recipe, save_recipe
from gefa.store.slots import slots_with
from gefa.store.sources import latest_revision, present, source_stems, survey_of
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


def unknown_in_import(session: Session, plan: Plan) -> list[tuple[Place, str]]:
    """Sources, parts, cuts and pictures that the site does not have and that its own plan does not
    name yet, each with its place in ``plan`` and the closest name.

    While sources are being read, or if some could not be, only sources are looked for; nothing if
    there are none.
    """
    sources = present(session)
    try:
        known = set(_names_in(site_plan(session)))
    except PlanUnreadable:
        known = set()
    if not sources or known.issuperset(_names_in(plan)):
        return []
    # Names that the plan has already are no news: what was downloaded can be imported again.
    wrong = list(unknown_sources(plan, known | {source.name for source in sources}))
    pieces, stems = divided(plan, {source.name for source in sources}), source_stems(session)
    parts, cuts = set(known), set(known)
    for source in sources:
        revision = latest_revision(session, source.id)
        if revision is None or revision.state is not RevisionState.READY:
            return wrong
        parts |= {part.path for part in survey_of(revision).parts}
        own = joined(pieces.shared, pieces.own.get(source.name, Plan()), source.name)
        prepared = expanded_for(
            session, source, revision, own.among(BUILT_IN | pieces.recipes), stems
        )
        cuts |= {name for job in prepared.jobs for name in (job.cut.name, job.cut.picture)}
        cuts |= {remark.cut for remark in (*prepared.failed, *prepared.left_out)}
    asked = {entry.part for entry in plan.cuts}
    return [
        *wrong,
        *unknown_parts(plan, asked - parts - {CANVAS_PATH}, parts),
        *unknown_pictures(plan, cuts - {""}),
    ]


def _names_in(plan: Plan) -> Iterator[str]:
    """All names of sources, parts, cuts and pictures that a plan speaks of."""
    for entry in plan.cuts:
        yield from (entry.part, entry.source or "")
    for sliced in plan.slices:
        yield sliced.source or ""
    for picture in plan.pictures:
        yield from (use.cut for use in picture.use)
    for page in plan.pages:
        yield from (shown.picture for shown in page.pictures)


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

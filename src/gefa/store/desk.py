"""Changes to many sources at once, each one step that can be undone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import timedelta

from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.core.plan.plan import SourcesEntry
from gefa.core.plan.treat_many import renamed, treated
from gefa.store import history
from gefa.store.history import Ways
from gefa.store.models import Source, Step, new_id, now
from gefa.store.plans import (
    SHARED,
    PlanUnreadable,
    change_plan,
    change_shared,
    own_plans,
    shared_plan,
)
from gefa.store.recipes import (
    library,
    redo_recipe,
    save_recipe,
    shelf_of_recipes,
    undo_recipe,
)
from gefa.store.removal import remove_source
from gefa.store.sources import present
from gefa.store.trail import Deed, note

HAD_BACK_WITHIN = timedelta(days=30)


def _called(sources: Sequence[Source]) -> str:
    return sources[0].name if len(sources) == 1 else f"{len(sources):,} sources"


# -- recipe and tags ---------------------------------------------------------------------


def give_recipe(session: Session, sources: Sequence[Source], recipe: str) -> None:
    """Set the recipe of these sources; empty for the site's default."""
    if recipe and recipe not in shelf_of_recipes(session):
        raise PlanError(f"there is no recipe {recipe!r}.")
    said = f"Recipe {recipe or 'automatic'} for {_called(sources)}"
    batch = new_id()
    cleared = 0
    for source, own in own_plans(session, sources).items():
        # What was chosen on the Cut screen would stand before it.
        if not isinstance(own, PlanUnreadable) and own.default is not None:
            kept = own.model_copy(update={"default": None})
            change_plan(session, session.get_one(Source, source), kept, said, batch)
            cleared += 1
    plan = treated(
        shared_plan(session),
        _names(sources),
        _names(present(session)),
        lambda entry: entry.model_copy(update={"recipe": recipe or None}),
    )
    if cleared:
        change_shared(session, plan, said, batch, cleared=cleared)
    else:
        change_shared(session, plan, said, batch)


def give_tags(
    session: Session, sources: Sequence[Source], add: Collection[str], remove: Collection[str]
) -> None:
    """Add and remove tags of these sources."""
    words = [*(f"+{tag}" for tag in add), *(f"-{tag}" for tag in remove)]
    said = f"Tags {' '.join(words)} for {_called(sources)}"

    def change(entry: SourcesEntry) -> SourcesEntry:
        kept = [tag for tag in entry.tags if tag not in remove]
        tags = tuple(dict.fromkeys([*kept, *add]))
        return entry.model_copy(update={"tags": tags})

    plan = treated(shared_plan(session), _names(sources), _names(present(session)), change)
    change_shared(session, plan, said)


def _names(sources: Sequence[Source]) -> set[str]:
    return {source.name for source in sources}


# -- moving ------------------------------------------------------------------------------


def move(session: Session, names: Mapping[str, str]) -> None:
    """Move sources, by id, to other paths; their revisions, plans and runs follow. PlanError if two
    would share a path."""
    changed = {id: name for id, name in names.items() if _source(session, id).name != name}
    if not changed:
        return
    sources = [_source(session, id) for id in changed]
    before = {source.id: source.name for source in sources}
    paths = {before[id]: name for id, name in changed.items()}
    _refuse_taken(session, changed)
    said = _moved_in_words(before, changed)
    batch = new_id()
    for name, recipe in library(session).items():
        mark = recipe.mark
        if mark is not None and mark.picture in paths:
            there = mark.model_copy(update={"picture": paths[mark.picture]})
            save_recipe(session, name, recipe.model_copy(update={"mark": there}), said, batch)
    plan = renamed(shared_plan(session), paths)
    _rename(session, changed)
    moved = {id: [before[id], changed[id]] for id in changed}
    change_shared(session, plan, said, batch, moved=moved)


def _moved_in_words(before: Mapping[str, str], after: Mapping[str, str]) -> str:
    if len(after) > 1:
        return f"Moved {len(after):,} sources"
    (id,) = after
    return f"Moved {before[id]} to {after[id]}"


def _refuse_taken(session: Session, names: Mapping[str, str]) -> None:
    wanted = Counter(names.values())
    twice = next((name for name, count in wanted.items() if count > 1), None)
    if twice is not None:
        raise PlanError(f"two sources would be called {twice}.", advice="Name them apart first.")
    for name in wanted:
        there = session.exec(select(Source).where(Source.name == name)).first()
        if there is not None and there.id not in names:
            if there.removed is not None:
                raise PlanError(
                    f"a source that was removed was called {name}.",
                    advice="Restore it, or remove it for good, on Removed sources.",
                )
            raise PlanError(f"there is a source called {name}.", advice="Choose another name.")


def _rename(session: Session, names: Mapping[str, str]) -> None:
    """In two rounds: names may rotate in a circle, and no two may be equal in between."""
    for round_of in ({id: f"/{id}" for id in names}, names):
        for id, name in round_of.items():
            source = session.get(Source, id)
            if source is not None:
                source.name = name
                session.add(source)
        session.flush()


def _source(session: Session, id: str) -> Source:
    source = session.get(Source, id)
    if source is None:
        raise PlanError("there is no such source any more.", advice="Load the page again.")
    return source


# -- removing ----------------------------------------------------------------------------


def remove(session: Session, sources: Sequence[Source]) -> None:
    """Remove sources; they can be restored for 30 days."""
    if not sources:
        return
    for source in sources:
        source.removed = now()
        session.add(source)
        note(session, Deed.SOURCE_REMOVED, source.name)
    ids = [source.id for source in sources]
    change_shared(session, shared_plan(session), f"Removed {_called(sources)}", removed=ids)


def restore(session: Session, sources: Sequence[Source]) -> None:
    """Restore removed sources."""
    if not sources:
        return
    _have_back(session, [source.id for source in sources])
    ids = [source.id for source in sources]
    said = f"Restored {_called(sources)}"
    change_shared(session, shared_plan(session), said, restored=ids)


def _have_back(session: Session, ids: Sequence[str]) -> None:
    for id in ids:
        source = session.get(Source, id)
        if source is not None and source.removed is not None:
            source.removed = None
            session.add(source)
            note(session, Deed.SOURCE_BROUGHT_IN, source.name, "restored")
    session.flush()


def _take_away(session: Session, ids: Sequence[str]) -> None:
    for id in ids:
        source = session.get(Source, id)
        if source is not None and source.removed is None:
            source.removed = now()
            session.add(source)
            note(session, Deed.SOURCE_REMOVED, source.name)
    session.flush()


def removed_sources(session: Session) -> Sequence[Source]:
    """Sources that can be restored, last removed first."""
    return session.exec(
        select(Source).where(col(Source.removed).is_not(None)).order_by(col(Source.removed).desc())
    ).all()


def sweep_removed(session: Session) -> int:
    """Delete sources that were removed more than 30 days ago; returns how many."""
    old = session.exec(
        select(Source).where(col(Source.removed) < now() - HAD_BACK_WITHIN).limit(20)
    ).all()
    for source in old:
        remove_source(session, source)
    return len(old)


# -- undo --------------------------------------------------------------------------------


def ways_of_desk(session: Session) -> Ways:
    """The changes that *Undo* and *Redo* on the desk stand for."""
    return history.ways(session, SHARED)


def undo_on_desk(session: Session) -> str:
    """Undo the last change on the desk; returns what it was, empty if there was none. PlanError if
    it can no longer be undone."""
    step = history.current(session, SHARED)
    if step is None or not history.ways(session, SHARED).undo:
        return ""
    _rename(session, _free(session, {i: pair[0] for i, pair in _moved(step).items()}))
    _have_back(session, step.content.get("removed", []))
    _take_away(session, step.content.get("restored", []))
    for subject in history.beside(session, step):
        _go_back(session, subject)
    note(session, Deed.PLAN_CHANGED, "the site", f"Undone: {step.said}")
    return history.undo(session, SHARED)


def redo_on_desk(session: Session) -> str:
    """Redo the change undone last; returns what it was, empty if there was none."""
    step = history.following(session, SHARED)
    if step is None:
        return ""
    _rename(session, _free(session, {i: pair[1] for i, pair in _moved(step).items()}))
    _take_away(session, step.content.get("removed", []))
    _have_back(session, step.content.get("restored", []))
    for subject in history.undone_beside(session, step):
        _go_forward(session, subject)
    note(session, Deed.PLAN_CHANGED, "the site", f"Redone: {step.said}")
    return history.redo(session, SHARED)


def _moved(step: Step) -> dict[str, list[str]]:
    moved: dict[str, list[str]] = step.content.get("moved", {})
    return moved


def _free(session: Session, names: dict[str, str]) -> dict[str, str]:
    _refuse_taken(session, names)
    return names


def _go_back(session: Session, subject: str) -> None:
    if subject.startswith("recipe "):
        undo_recipe(session, subject.removeprefix("recipe "))
    else:
        history.undo(session, subject)


def _go_forward(session: Session, subject: str) -> None:
    if subject.startswith("recipe "):
        redo_recipe(session, subject.removeprefix("recipe "))
    else:
        history.redo(session, subject)

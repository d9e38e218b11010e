"""The desk: the plan in pieces, what is done to many sources at once, and how it is undone."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.core.plan.plan import CutEntry, Plan, Rule, SourcesEntry
from gefa.core.plan.treat_many import tags_from, treated
from gefa.core.treat.recipe import BUILT_IN, Mark, Recipe
from gefa.store.desk import (
    give_recipe,
    give_tags,
    move,
    redo_on_desk,
    remove,
    removed_sources,
    restore,
    sweep_removed,
    undo_on_desk,
    ways_of_desk,
)
from gefa.store.models import Source, now
from gefa.store.plans import (
    change_plan,
    change_shared,
    own_plan,
    shared_plan,
    whole_plan,
)
from gefa.store.recipes import library, save_recipe
from gefa.store.site_plan import import_differences, import_plan, prepare_import, site_plan
from gefa.store.slots import add_slot, change_settings
from gefa.store.sources import all_sources, bring_in, latest_revision, present
from gefa.store.store import Store

SMALL = Recipe(formats=("jpeg",), widths=(90,))
PATHS = ("photos/a.jpg", "photos/b.jpg", "photos/sea/c.jpg", "poster.ora")


@pytest.fixture
def site(store: Store) -> Store:
    with store.session() as session:
        for path in PATHS:
            bring_in(session, path, store.blobs.put(path.encode()), "jpeg")
    return store


def called(session: Session, *paths: str) -> list[Source]:
    return [source for source in present(session) if source.name in paths]


def recipes_of(session: Session) -> dict[str, str | None]:
    return {source.name: whole_plan(session, source).default for source in present(session)}


def test_a_recipe_for_some_names_them_and_one_for_a_whole_entry_changes_that(site: Store) -> None:
    with site.session() as session:
        save_recipe(session, "card", SMALL, "Began it")
        entry = SourcesEntry(files=("photos/**",), recipe="figure", tags=("summer",))
        change_shared(session, Plan(sources=(entry,)), "began")
        give_recipe(session, called(session, "photos/a.jpg"), "card")
        files = [list(e.files) for e in shared_plan(session).sources]
        assert files == [["photos/a.jpg"], ["photos/**"]]
        assert recipes_of(session)["photos/a.jpg"] == "card"
        assert shared_plan(session).sources[0].tags == ("summer",)
        give_recipe(session, called(session, *PATHS[:3]), "icon")
        assert [(e.files, e.recipe) for e in shared_plan(session).sources] == [
            (("photos/**",), "icon")
        ]
        assert recipes_of(session)["poster.ora"] is None
        assert undo_on_desk(session) == "Recipe icon for 3 sources"
        assert recipes_of(session)["photos/b.jpg"] == "figure"
        with pytest.raises(PlanError, match="no recipe"):
            give_recipe(session, called(session, "poster.ora"), "nowhere")


def test_a_default_of_the_cut_screen_gives_way_and_comes_back(site: Store) -> None:
    with site.session() as session:
        (poster,) = called(session, "poster.ora")
        change_plan(session, poster, Plan(default="figure"), "Default recipe figure")
        give_recipe(session, called(session, *PATHS), "icon")
        assert set(recipes_of(session).values()) == {"icon"}
        undo_on_desk(session)
        assert recipes_of(session)["poster.ora"] == "figure"
        assert recipes_of(session)["photos/a.jpg"] is None
        redo_on_desk(session)
        assert set(recipes_of(session).values()) == {"icon"}


def test_tags_come_and_go(site: Store) -> None:
    with site.session() as session:
        give_tags(session, called(session, *PATHS[:2]), tags_from(" beach, low  tide,"), ())
        give_tags(session, called(session, "photos/a.jpg"), ["kite"], ["beach"])
        shared = shared_plan(session)
        tags = {path: e.tags if (e := shared.entry_for(path)) else () for path in PATHS}
        assert tags[PATHS[0]] == ("low tide", "kite")
        assert tags[PATHS[1]] == ("beach", "low tide")
        assert tags[PATHS[3]] == ()
    with pytest.raises(PlanError, match="longer than"):
        tags_from("x" * 61)


def test_what_says_no_more_than_others_is_not_written(site: Store) -> None:
    plan = Plan(sources=(SourcesEntry(files=("photos/**",), recipe="icon"),))
    changed = treated(plan, {PATHS[0]}, PATHS, lambda e: e.model_copy(update={"recipe": "figure"}))
    back = treated(changed, {PATHS[0]}, PATHS, lambda e: e.model_copy(update={"recipe": "icon"}))
    assert back.sources == plan.sources


def test_moving_keeps_revisions_cuts_and_what_the_plan_says(site: Store) -> None:
    with site.session() as session:
        (poster,) = called(session, "poster.ora")
        change_plan(session, poster, Plan(cuts=(CutEntry(part="Sky"),)), "Cut Sky")
        marked = SMALL.model_copy(update={"mark": Mark(picture="poster.ora")})
        save_recipe(session, "marked", marked, "Began it")
        rules = (Rule(sources="poster.ora", parts="*", recipe="icon"),)
        change_shared(session, Plan(rules=rules), "began")
        move(session, {poster.id: "designs/poster.ora"})
        assert present(session)[0].name == "designs/poster.ora"
        assert whole_plan(session, poster).cuts[0].part == "Sky"
        assert [rule.recipe for rule in whole_plan(session, poster).rules] == ["icon"]
        found = library(session)["marked"].mark
        assert found is not None
        assert found.picture == "designs/poster.ora"
        undo_on_desk(session)
        assert poster.name == "poster.ora"
        assert library(session)["marked"] == marked
        redo_on_desk(session)
        assert poster.name == "designs/poster.ora"


def test_names_go_round_in_a_circle_and_none_is_taken_twice(site: Store) -> None:
    with site.session() as session:
        a, b = called(session, *PATHS[:2])
        move(session, {a.id: b.name, b.id: a.name})
        assert (a.name, b.name) == (PATHS[1], PATHS[0])
        with pytest.raises(PlanError, match="there is a source called"):
            move(session, {a.id: "poster.ora"})
        with pytest.raises(PlanError, match="two sources would be called"):
            move(session, {a.id: "x.jpg", b.id: "x.jpg"})
        remove(session, [b])
        with pytest.raises(PlanError, match="that was removed"):
            move(session, {a.id: PATHS[0]})


def test_what_is_removed_can_be_had_back_for_a_month(site: Store) -> None:
    with site.session() as session:
        remove(session, called(session, *PATHS[:3]))
        assert [s.name for s, _ in all_sources(session)] == ["poster.ora"]
        assert ways_of_desk(session).undo == "Removed 3 sources"
        undo_on_desk(session)
        assert len(present(session)) == 4
        remove(session, called(session, PATHS[0], PATHS[1]))
        restore(session, called_removed(session, PATHS[0]))
        assert [s.name for s in removed_sources(session)] == [PATHS[1]]
        undo_on_desk(session)
        assert {s.name for s in removed_sources(session)} == {PATHS[0], PATHS[1]}
        for source in removed_sources(session):
            source.removed = now() - timedelta(days=31 if source.name == PATHS[1] else 29)
            session.add(source)
        session.flush()
        assert sweep_removed(session) == 1
        assert [s.name for s in removed_sources(session)] == [PATHS[0]]
        assert latest_revision(session, removed_sources(session)[0].id) is not None
    with site.session() as session:
        again, revision = bring_in(session, PATHS[0], site.blobs.put(b"anew"), "jpeg")
        assert (again.removed, revision.number) == (None, 2)


def called_removed(session: Session, path: str) -> list[Source]:
    return [source for source in removed_sources(session) if source.name == path]


def test_a_plan_is_given_out_and_taken_in_as_one_change(site: Store) -> None:
    with site.session() as session:
        (poster,) = called(session, "poster.ora")
        change_plan(session, poster, Plan(cuts=(CutEntry(part="Sky"),)), "Cut Sky")
        save_recipe(session, "card", SMALL, "Began it")
        save_recipe(session, "held", SMALL, "Began it")
        change_settings(session, add_slot(session, "wall", {}), {"recipe": "held"})
        before = site_plan(session)
        assert import_differences(session, before) == []
        new = Plan(
            out="img",
            recipes={"icon": SMALL},
            cuts=(CutEntry(source="poster.ora", part="Sea"), CutEntry(source="away.ora", part="X")),
        )
        differences = {(d.of, d.what): d.how for d in import_differences(session, new)}
        assert differences[("recipes", "card")] == "removed"
        assert differences[("the site", "out folder")] == "none → img"
        told = import_plan(session, prepare_import(session, new), "Imported gefa.toml")
        assert told == ["The recipe held stays: uploads to wall are treated by it."]
        assert [cut.part for cut in own_plan(session, poster).cuts] == ["Sea"]
        assert [cut.source for cut in shared_plan(session).cuts] == ["away.ora"]
        assert library(session).keys() == {"icon", "held"}
        assert undo_on_desk(session) == "Imported gefa.toml"
        assert site_plan(session) == before
        assert library(session)["card"] == SMALL
        assert redo_on_desk(session) == "Imported gefa.toml"
        assert whole_plan(session, poster).all_recipes["icon"] == SMALL
        assert whole_plan(session, poster).all_recipes["figure"] == BUILT_IN["figure"]


def test_what_is_undone_on_the_desk_leaves_what_was_changed_since(site: Store) -> None:
    with site.session() as session:
        (poster,) = called(session, "poster.ora")
        sea = Plan(cuts=(CutEntry(source="poster.ora", part="Sea"),))
        import_plan(session, prepare_import(session, sea), "Imported")
        change_plan(session, poster, Plan(cuts=(CutEntry(part="Sky"),)), "Cut Sky")
        undo_on_desk(session)
        assert [cut.part for cut in own_plan(session, poster).cuts] == ["Sky"]

"""One plan for the site in pieces and as a whole: what goes for a source is the same in both."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.glob import covers, escaped, literal
from gefa.core.errors import PlanError
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan, Rule, SliceEntry, SourcesEntry, Split
from gefa.core.plan.site_plan import Pieces, composed, differences, divided, joined, own_piece
from gefa.core.treat.recipe import Recipe

NAMES = ("designs/poster.ora", "photos/a*b.jpg", "photos/dune.jpg", "sheet.svg")
GLOBS = ("**", "photos/**", "designs/*", *map(escaped, NAMES))
PARTS = ("Sky", "Logo", "Icons/Kite")
PHOTO = Recipe(formats=("webp",), widths=(400,))
RECIPES = ("photo", "icon", "figure")

some_recipe = st.sampled_from(RECIPES)
maybe_recipe = st.none() | some_recipe


def rules(sources: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.lists(
        st.builds(Rule, parts=st.sampled_from(["*", *PARTS]), recipe=some_recipe, sources=sources),
        max_size=3,
    )


def cuts(source: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.lists(
        st.builds(CutEntry, part=st.sampled_from(PARTS), recipe=maybe_recipe, source=source),
        max_size=4,
    )


def slices(source: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.lists(
        st.builds(
            SliceEntry,
            split=st.builds(Split, columns=st.integers(1, 3), rows=st.integers(2, 3)),
            source=source,
        ),
        max_size=2,
    )


entries = st.lists(
    st.builds(
        SourcesEntry,
        files=st.lists(st.sampled_from(GLOBS), min_size=1, max_size=3).map(tuple),
        recipe=maybe_recipe,
        folder=st.none() | st.just("art"),
        tags=st.sampled_from([(), ("beach",)]),
    ),
    max_size=3,
)
anywhere = st.none() | st.sampled_from(NAMES)
shared_pieces = st.builds(
    Plan,
    default=maybe_recipe,
    sources=entries,
    rules=rules(st.none() | st.sampled_from(GLOBS)),
    cuts=cuts(anywhere),
    slices=slices(anywhere),
)
own_pieces = st.dictionaries(
    st.sampled_from(NAMES),
    st.builds(
        Plan,
        default=maybe_recipe,
        rules=rules(st.none()),
        cuts=cuts(st.none()),
        slices=slices(st.none()),
    ),
)
all_pieces = st.builds(Pieces, shared_pieces, own_pieces, st.just({"photo": PHOTO}))


def bare(plan: Plan) -> dict[str, Any]:
    """What goes for one source, without ids and without what says that it does."""
    fields = plan.model_dump(include={"default", "rules", "cuts", "slices", "originals"})
    for kind in ("rules", "cuts", "slices", "originals"):
        told = [{**e, "id": "", "source": "", "sources": ""} for e in fields[kind]]
        fields[kind] = sorted(told, key=str) if kind != "rules" else told
    return fields


@given(all_pieces, st.sampled_from(NAMES))
def test_the_whole_plan_says_of_a_source_what_its_pieces_say(pieces: Pieces, name: str) -> None:
    whole = composed(pieces)
    mine = joined(pieces.shared, pieces.own.get(name, Plan()), name)
    assert bare(whole.for_source(name)) == bare(mine)
    entry, before = whole.entry_for(name), pieces.shared.entry_for(name)
    assert (entry.tags if entry else ()) == (before.tags if before else ())
    assert whole.folder_for(name) == pieces.shared.folder_for(name)


@given(all_pieces)
def test_a_whole_plan_is_divided_and_put_together_again(pieces: Pieces) -> None:
    whole = parse_plan(composed(pieces).to_toml(), "gefa.toml")
    again = divided(whole, NAMES)
    for name in NAMES:
        mine = joined(pieces.shared, pieces.own.get(name, Plan()), name)
        assert bare(joined(again.shared, again.own.get(name, Plan()), name)) == bare(mine)
    assert differences(again, divided(composed(again), NAMES)) == []


@given(all_pieces, st.sampled_from(NAMES))
def test_nothing_edited_makes_nothing_of_a_sources_own(pieces: Pieces, name: str) -> None:
    own = Plan.model_validate(pieces.own.get(name, Plan()).model_dump())
    whole = joined(pieces.shared, own, name)
    assert bare(own_piece(whole, whole, own)) == bare(own)


@given(st.sampled_from(NAMES), st.text("ab*?\\/", max_size=6))
def test_the_one_path_of_a_glob_is_what_it_covers(name: str, glob: str) -> None:
    assert literal(escaped(name)) == name
    path = literal(glob)
    assert path is None or covers(glob, path)


def test_a_shared_cut_that_is_edited_is_the_sources_own_from_then_on() -> None:
    shared = Plan(cuts=(CutEntry(part="Logo", recipe="icon"), CutEntry(part="Sky")))
    whole = joined(shared, Plan(), "sheet.svg")
    assert [entry.id for entry in whole.cuts] == ["s0", "s1"]
    changed = [e.model_copy(update={"recipe": "figure"}) if e.id == "s0" else e for e in whole.cuts]
    own = own_piece(whole.with_entries(cuts=changed), whole, Plan())
    assert [(e.id, e.part, e.recipe) for e in own.cuts] == [("e0", "Logo", "figure")]
    again = joined(shared, own, "sheet.svg")
    assert [(e.part, e.recipe) for e in again.cuts] == [("Logo", "figure"), ("Sky", None)]
    assert bare(joined(shared, own_piece(whole, again, own), "sheet.svg")) == bare(whole)


def test_shared_slices_cannot_be_taken_from_one_source() -> None:
    shared = Plan(slices=(SliceEntry(split=Split(columns=2)),))
    whole = joined(shared, Plan(), "sheet.svg")
    with pytest.raises(PlanError, match="for every source"):
        own_piece(whole.with_entries(slices=[]), whole, Plan())


def test_differences_are_told_by_what_they_are_of() -> None:
    before = Pieces(Plan(out="img"), {"a.ora": Plan(cuts=(CutEntry(part="Sky"),))}, {})
    after = Pieces(Plan(out="public/img"), {}, {"card": PHOTO})
    assert [tuple(one) for one in differences(before, after)] == [
        ("recipes", "card", "added"),
        ("the site", "out folder", "img → public/img"),
        ("a.ora", "cuts by hand", "1 → 0"),
    ]

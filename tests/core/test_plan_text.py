"""A plan file written anew: comments and order stay, and it says what it is to say."""

from __future__ import annotations

import tomllib

from hypothesis import given
from hypothesis import strategies as st

from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan, Rule, SourcesEntry
from gefa.core.plan.plan_text import rewritten
from gefa.core.plan.site_plan import say_the_same

TEXT = """\
# The site of the festival.
out = "img"   # what is served

# Photographs are heavy.
[[sources]]
files = "photos/**"   # all of them
recipe="photo"

[[sources]]
files = ["designs/*"]
folder = "art"

# The first that matches wins.
[[rules]]
parts = "Icons/**"   # small
recipe = "icon"
[[rules]]
parts = "**"
leave_out = true

[recipes.photo]
formats = ["webp"]   # one is enough
widths  = [ 400, 800 ]

# By hand.
[[cuts]]
source = "designs/a.ora"
part = "Hero"
[cuts.size]   # for print
width = 60
unit = "mm"
"""
PLAN = parse_plan(TEXT, "gefa.toml")


def same(one: Plan, other: Plan) -> bool:
    return say_the_same(one, other, ["designs/a.ora"])


def write(plan: Plan) -> str:
    text = rewritten(TEXT, plan.checked(), same)
    assert same(parse_plan(text, "again"), plan.checked())
    return text


def test_what_says_the_same_stays_to_the_last_byte() -> None:
    assert write(PLAN) == TEXT


def test_only_the_keys_that_changed_are_set() -> None:
    rules = (PLAN.rules[0].model_copy(update={"recipe": "figure"}), PLAN.rules[1])
    photo = PLAN.recipes["photo"].model_copy(update={"widths": (300,)})
    text = write(PLAN.model_copy(update={"rules": rules, "recipes": {"photo": photo}}))
    expected = TEXT.replace('recipe = "icon"', 'recipe = "figure"').replace("[ 400, 800 ]", "[300]")
    assert text == expected


def test_entries_come_and_go_with_their_comments() -> None:
    new = Rule(parts="Badges/**", recipe="icon")
    cut = CutEntry(source="designs/a.ora", part="Other", name="other")
    text = write(
        PLAN.model_copy(
            update={
                "sources": PLAN.sources[1:],
                "rules": (PLAN.rules[0], new, PLAN.rules[1]),
                "cuts": (*PLAN.cuts, cut),
                "recipes": {**PLAN.recipes, "tiny": PLAN.recipes["photo"]},
                "default": "photo",
            }
        )
    )
    assert "Photographs are heavy" not in text
    kept = ("what is served", "The first that matches wins", "# small", "# By hand.", "# for print")
    for comment in (*kept, "one is enough", "[cuts.size]"):
        assert comment in text
    at = [text.index(f'"{parts}"') for parts in ("Icons/**", "Badges/**", "**")]
    assert at == sorted(at)
    assert tomllib.loads(text)["default"] == "photo"


def test_lists_written_in_one_line_are_written_anew() -> None:
    plan = parse_plan('rules = [{ parts = "A" }]  # short\n', "gefa.toml")
    more = plan.with_entries(rules=[*plan.rules, Rule(parts="B")])
    text = rewritten('rules = [{ parts = "A" }]  # short\n', more, same)
    assert same(parse_plan(text, "again"), more)


NAMES = st.sampled_from(["Icons/**", "Hero", 'a "quoted" one', "[[rules]]", "# no comment", "ü\n"])
RULES = st.lists(st.builds(Rule, parts=NAMES, recipe=st.sampled_from([None, "icon"])), max_size=4)
CUTS = st.lists(
    st.builds(CutEntry, source=st.sampled_from([None, "designs/a.ora", "b.ora"]), part=NAMES),
    max_size=4,
    unique_by=lambda cut: (cut.source, cut.part),
)
SOURCES = st.lists(
    st.builds(SourcesEntry, files=st.tuples(NAMES), recipe=st.sampled_from([None, "icon"])),
    max_size=3,
)


@given(RULES, CUTS, SOURCES, RULES, CUTS)
def test_whatever_is_changed_the_file_says_it(
    rules: list[Rule],
    cuts: list[CutEntry],
    sources: list[SourcesEntry],
    later_rules: list[Rule],
    later_cuts: list[CutEntry],
) -> None:
    plan = PLAN.with_entries(rules=rules, cuts=cuts).model_copy(update={"sources": tuple(sources)})
    text = write(plan)
    later = plan.with_entries(rules=later_rules, cuts=later_cuts).checked()
    assert same(parse_plan(rewritten(text, later, same), "later"), later)

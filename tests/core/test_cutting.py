"""Names, tags, plans, and which parts become cuts."""

from __future__ import annotations

from pathlib import Path

import pytest
import pyvips

from gefa.core.cut.glob import covers
from gefa.core.errors import PartMissing, PlanError
from gefa.core.make.prepare import prepare
from gefa.core.plan.gather import NOTHING_CHOSEN, gather
from gefa.core.plan.load import load_plan, parse_plan
from gefa.core.plan.plan import CutEntry, Plan, Rule
from gefa.core.read import read
from gefa.core.read.part_names import split_tags
from gefa.core.read.survey import Survey, outline, survey
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import BUILT_IN, Aim
from tests.make import G, L, flat, ora, photo


@pytest.mark.parametrize(
    ("raw", "name", "tags"),
    [
        ("Skyline #backdrop", "Skyline", ("backdrop",)),
        ("Badge #icon #figure", "Badge", ("icon", "figure")),
        ("#icon", "", ("icon",)),
        ("Plain", "Plain", ()),
        ("Number #1 seller", "Number #1 seller", ()),
        ("C# #icon", "C#", ("icon",)),
        ("tight#icon", "tight#icon", ()),
        ("  Two\n lines \t#icon ", "Two lines", ("icon",)),
        ("凧 #icon", "凧", ("icon",)),
        ("bell\x07 \u202egnp.exe", "bell gnp.exe", ()),
        ("#", "#", ()),
        ("", "", ()),
    ],
)
def test_tags(raw: str, name: str, tags: tuple[str, ...]) -> None:
    assert split_tags(raw) == (name, tags)


def test_a_very_long_name_is_cut_short() -> None:
    assert len(split_tags("x" * 5_000)[0]) == 300


@pytest.fixture(scope="module")
def design(tmp_path_factory: pytest.TempPathFactory) -> Survey:
    file = tmp_path_factory.mktemp("design") / "design.ora"
    layers = [
        L("Pin #icon", flat(9, 9)),
        L("Both #icon #figure", flat(9, 9)),
        L("Typo #icno", flat(9, 9)),
        L("Nothing like it #zzzzzz", flat(9, 9)),
        L("Plain", flat(9, 9)),
        G("Icons", [L("One", flat(5, 5)), G("More", [L("Two", flat(5, 5))])]),
        L("Secret #icon", flat(9, 9), 0, 0, {"visibility": "hidden"}),
    ]
    return survey(read(ora(file, 20, 20, layers)))


def names(survey: Survey, plan: Plan, default: bool = False) -> list[tuple[str, str, str, str]]:
    found = gather(survey, plan, default=default)
    return [(cut.part, cut.name, cut.recipe, cut.origin.value) for cut in found.cuts]


def test_cuts_by_tag_in_the_order_of_the_tree(design: Survey) -> None:
    assert names(design, Plan()) == [
        ("Pin", "Pin", "icon", "tag"),
        ("Both", "Both", "icon", "tag"),
        ("Both", "Both-figure", "figure", "tag"),
        ("Secret", "Secret", "icon", "tag"),
    ]


def test_an_unknown_tag_is_told_with_the_closest_recipe(design: Survey) -> None:
    reasons = {r.cut: r.reason for r in gather(design, Plan(), default=False).warnings}
    assert "#icno" in reasons["Typo"]
    assert "'icon'" in reasons["Typo"]
    assert "backdrop, figure, icon" in reasons["Nothing like it"]


def test_a_hand_stands_over_a_tag(design: Survey) -> None:
    plan = Plan(
        cuts=(
            CutEntry(part="Pin", leave_out=True),
            CutEntry(part="Both", recipe="backdrop", name="both sides"),
            CutEntry(part="Plain"),
            CutEntry(part="Gone"),
            CutEntry(part="Typo", recipe="figrue"),
        )
    )
    assert names(design, plan) == [
        ("Both", "both sides", "backdrop", "hand"),
        ("Plain", "Plain", "figure", "hand"),
        ("Secret", "Secret", "icon", "tag"),
    ]
    found = gather(design, plan, default=False)
    reasons = {r.cut: r.reason for r in [*found.warnings, *found.unmatched]}
    assert "has no part 'Gone'" in reasons["Gone"]
    assert "'figure'" in reasons["Typo"]


def test_the_first_rule_that_matches_wins_and_tags_stand_over_rules(design: Survey) -> None:
    plan = Plan(
        rules=(
            Rule(parts="Icons/One", leave_out=True),
            Rule(parts="Icons/**", recipe="icon"),
            Rule(parts="Pin", recipe="backdrop"),
        )
    )
    found = gather(design, plan, default=False)
    ruled = [(cut.part, cut.recipe) for cut in found.cuts if cut.origin.value == "rule"]
    assert ruled == [("Icons/More", "icon"), ("Icons/More/Two", "icon")]
    assert [remark.cut for remark in found.left_out] == ["Icons/One"]


@pytest.mark.parametrize(
    ("glob", "path", "expected"),
    [
        ("Icons/*", "Icons/One", True),
        ("Icons/*", "Icons/More/Two", False),
        ("**", "Icons/More/Two", True),
        ("I?ons", "Icons", True),
        ("Icons", "Icons2", False),
        ("[x]", "[x]", True),
        ("*", "a.b", True),
    ],
)
def test_globs(design: Survey, glob: str, path: str, expected: bool) -> None:
    part = design.parts[0].model_copy(update={"path": path})
    assert covers(glob, part.path) is expected


def test_by_default_every_named_top_level_part_is_cut(tmp_path: Path) -> None:
    layers = [
        G("Front", [L("inner", flat(3, 3))]),
        L("Back", flat(9, 9)),
        L("Hidden", flat(3, 3), 0, 0, {"visibility": "hidden"}),
    ]
    tree = outline(read(ora(tmp_path / "plain.ora", 9, 9, layers)))
    found = gather(tree, Plan(), default=True)
    assert [cut.part for cut in found.cuts] == ["Front", "Back"]
    assert {cut.recipe for cut in found.cuts} == {"figure"}
    assert [remark.cut for remark in found.left_out] == ["Hidden"]
    assert not gather(tree, Plan(), default=False).cuts


def test_by_default_a_picture_is_its_own_cut(tmp_path: Path) -> None:
    for name, image, recipe in (
        ("opaque.png", photo(9, 9), "backdrop"),
        ("clear.png", flat(9, 9, (1, 2, 3, 4)), "figure"),
    ):
        (tmp_path / name).write_bytes(image.pngsave_buffer())
        (cut,) = gather(outline(read(tmp_path / name)), Plan(), default=True).cuts
        assert (cut.part, cut.name, cut.recipe) == ("/", Path(name).stem, recipe)


def test_tags_only_are_taken_where_there_are_tags(design: Survey) -> None:
    assert names(design, Plan(), default=True) == names(design, Plan())


def test_a_part_that_is_not_there_is_named(design: Survey) -> None:
    with pytest.raises(PartMissing, match="Nowhere"):
        design.part("Nowhere")


PLAN = """
[recipes.wide]
formats = ["webp", "avif", "jpeg"]
widths  = [1920, 480, 480]
quality = { avif = 50, webp = 70, jpeg = 80 }
alpha   = "matte"
matte   = "#102030"
name    = "{source}/{cut}-{width}.{ext}"

[[rules]]
parts  = "Hero/*"
recipe = "wide"

[[cuts]]
part   = "Footer/Pennant"
name   = "pennant"
recipe = "icon"
"""


def test_a_plan_file_is_read() -> None:
    plan = parse_plan(PLAN, "gefa.toml")
    wide = plan.recipe("wide")
    assert wide.formats == (Format.AVIF, Format.WEBP, Format.JPEG)
    assert wide.widths == (480, 1920)
    assert wide.quality_for(Format.WEBP) == 70
    assert plan.rules[0].parts == "Hero/*"
    assert plan.cuts[0].name == "pennant"
    assert plan.recipe("icon") is BUILT_IN["icon"]
    with pytest.raises(PlanError, match="'backdrop'"):
        plan.recipe("backdorp")


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("[recipes.x", "is not TOML"),
        ('[recipes.x]\nformats=["bmp"]\nwidths=[9]', "recipes.x.formats[0]"),
        ('[recipes.x]\nformats=["png"]\nwidths=[]', "widths"),
        ('[recipes.x]\nformats=["png"]\nwidths=[0]', "widths[0]"),
        ('[recipes.x]\nformats=["png"]\nwidths=[9]\nname="a"', ""),
        ('[recipes.x]\nformats=["png"]\nwidths=[9,10]\nname="{cut}.{ext}"', "{width}"),
        ('[recipes.x]\nformats=["png","webp"]\nwidths=[9]\nname="{cut}"', "{ext}"),
        ('[recipes.x]\nformats=["png"]\nwidths=[9]\nname="{cut.__class__}"', "name template"),
        ('[recipes.x]\nformats=["png"]\nwidths=[9]\nname="{cut"', "braces"),
        ('[recipes.x]\nformats=["png"]\nwidths=[9]\nmatte="white"', "matte"),
        ('[recipes.x]\nformats=["png"]\nwidths=[9]\nquality={png=0}', "quality"),
        ('[recipes."a b"]\nformats=["png"]\nwidths=[9]', "not a recipe name"),
        ("[[cuts]]\nrecipe='icon'", "cuts[0].part"),
        ("colour = 3", "unknown key 'colour'"),
    ],
)
def test_a_wrong_plan_says_where_and_what(text: str, reason: str) -> None:
    if not reason:
        parse_plan(text, "gefa.toml")
        return
    with pytest.raises(PlanError) as caught:
        parse_plan(text, "gefa.toml")
    assert reason in str(caught.value)
    assert str(caught.value).startswith("gefa.toml: ")


def test_a_missing_plan_is_named(tmp_path: Path) -> None:
    with pytest.raises(PlanError, match=r"none\.toml"):
        load_plan(tmp_path / "none.toml")


def test_three_recipes_are_always_there() -> None:
    assert set(BUILT_IN) == {"backdrop", "figure", "icon"}
    for recipe in BUILT_IN.values():
        assert recipe.auto
        assert len(recipe.widths) >= 3
    looks = {name: recipe.quality for name, recipe in BUILT_IN.items()}
    assert looks == {"backdrop": Aim(look=75), "figure": Aim(look=80), "icon": Aim(look=85)}


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("Glued#figure", "Name it 'Glued #figure'"),
        ("Spaced # figure", "Name it 'Spaced #figure'"),
        ("Wide ＃figure", "Name it 'Wide #figure'"),
        ("#figure Before", "Name it 'Before #figure'"),
        ("Stop #figure.", "Name it 'Stop #figure'"),
        ("(#figure) Round", "#figure"),
        ("Typo#figur", "#figure"),
    ],
)
def test_what_nearly_is_a_tag_is_told(tmp_path: Path, name: str, words: str) -> None:
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, [L(name, flat(9, 9))])))
    (warning,) = gather(source, Plan(), default=True).warnings
    assert "not read as a tag" in warning.reason
    assert words in warning.reason


@pytest.mark.parametrize("name", ["Kite #1", "Colour #ff8800", "No. 7", "C#", "#"])
def test_numbers_and_colours_are_no_tags(tmp_path: Path, name: str) -> None:
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, [L(name, flat(9, 9))])))
    found = gather(source, Plan(), default=True)
    assert not [warning for warning in found.warnings if "not read as a tag" in warning.reason]


def test_one_unknown_tag_does_not_switch_the_default_off(tmp_path: Path) -> None:
    layers = [L("Kite #figrue", flat(9, 9)), L("Sky", flat(9, 9)), L("Sand", flat(9, 9))]
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, layers)))
    found = gather(source, Plan(), default=True)
    assert {"Sky", "Sand"} <= {cut.name for cut in found.cuts}
    assert any("Did you mean 'figure'?" in warning.reason for warning in found.warnings)


def test_a_rule_or_an_entry_that_matches_nothing_is_told_with_the_closest(tmp_path: Path) -> None:
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, [L("Kite", flat(9, 9))])))
    plan = Plan(
        rules=(Rule(parts="Kites/*", recipe="icon"), Rule(parts="Kit*", recipe="icon")),
        cuts=(CutEntry(part="Kitty"),),
    )
    reasons = [remark.reason for remark in gather(source, plan, default=False).unmatched]
    assert reasons == [
        "the source has no part 'Kitty'. The closest part is 'Kite'.",
        "the rule 'Kites/*' matches no part. The closest part is 'Kite'.",
    ]


def test_a_design_of_which_the_plan_chooses_nothing_is_told(tmp_path: Path) -> None:
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, [L("Kite", flat(9, 9))])))
    for rule, told in (("Boats/*", [NOTHING_CHOSEN]), ("Kite", [])):
        found = gather(source, Plan(rules=(Rule(parts=rule, recipe="icon"),)), default=True)
        assert [remark.reason for remark in found.left_out] == told


def test_a_rule_over_an_empty_layer_is_no_failure(tmp_path: Path) -> None:
    empty = pyvips.Image.black(9, 9, bands=4).copy(interpretation="srgb")
    layers = [L("Icons", empty), L("Kite", flat(9, 9))]
    source = survey(read(ora(tmp_path / "d.ora", 40, 40, layers)))
    prepared = prepare(source, Plan(rules=(Rule(parts="**", recipe="icon"),)))
    assert not prepared.failed
    assert [remark.cut for remark in prepared.left_out] == ["Icons"]

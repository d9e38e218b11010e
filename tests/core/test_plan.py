"""A plan for a whole site, and what a layer's name may ask for."""

from __future__ import annotations

import re
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.glob import covers
from gefa.core.cut.slice_geometry import even_lines, even_spans
from gefa.core.errors import PlanError
from gefa.core.make.prepare import prepare
from gefa.core.plan.editor import PlanEditor
from gefa.core.plan.gather import gather
from gefa.core.plan.load import parse_plan
from gefa.core.plan.pages import AudienceEntry, PageEntry, PictureEntry
from gefa.core.plan.plan import (
    CheckTable,
    CutEntry,
    OriginalsEntry,
    Plan,
    Rule,
    SliceEntry,
    SourcesEntry,
)
from gefa.core.plan.problems import line_of
from gefa.core.plan.tag_words import read_words
from gefa.core.read import read
from gefa.core.read.part_names import split_tags
from gefa.core.read.survey import Survey, survey
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import Aim, Recipe
from tests.make import L, dot, ora, photo

SITE = """
out = "public/img"
default = "figure"

[[sources]]
files  = ["photos/**/*.jpg", "photos/**/*.heic"]
recipe = "backdrop"
tags   = ["beach"]

[[sources]]
files  = "designs/*"
folder = "art"

[[rules]]
sources = "designs/*.ora"
parts   = "Icons/**"
recipe  = "icon"

[[rules]]
parts  = "Kites/*"

[[cuts]]
source = "designs/poster.ora"
part   = "Footer/Pennant"

[[cuts]]
part   = "Everywhere"

[[slices]]
source = "photos/shore.jpg"
split  = { columns = 4, rows = 2, gap = 10, margin = 20 }

[[originals]]
sources = "designs/*"
"""


def test_a_site_says_what_goes_for_each_source() -> None:
    plan = parse_plan(SITE, "gefa.toml")
    poster = plan.for_source("designs/poster.ora")
    assert [rule.parts for rule in poster.rules] == ["Icons/**", "Kites/*"]
    assert [cut.part for cut in poster.cuts] == ["Footer/Pennant", "Everywhere"]
    assert (poster.default, poster.slices, len(poster.originals)) == ("figure", (), 1)
    shore = plan.for_source("photos/shore.jpg")
    assert [rule.parts for rule in shore.rules] == ["Kites/*"]
    assert [cut.part for cut in shore.cuts] == ["Everywhere"]
    assert (shore.default, len(shore.slices), shore.originals) == ("backdrop", 1, ())
    assert plan.for_source("photos/2026/may/dune.heic").default == "backdrop"
    assert plan.for_source("photos/dune.png").default == "figure"
    assert plan.folder_for("designs/poster.ora") == "art"
    assert plan.folder_for("photos/2026/dune.jpg") == "photos/2026"
    assert plan.folder_for("logo.svg") == ""
    assert parse_plan(plan.to_toml(), "again").model_dump() == plan.model_dump()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('out = "../elsewhere"', "not a path below the folder of the plan"),
        ('out = "/srv/www"', "not a path below the folder of the plan"),
        ('out = "C:\\\\www"', "not a path below the folder of the plan"),
        ("[[sources]]\nfiles = []", "files"),
        ('[[sources]]\nfiles = "a"\nfolder = "../x"', "not a path below"),
        ('[[sources]]\nfile = "a"', "file"),
        ('[[cuts]]\nsource = "../x.ora"\npart = "/"', "not a path below"),
        ("[[slices]]\nsplit = { columns = 2, gap = -1 }", "gap"),
    ],
)
def test_what_a_site_cannot_say_is_told_with_its_place(text: str, told: str) -> None:
    with pytest.raises(PlanError, match=told):
        parse_plan(text, "gefa.toml")


@pytest.mark.parametrize(
    ("glob", "path", "covered"),
    [
        ("photos/**/*.jpg", "photos/a.jpg", True),
        ("photos/**/*.jpg", "photos/2026/may/a.jpg", True),
        ("photos/**/*.jpg", "photosx/a.jpg", False),
        ("photos/**/*.jpg", "photos/2026/a.png", False),
        ("**/a.jpg", "a.jpg", True),
        ("**/a.jpg", "x/y/a.jpg", True),
        ("**/a.jpg", "x/ya.jpg", False),
        ("a**/b", "a/b", True),
        ("a/**", "a/b/c", True),
        ("a/**/", "a/", True),
    ],
)
def test_stars_cover_no_level_or_any(glob: str, path: str, covered: bool) -> None:
    assert covers(glob, path) is covered


@given(st.integers(1, 3000), st.integers(1, 40), st.integers(0, 60), st.integers(0, 200))
def test_a_split_with_gaps_and_margins_leaves_just_those_out(
    length: int, pieces: int, gap: int, margin: int
) -> None:
    spans = even_spans(length, pieces, gap, margin)
    fits = length - 2 * margin >= pieces + gap * (pieces - 1)
    assert (len(spans) == pieces) if fits else (len(spans) < pieces)
    if not spans:
        return
    assert (spans[0][0], spans[-1][1]) == (margin, length - margin)
    assert all(one[1] + gap == other[0] for one, other in pairwise(spans))
    widths = {end - start for start, end in spans}
    assert min(widths) >= 1
    assert max(widths) - min(widths) <= 1
    if not gap and not margin:
        assert [end for _, end in spans[:-1]] == even_lines(length, pieces)


def test_a_split_that_does_not_fit_says_so(tmp_path: Path) -> None:
    photo(40, 30).pngsave(str(tmp_path / "small.png"))
    found = survey(read(tmp_path / "small.png"))
    plan = parse_plan("[[slices]]\nsplit = { columns = 4, rows = 2, gap = 20, margin = 9 }", "p")
    gathered = gather(found, plan, default=False)
    assert [(cut.rect.x, cut.rect.width) for cut in gathered.cuts if cut.rect] == [(9, 1), (30, 1)]
    (warning,) = gathered.warnings
    assert "a split into 4 × 2 makes 2 × 1 slices only" in warning.reason
    assert "less gaps of 20 and margins of 9" in warning.reason


# -- words after a tag -------------------------------------------------------------------------


def named(tmp_path: Path, *names: str) -> Survey:
    layers = [L(name, dot(300, 200, (10, 10, 280, 180))) for name in names]
    return survey(read(ora(tmp_path / "named.ora", 300, 200, layers)))


def test_words_after_a_tag_are_exceptions_of_that_cut(tmp_path: Path) -> None:
    found = named(
        tmp_path,
        "Skyline #backdrop look=60 widths=120,60 #icon",
        "Badge #icon width=96",
        "Hero #figure formats=webp,jpg name=front max_bytes=9000",
        "Crest #figure width=60mm dpi=100 quality=avif:40",
    )
    prepared = prepare(found, Plan())
    assert prepared.failed == []
    assert [(w.cut, w.reason) for w in prepared.warnings] == [
        ("Crest", "100 dpi cannot be written into AVIF and WebP files")
    ]
    jobs = {job.cut.name: job for job in prepared.jobs}
    assert list(jobs) == ["Skyline", "Skyline-icon", "Badge", "front", "Crest"]
    skyline = jobs["Skyline"]
    assert [part.path for part in found.parts][1] == "Skyline"
    assert {v.width for v in skyline.variants} == {60, 120}
    assert {v.quality for v in skyline.variants if FORMATS[v.format].lossy} == {Aim(look=60)}
    assert {v.width for v in jobs["Skyline-icon"].variants} == {48, 96, 192}
    assert {v.width for v in jobs["Badge"].variants} == {96}
    assert {v.format for v in jobs["front"].variants} == {Format.WEBP, Format.JPEG}
    assert {v.quality for v in jobs["front"].variants} == {Aim(max_bytes=9000)}
    assert {v.path for v in jobs["front"].variants} >= {"front-280.webp"}
    assert {v.width for v in jobs["Crest"].variants} == {236}
    qualities = {v.format: v.quality for v in jobs["Crest"].variants}
    assert (qualities[Format.AVIF], qualities[Format.WEBP]) == (40, Aim(look=80))
    assert set(qualities) == {Format.AVIF, Format.WEBP, Format.PNG}, "no look compares them"


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("lok=60", "Did you mean 'look'?"),
        ("wdths=4", "Did you mean 'widths'?"),
        ("zzz=1", "Known: dpi, formats"),
        ("look=600", "give 99 or less"),
        ("look=much", "give a number"),
        ("widths=0", "give 1 or more"),
        ("widths=1,x", "give a whole number"),
        ("formats=gif", "use one of svg, avif, webp, jpeg, png"),
        ("quality=avif", "give a whole number"),
        ("quality=avif:0", "from 1 to 100"),
        ("width=wide", "write a length such as 96"),
        ("dpi=0 width=5mm", "1 to 10,000"),
        ("look=60 quality=70", "replaces an earlier word"),
        ("name=", "must not be empty"),
    ],
)
def test_a_word_that_cannot_be_is_told_and_costs_no_other(words: str, told: str) -> None:
    assert "needs a width or a height" in read_words("Sky", "dpi=300").problems[0]
    found = read_words("Sky", f"{words} height=50")
    assert any(told in problem for problem in found.problems), found.problems
    assert found.own["size"].height == 50


def test_a_wrong_word_is_a_warning_of_its_part(tmp_path: Path) -> None:
    prepared = prepare(named(tmp_path, "Skyline #backdrop wdths=60 look=50"), Plan())
    (warning,) = prepared.warnings
    assert warning.part == "Skyline"
    assert warning.reason.startswith("the tag #backdrop: 'wdths=60'")
    qualities = {v.quality for v in prepared.jobs[0].variants if v.format is not Format.PNG}
    assert qualities - {None} == {Aim(look=50)}


def test_exceptions_that_do_not_fit_the_recipe_fail_that_cut_only(tmp_path: Path) -> None:
    plan = parse_plan('[recipes.one]\nformats = ["webp"]\nwidths = [90]\nname = "{cut}.{ext}"', "p")
    found = named(tmp_path, "Sky #one widths=40,80", "Sea #one")
    prepared = prepare(found, plan)
    assert [job.cut.name for job in prepared.jobs] == ["Sea"]
    (failure,) = prepared.failed
    assert "do not fit the recipe one: the name template needs {width}" in failure.reason


def test_a_tag_keeps_only_the_words_that_follow_it() -> None:
    assert split_tags("A #x a=1 #y b=2 c=3") == ("A", ("x a=1", "y b=2 c=3"))
    assert split_tags("A #x a = 1") == ("A #x a = 1", ())
    assert split_tags("#icon width=9") == ("", ("icon width=9",))


def test_a_row_that_is_changed_by_hand_keeps_what_its_name_asks_for(tmp_path: Path) -> None:
    found = named(tmp_path, "Hero #figure formats=webp look=70 name=front", "Sea #icon #figure")
    plan = PlanEditor(Plan(), found).resize("Hero", "", None)
    (entry,) = plan.cuts
    assert (entry.name, entry.recipe, entry.formats) == ("front", "figure", (Format.WEBP,))
    assert entry.quality == Aim(look=70)
    before, after = (prepare(found, each).jobs for each in (Plan(), plan))
    assert [job.variants for job in before] == [job.variants for job in after]
    # Taking an exception back takes back what a hand said, not what the design says.
    judged = PlanEditor(plan, found).judge("Hero", plan.cuts[0].id, Aim(look=90))
    assert PlanEditor(judged, found).follow_default(["Hero"]).cuts == ()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (
            '[recipes.card]\nformats = ["webp"]\nwidts = [300]\n',
            "line 3: recipes.card: unknown key 'widts'",
        ),
        ('[recipes.card]\nformats = ["webp"]\nwidts = [300]\n', "did you mean 'widths'?"),
        ('[[cuts]]\npart = "a"\n\n[[cuts]]\npart = ""\n', "line 5: cuts[1].part"),
        (
            '[[rules]]\nparts = "*"\n[[slices]]\nsplit = { columns = 0 }\n',
            "line 4: slices[0].split",
        ),
        ("[[slices]]\n[slices.split]\ncolumns = 9999\n", "line 3: slices[0].split.columns"),
        ('[[sources]]\nrecipe = "card"\n', "line 1: sources[0].files"),
        ('out = "../x"\n', "line 1: out"),
        ('"odd key" = 1\n', "line 1: unknown key 'odd key'"),
    ],
)
def test_what_is_wrong_is_told_with_its_line(text: str, told: str) -> None:
    with pytest.raises(PlanError) as found:
        parse_plan(text, "gefa.toml")
    assert told in str(found.value)


@given(st.text(max_size=300), st.lists(st.integers(0, 3) | st.text("abc", max_size=2), max_size=4))
def test_lines_are_told_of_any_text(text: str, place: list[int | str]) -> None:
    line = line_of(text, tuple(place))
    assert line is None or 1 <= line <= len(text.splitlines())


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("a." * 20_000 + "a = 1", "line 1: a key has more than 20 dots"),
        ("\nx = {" + "'a'." * 30 + "b = 1}", "line 2: a key has more than 20 dots"),
        ("a = " + "[" * 3000, "more than 64 levels deep"),
        ("x = " + "9" * 5000, "a number with thousands of digits"),
        ("a" * 100_000, "is not TOML"),
        ("".join(f"[recipes.r{i}]\n" for i in range(3000)), "and 2,980 more"),
        ("".join(f'[[rules]]\nparts = "{i}"\n' for i in range(2001)), "2,001 rules; the limit is 2,000"),
        ("[[slices]]\nsplit = { columns = 60, rows = 60 }\n" * 2, "makes 7,200 slices"),
    ],
)  # fmt: skip
def test_a_plan_of_a_stranger_costs_little_and_its_limits_are_told(text: str, told: str) -> None:
    began = time.process_time()
    with pytest.raises(PlanError, match=re.escape(told)):
        parse_plan(text, "gefa.toml")
    assert time.process_time() - began < 2


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('default = "fgure"', "line 1: default: unknown recipe 'fgure'. Did you mean 'figure'?"),
        ('\n[[sources]]\nfiles = "a"\nrecipe = "foto"', "line 4: sources[0].recipe: unknown recipe 'foto'. Known: backdrop, figure, icon"),
        ('[[rules]]\nparts = "a"\nrecipe = "icn"', "line 3: rules[0].recipe: unknown recipe 'icn'"),
        ('[[cuts]]\npart = "a"\nrecipe = "icn"', "line 3: cuts[0].recipe: unknown recipe 'icn'"),
        ('[[slices]]\nsplit = { columns = 2 }\n[slices.cells.r1-c1]\nrecipe = "x"', "line 4: slices[0].cells.r1-c1.recipe: unknown recipe 'x'"),
    ],
)  # fmt: skip
def test_a_recipe_that_is_not_there_is_an_error(text: str, told: str) -> None:
    with pytest.raises(PlanError, match=re.escape(told)):
        parse_plan(text, "gefa.toml")


LIBRARY_WORDS = re.compile(
    r"[Ii]nput should|valid (string|integer|tuple|dictionary)|instance of|constrained|literal\[|"
    r"Field required|validation|pydantic|function-|parse"
)


def test_no_message_about_a_plan_has_words_of_a_library() -> None:
    """Each key of each table with a value of each wrong type, misspelt, and left out."""
    entries = {
        "sources": SourcesEntry, "rules": Rule, "cuts": CutEntry, "slices": SliceEntry,
        "originals": OriginalsEntry, "pictures": PictureEntry, "pages": PageEntry, "audiences": AudienceEntry,
    }  # fmt: skip
    tables: dict[str, Any] = {f"[[{n}]]": model for n, model in entries.items()}
    tables |= {"": Plan, "[recipes.a]": Recipe, "[check]": CheckTable}
    values = ("5", "-5", "1e999", '"x"', '""', "true", "[]", "[[1]]", '["x"]', "{}", "{ x = 1 }")
    told = set()
    for header, model in tables.items():
        for key in [*model.model_fields, "x y", *(f"{key}s" for key in model.model_fields)]:
            for value in values:
                try:
                    parse_plan(f'{header}\n"{key}" = {value}\n', "gefa.toml")
                except PlanError as error:
                    told.add(str(error))
    assert len(told) > 300
    assert [text for text in told if LIBRARY_WORDS.search(text)] == []
    assert all("line " in text for text in told), "each says where"

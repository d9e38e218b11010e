"""``gefa weigh``, ``gefa markup`` and ``gefa.site``, on a small site as people keep it."""

from __future__ import annotations

import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest
from jinja2 import Environment

from gefa.core.errors import PlanError
from gefa.core.plan.load import load_plan
from gefa.site import Pictures
from tests.make import L, ora, photo
from tests.test_cli import gefa, manifest

PLAN = """\
# A small site.
out = "img"

[recipes.wide]   # too many px for everybody
formats = ["webp", "jpeg"]
widths  = [900]
every_format = true

[[sources]]
files  = "*.png"
recipe = "wide"

[[sources]]
files  = "*.ora"

[[pages]]
name     = "home"   # what people see first
pictures = [
  { picture = "hero", sizes = "100vw", loading = "eager" },
  { picture = "dune", sizes = "300px", seen = 0.5 },
]
budget   = { bytes = 2000, at = "mean" }

[[audiences]]
name = "visitors"
file = "visitors.csv"
"""
LAYERS = (
    ("Hero wide #wide widths=600,800 picture=hero", 800, 300),
    ("Hero tall #wide widths=300,400 picture=hero media=max-width:600px", 400, 600),
)


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A plan, a photograph, a design whose layers make a picture, an audience; exported."""
    folder = tmp_path_factory.mktemp("site")
    photo(900, 600, 3).pngsave(str(folder / "dune.png"))
    layers = [L(name, photo(width, height, at)) for at, (name, width, height) in enumerate(LAYERS)]
    ora(folder / "cover.ora", 800, 600, layers)
    (folder / "gefa.toml").write_text(PLAN)
    rows = "viewport_width,device_pixel_ratio,share\n390,1,3\n1280,1,1\n"
    (folder / "visitors.csv").write_text(rows)
    done = gefa("export", cwd=folder)
    assert done.returncode == 0, done.stderr
    return folder


def test_pages_are_weighed_and_a_budget_ends_the_build(site: Path) -> None:
    told = gefa("weigh", cwd=site)
    assert told.returncode == 1
    assert re.search(r"^home +[\d.]+ kB .* over: 2.0 kB at mean$", told.stdout, re.M)
    assert "home: " in told.stdout
    assert "over its budget of 2.0 kB. Heaviest: " in told.stdout
    checked = gefa("check", cwd=site)
    assert checked.returncode == 1
    assert "budget: page home: " in checked.stderr
    assert "Heaviest: " in checked.stderr


def test_what_each_screen_is_sent_is_plain_data(site: Path) -> None:
    found = json.loads(gefa("weigh", "home", "--format", "json", cwd=site).stdout)
    (page,) = found["pages"]
    narrow, wide = page["visits"]
    assert page["audience"] == "visitors"
    assert (narrow["share"], wide["share"]) == (0.75, 0.25)
    assert [file["path"] for file in narrow["files"]] == ["Hero-tall-400.webp", "dune-900.webp"]
    assert [file["path"] for file in wide["files"]] == ["Hero-wide-800.webp", "dune-900.webp"]
    sizes = {file.path: file.bytes for file in manifest(site / "img").files}
    half = sizes["dune-900.webp"] / 2
    assert narrow["bytes"] == round(sizes["Hero-tall-400.webp"] + half)
    assert wide["bytes"] == round(sizes["Hero-wide-800.webp"] + half)
    assert page["mean"] == pytest.approx(0.75 * narrow["bytes"] + 0.25 * wide["bytes"], abs=1)
    assert page["blurred"] == 0.25, "1280 px are needed and 800 there"
    suite = ElementTree.fromstring(gefa("weigh", "--format", "junit", cwd=site).stdout)
    assert (suite.get("tests"), suite.get("failures")) == ("1", "1")
    markdown = gefa("weigh", "--format", "markdown", "--audience", "neutral", cwd=site).stdout
    assert markdown.startswith("| page | mean |")
    assert "\n| home | " in markdown


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["hom"], "there is no page, file or folder 'hom'. The closest is 'home'."),
        (["--audience", "nobody"], "there is no audience 'nobody'. Known: visitors, neutral."),
        (["--plan", "gone.toml"], "gone.toml: cannot be read"),
    ],
)
def test_what_cannot_be_weighed_is_told(site: Path, arguments: list[str], words: str) -> None:
    told = gefa("weigh", *arguments, cwd=site)
    assert told.returncode == 2
    assert words in told.stderr


def test_a_better_ladder_is_proposed_encoded_and_written(site: Path, tmp_path: Path) -> None:
    plan = tmp_path / "gefa.toml"
    for name in ("dune.png", "cover.ora", "visitors.csv"):
        (tmp_path / name).write_bytes((site / name).read_bytes())
    plan.write_text(PLAN)
    assert gefa("export", cwd=tmp_path).returncode == 0
    before = json.loads(gefa("weigh", "--format", "json", cwd=tmp_path).stdout)["pages"][0]
    told = gefa("weigh", "--suggest", "--write", "--format", "json", cwd=tmp_path)
    ladders = {one["name"]: one for one in json.loads(told.stdout)["ladders"]}
    assert ladders["dune"]["today"]["widths"] == [900]
    assert ladders["dune"]["proposed"]["widths"] == [285]
    assert "for everybody" in plan.read_text(), "comments stay"
    assert "what people see first" in plan.read_text()
    own = {entry.part: entry.widths for entry in load_plan(plan).cuts if entry.source == "dune.png"}
    assert list(own.values()) == [(285,)]
    assert gefa("export", cwd=tmp_path).returncode == 0
    after = json.loads(gefa("weigh", "--format", "json", cwd=tmp_path).stdout)["pages"][0]
    assert after["mean"] < before["mean"]
    files = {file.path: file.bytes for file in manifest(tmp_path / "img").files}
    assert ladders["dune"]["proposed"]["bytes"] == round(files["dune-285.webp"] / 2)
    again = gefa("weigh", "--suggest", "--format", "json", cwd=tmp_path)
    assert "dune" not in {one["name"] for one in json.loads(again.stdout)["ladders"]}


def test_built_pages_are_weighed_with_what_is_wrong(site: Path) -> None:
    dist = site / "dist"
    dist.mkdir(exist_ok=True)
    html = gefa("markup", "hero", "--base", "/img/", cwd=site).stdout
    (dist / "index.html").write_text(f"<!doctype html><body>\n{html}\n<img src='/img/none.png'>\n")
    told = gefa("weigh", "dist", cwd=site)
    assert told.returncode == 0
    assert "index.html:" in told.stdout
    assert "none.png is not there" in told.stdout
    assert "no page refers to dune-900.jpg" in told.stdout
    (page,) = json.loads(gefa("weigh", "dist", "--format", "json", cwd=site).stdout)["pages"]
    assert page["visits"][0]["files"][0]["path"] == "Hero-tall-400.webp"
    outside = gefa("weigh", "dist/index.html", cwd=site)
    assert "dist/index.html" in outside.stdout


def test_markup_by_name(site: Path) -> None:
    html = gefa("markup", "hero", "--sizes", "50vw", "--class", "x", "--alt", "A & B", cwd=site)
    assert html.stdout.count('media="(max-width: 600px)"') == 2
    assert 'sizes="50vw"' in html.stdout
    assert 'alt="A &amp; B"' in html.stdout
    assert 'class="x"' in html.stdout
    for form, words in (
        ("jinja", '{% macro hero(alt, '), ("preload", '<link rel="preload" as="image"'),
        ("css", "background-image: image-set("), ("json", '"media": "(max-width: 600px)"'),
    ):  # fmt: skip
        assert words in gefa("markup", "hero", "--form", form, cwd=site).stdout
    silent = gefa("markup", "hero", cwd=site)
    assert " alt=" not in silent.stdout
    assert "hero has no alt text" in silent.stderr
    refused = gefa("markup", "hero", "--sizes", "50", cwd=site)
    assert refused.returncode == 2
    assert "sizes = '50' is not valid" in refused.stderr
    wrong = gefa("markup", "heor", cwd=site)
    assert wrong.returncode == 2
    assert "there is no picture 'heor'. The closest is 'hero'." in wrong.stderr


def test_templates_hold_no_file_names(site: Path, tmp_path: Path) -> None:
    copy = tmp_path / "manifest.json"
    copy.write_text((site / "img" / "manifest.json").read_text())
    pictures = Pictures(copy, base="/img/")
    assert {"hero", "dune", "Hero-tall"} <= set(pictures.names())
    environment = Environment(autoescape=True, extensions=[pictures.extension])
    shown = environment.from_string('{{ picture("hero", sizes="50vw", loading="eager") }}').render()
    assert shown == pictures.html("hero", sizes="50vw", loading="eager")
    assert shown.startswith("<picture>")
    assert 'srcset="/img/Hero-tall-' in shown
    with pytest.raises(PlanError, match="there is no picture 'dun'"):
        pictures["dun"]
    # Another export is seen without a restart; one that is being written does no harm.
    told = json.loads(copy.read_text())
    told["pictures"][0]["entry"]["alt"] = "Another"
    fresh = tmp_path / "fresh"
    fresh.write_text(json.dumps(told))
    fresh.replace(copy)
    assert 'alt="Another"' in pictures["hero"]
    copy.unlink()
    assert 'alt="Another"' in pictures["hero"]
    with pytest.raises(PlanError, match="as a manifest"):
        Pictures(copy)

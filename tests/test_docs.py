"""Commands shown in the docs work, and what the docs link to is there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from scripts import command_line, plan_reference

from gefa.core.plan.load import parse_plan
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.recipe import BUILT_IN, Aim
from gefa.store.store import Store
from tests.conftest import Server
from tests.make import G, L, dot, ora, photo

ROOT = Path(__file__).parents[1]
DOCS = [ROOT / "README.md", ROOT / "ARCHITECTURE.md", *sorted((ROOT / "docs").glob("*.md"))]
STAYS = re.compile(r"(?:\w+=\S+ )*(gefa (?:serve|demo|worker)\b|gefa export .*--watch\b)")


def blocks(language: str) -> list[tuple[str, str]]:
    found = []
    for path in DOCS:
        for text in re.findall(rf"^```{language}\n(.*?)^```", path.read_text("utf-8"), re.S | re.M):
            found.append((path.name, text))
    return found


def commands() -> list[tuple[str, str]]:
    return [
        (name, line.strip())
        for name, text in blocks("sh")
        for line in text.replace("\\\n", " ").splitlines()
        if line.strip()
    ]


@pytest.fixture(scope="module")
def desk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the files that the docs speak of, small ones: they are exported many times."""
    folder = tmp_path_factory.mktemp("desk")
    kites = [L("Red kite #figure", dot(300, 300, (20, 20, 200, 160)), 60, 40)]
    words = [L("Title", dot(300, 80, (0, 0, 200, 40), (20, 20, 20)), 300, 60)]
    sky = L("Skyline #backdrop", photo(800, 200).gaussblur(4))
    layers = [G("Kites", kites), G("Words", words), sky, L("Shore #backdrop", photo(800, 560))]
    ora(folder / "poster.ora", 800, 560, layers)
    photo(760, 440).jpegsave(str(folder / "beach.jpg"))
    photo(300, 450, 1).jpegsave(str(folder / "dunes.jpg"))
    Store(folder / "gefa-data").close()
    (folder / "site").mkdir()
    photo(60, 40).jpegsave(str(folder / "site" / "pier.jpg"))
    (folder / "dist").mkdir()
    (folder / "dist" / "index.html").write_text('<img src="/img/beach-320.jpg" alt="">')
    (folder / "gefa.toml").write_text(dict(blocks("toml"))["plan-file.md"])
    return folder


@pytest.mark.parametrize(("document", "command"), commands())
def test_a_command_in_the_docs_works(demo: Server, desk: Path, document: str, command: str) -> None:
    if command.startswith("make "):
        subprocess.run(
            ["make", "-n", *command.split()[1:]], cwd=ROOT, check=True, capture_output=True
        )
        return
    stays = STAYS.match(command)
    if stays:
        options = set(re.findall(r"--[a-z-]+", command))
        shown = subprocess.run([sys.executable, "-m", "gefa", stays[1].split()[1], "--help"],
                               capture_output=True, text=True, check=True,
                               env=os.environ | {"COLUMNS": "200"}).stdout  # fmt: skip
        assert all(option in shown for option in options)
        return
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as client:
        sent = client.post(
            "/api/v1/slots/gallery/uploads",
            files={"file": photo(40, 30).jpegsave_buffer()},
            headers={"Prefer": "wait=50"},
        )
    env = os.environ | {
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        "URL": demo.url,
        "KEY": demo.key,
        "ID": sent.json()["id"],
        "SITE_KEY": demo.site_key,
        "SOURCE": demo.source("pennants"),
    }
    done = subprocess.run(command, shell=True, cwd=desk, env=env, capture_output=True, text=True)
    assert done.returncode == 0, f"{document}: {command}\n{done.stdout}{done.stderr}"


def test_the_command_line_is_told_as_it_is() -> None:
    assert command_line.TARGET.read_text("utf-8") == command_line.page(), "run make command-line"


def test_every_key_of_the_plan_file_is_told_as_it_is() -> None:
    told = plan_reference.TARGET.read_text("utf-8")
    assert told == plan_reference.page(), "run make plan-reference"


def test_there_are_commands_to_try() -> None:
    assert len(commands()) >= 8


def test_the_plans_in_the_docs_are_some() -> None:
    plans = {name: parse_plan(text, name) for name, text in blocks("toml")}
    assert plans["lighter-files.md"].recipes
    plan = plans["plan-file.md"]
    assert plan.rules
    assert plan.cuts
    assert "banner" in plan.recipes
    assert plans["weight.md"].pages


def test_links_lead_somewhere() -> None:
    for path in DOCS:
        for link in re.findall(r"\]\(([^)#]+)\)", path.read_text("utf-8")):
            if not link.startswith("http"):
                assert (path.parent / link).exists(), f"{path.name}: {link}"


def test_every_screenshot_is_in_the_readme_and_current_views_have_one() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    pictures = list((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    assert all(picture.name in readme for picture in pictures)


def test_the_readme_tells_the_built_in_recipes_as_they_are() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    for name, recipe in BUILT_IN.items():
        (row,) = re.findall(rf"^\| `{name}` \|.*$", readme, re.M)
        assert ", ".join(map(str, recipe.widths)) in row
        told = row.split("|")[3].strip()
        if isinstance(recipe.quality, Aim):
            assert told == f"automatic, at a look of {recipe.quality.look:g}"
        else:
            assert told == ", ".join(FORMATS[format].label for format in recipe.candidates)


def test_the_ten_lines_that_use_core_as_a_library_work(
    desk: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import gefa.core

    lines = (gefa.core.__doc__ or "").split("```")[1].removeprefix("python")
    monkeypatch.chdir(desk)
    exec(lines, {})
    assert list((desk / "img").glob("Skyline-*.avif"))

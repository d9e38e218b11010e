"""``gefa serve --site``: the application on a repository."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import httpx
import pytest

from tests.conftest import Server, eventually, start
from tests.make import photo

PLAN = """\
# Pictures of the festival.
out = "img"   # what is served

# The beach.
[[sources]]
files = "photos/**"
recipe = "small"

[recipes.small]
formats = ["webp"]
widths = [64, 32]   # px
"""


@dataclass
class Site:
    """A folder with a plan and pictures, and a server on it."""

    folder: Path
    server: Server
    pages: httpx.Client

    @property
    def plan(self) -> Path:
        return self.folder / "gefa.toml"

    def edit(self, old: str, new: str) -> None:
        text = self.plan.read_text()
        assert old in text
        self.plan.write_text(text.replace(old, new))

    def ids(self) -> dict[str, str]:
        found = re.findall(r'data-id="(\w+)".*?tile-name">([^<]*)', self.pages.get("/").text, re.S)
        return {name: id for id, name in found}

    def run(self) -> None:
        eventually(lambda: "data-unsettled" not in self.pages.get("/").text)
        self.pages.post("/runs", data={"what": "all"})


def gefa(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "gefa", *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory, free_port: Callable[[], int]) -> Iterator[Site]:
    folder = tmp_path_factory.mktemp("repository")
    (folder / "photos").mkdir()
    for name, seed in (("dune.png", 1), ("sea.png", 2)):
        photo(120, 80, seed).pngsave(str(folder / "photos" / name))
    photo(50, 50, 3).pngsave(str(folder / "other.png"))
    (folder / "gefa.toml").write_text(PLAN)
    server = start("serve", folder / ".gefa", free_port(), "--site", str(folder))
    with server.client(follow_redirects=True) as pages:
        yield Site(folder, server, pages)
    server.stop()


def test_a_site_is_served_from_its_folder_and_written_back(site: Site) -> None:
    eventually(lambda: site.ids().keys() == {"dune.png", "sea.png"})
    site.run()
    made = site.folder / "img" / "photos"
    eventually(lambda: len(list(made.glob("*.webp"))) == 4 and site.folder / "img/manifest.json")
    # The command line agrees, and has nothing left to make.
    eventually(lambda: gefa(site.folder, "check").returncode == 0, step=1)
    assert "0 to make, 4 to reuse" in gefa(site.folder, "export", "--dry-run").stdout

    # What is done on the screens is written, with comments; the file's changes are shown.
    tags = {"do": "tags", "tags": "sand", "source": site.ids()["dune.png"]}
    assert site.pages.post("/desk", data=tags).status_code == 200
    eventually(lambda: "sand" in site.plan.read_text())
    for comment in ("# Pictures of the festival.", "# what is served", "# The beach.", "# px"):
        assert comment in site.plan.read_text()
    site.edit("widths = [64, 32]", "widths = [48]")
    eventually(lambda: "48" in site.pages.get("/plan").text)
    site.run()
    eventually(lambda: sorted(f.name for f in made.iterdir()) == ["dune-48.webp", "sea-48.webp"])

    # Files come and go.
    shutil.copy(site.folder / "photos" / "dune.png", site.folder / "photos" / "more.png")
    (site.folder / "photos" / "sea.png").unlink()
    eventually(lambda: site.ids().keys() == {"dune.png", "more.png"})
    site.run()
    eventually(lambda: sorted(f.name for f in made.iterdir()) == ["dune-48.webp", "more-48.webp"])
    assert not (site.folder / ".gefa" / ".gitignore").read_text().strip("*\n")


def test_what_lies_in_the_folder_is_not_changed_from_the_screens(site: Site) -> None:
    eventually(lambda: len(site.ids()) == 2)
    id = next(iter(site.ids().values()))
    refusals = [
        site.pages.post("/sources", files={"file": ("new.png", b"x")}),
        site.pages.post("/desk", data={"do": "remove", "source": id}),
        site.pages.post("/desk", data={"do": "move", "to": "x", "source": id}),
        site.pages.post(f"/sources/{id}/remove"),
        site.pages.post("/watched", data={"folder": str(site.folder)}),
    ]
    assert [answer.status_code for answer in refusals] == [409] * 5
    assert all(str(site.folder) in answer.text for answer in refusals)
    # A file that cannot be read is told, and costs nothing.
    bad = site.folder / "photos" / "bad.png"
    bad.write_bytes(b"nothing")
    eventually(lambda: "not brought in" in site.pages.get("/").text)
    assert "bad.png" in site.pages.get("/watched").text
    bad.unlink()


def test_no_source_is_lost_to_a_folder_or_a_plan_that_changes(site: Site) -> None:
    photos, away = site.folder / "photos", site.folder.with_name("away")
    shutil.copy(photos / "dune.png", photos / "two  spaces.png")
    eventually(lambda: "two  spaces.png" in site.ids())
    names = site.ids().keys()
    # A folder goes away and comes back, as when a disk is mounted again.
    photos.rename(away)
    eventually(lambda: not site.ids())
    away.rename(photos)
    eventually(lambda: site.ids().keys() == names)
    # An out folder that holds sources, or is another program's, is told and not used.
    for out, said in (("photos", "holds the source"), (".git", "is a hidden folder")):
        site.edit('out = "img"', f'out = "{out}"')
        eventually(partial(lambda told: told in site.pages.get("/plan").text, said))
        assert site.ids().keys() == names
        site.run()
        site.edit(f'out = "{out}"', 'out = "img"')
        eventually(lambda: "Runs write no files" not in site.pages.get("/plan").text)
    assert sorted(path.suffix for path in photos.iterdir()) == [".png"] * len(names)
    assert site.ids().keys() == names
    # A file that somebody put where one would be written stays, and is told.
    mine = site.folder / "img" / "photos" / "late-48.webp"
    mine.write_text("mine")
    shutil.copy(photos / "dune.png", photos / "late.png")
    eventually(lambda: "late.png" in site.ids())
    site.run()
    eventually(lambda: "Gefa did not make it" in site.pages.get("/plan").text)
    assert mine.read_text() == "mine"
    mine.unlink()
    for name in ("late.png", "two  spaces.png"):
        (photos / name).unlink()
    eventually(lambda: "late.png" not in site.ids())


def test_a_plan_that_both_changed_is_shown_and_chosen(site: Site) -> None:
    eventually(lambda: len(site.ids()) == 2)
    site.plan.write_text(site.plan.read_text() + "\nwrong = = 1\n")
    eventually(lambda: "is not TOML" in site.pages.get("/plan").text)
    tags = {"do": "tags", "tags": "mine", "source": next(iter(site.ids().values()))}
    site.pages.post("/desk", data=tags)
    eventually(lambda: "both changed" in site.pages.get("/plan").text)
    assert "mine" not in site.plan.read_text()
    refused = site.pages.post("/plan/file", data={"keep": "file"})
    assert refused.status_code == 422
    site.plan.write_text(site.plan.read_text().replace("wrong = = 1", "[check]\nmax_bytes = 5000"))
    eventually(lambda: "[check]" in site.pages.get("/plan").text)
    kept = site.pages.post("/plan/file", data={"keep": "screens"})
    assert "both changed" not in kept.text
    assert "mine" in site.plan.read_text()
    assert "max_bytes" not in site.plan.read_text()
    assert "# The beach." in site.plan.read_text()


def test_comments_that_cannot_stay_are_kept_beside_the_file_and_told(site: Site) -> None:
    eventually(lambda: len(site.ids()) == 2)
    site.plan.write_text(
        'out = "img"\nsources = [{ files = "photos/**", tags = ["ancient"] }] # one\n'
    )
    eventually(lambda: "ancient" in site.pages.get("/plan").text)
    assert "could not keep the comments" not in site.pages.get("/plan").text
    tags = {"do": "tags", "tags": "new", "source": next(iter(site.ids().values()))}
    site.pages.post("/desk", data=tags)
    eventually(lambda: "could not keep the comments" in site.pages.get("/plan").text)
    before = site.folder / ".gefa" / "plan-before.toml"
    assert str(before) in site.pages.get("/plan").text
    assert "# one" in before.read_text()
    assert "# one" not in site.plan.read_text()


def test_a_folder_without_a_plan_is_refused(tmp_path: Path) -> None:
    told = gefa(tmp_path, "serve", "--site", str(tmp_path))
    assert told.returncode == 2
    assert "gefa init" in told.stderr
    assert list(tmp_path.iterdir()) == []

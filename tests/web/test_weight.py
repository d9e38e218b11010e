"""The Weight screen and its API on a small site: pages, screens, ladders, audiences."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from urllib.parse import parse_qs

import httpx
import pytest

from gefa.core.plan.load import parse_plan
from gefa.store.keys import SiteRight
from tests.conftest import start
from tests.make import photo
from tests.web.test_site_api import Build, opened

PLAN = b"""\
default = "wide"
[recipes.wide]
formats = ["webp", "jpeg"]
widths  = [300, 900]
every_format = true
apart = { weight = 0 }

[[pages]]
name     = "home"
pictures = [
  { picture = "dune", sizes = "(max-width: 600px) 100vw, 400px", loading = "eager" },
  { picture = "sea", sizes = "200px" },
]
budget   = { bytes = 1000 }

[[pages]]
name     = "lost <i>"
pictures = ["nothing"]

[[audiences]]
name = "phones"
rows = [{ viewport_width = 390, device_pixel_ratio = 2, share = 1 }]
"""


@contextmanager
def weighed_site(folder: Path, port: int) -> Iterator[Build]:
    """A site with two photographs that was run once, on a server of its own."""
    server = start("serve", folder, port, "--workers", "2")
    try:
        with opened(server, SiteRight.BUILD) as client, opened(server, SiteRight.READ) as reader:
            site = Build(server, client, reader)
            site.ask("PUT", "/plan", content=PLAN, headers={"Content-Type": "application/toml"})
            site.ready(
                {
                    "dune.png": photo(1200, 800, 1).pngsave_buffer(),
                    "sea.png": photo(1150, 400, 2).pngsave_buffer(),
                }
            )
            site.run("all")
            yield site
    finally:
        server.stop()


@pytest.fixture(scope="module")
def build(
    tmp_path_factory: pytest.TempPathFactory, free_port: Callable[[], int]
) -> Iterator[Build]:
    with weighed_site(tmp_path_factory.mktemp("weight") / "data", free_port()) as site:
        yield site


@pytest.fixture
def pages(build: Build) -> Iterator[httpx.Client]:
    with build.server.client(follow_redirects=True) as client:
        yield client


def test_pages_are_told_over_the_api(build: Build) -> None:
    told = build.reader.get("/api/v1/pages").json()
    assert told["audience"] == "phones"
    home, lost = told["pages"]
    assert (home["name"], home["kept"], home["blurred"]) == ("home", False, 0)
    assert "there is no picture 'nothing'." in lost["problems"][0]
    page = build.reader.get("/api/v1/pages/home/weight").json()
    (visit,) = page["visits"]
    assert [f["path"] for f in visit["files"]] == ["dune-900.webp", "sea-900.webp"]
    assert visit["bytes"] == page["mean"] == home["mean"]
    assert [f["needed"] for f in visit["files"]] == [780, 400]
    everybody = build.reader.get("/api/v1/pages?audience=neutral").json()
    assert everybody["pages"][0]["mean"] != home["mean"]
    assert build.reader.get("/api/v1/pages?audience=nobody").status_code == 404
    assert build.reader.get("/api/v1/pages/x/weight").status_code == 404
    assert httpx.get(f"{build.server.url}/api/v1/pages").status_code == 401


def test_the_table_and_a_page_are_shown(pages: httpx.Client) -> None:
    shown = pages.get("/weight").text
    assert "lost &lt;i&gt;" in shown
    assert "over" in shown
    page = pages.get("/weight", params={"page": "home"}).text
    assert page.count('class="sent-row"') == 2
    assert 'class="budget"' in page
    narrow = pages.get("/weight/at", params={"page": "home", "width": 280, "density": 1}).text
    assert "dune-300.webp" in narrow
    assert "dune-900.webp" not in narrow
    wide = pages.get("/weight/at", params={"page": "home", "width": 600, "density": 5}).text
    assert "3,000\u202fpx needed, 900\u202fpx sent: blurred" in wide
    href = re.search(r'img src="(/runs/[^"]+dune-300\.webp)"', narrow)
    assert href
    assert pages.get(href[1]).headers["content-type"] == "image/webp"


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/weight?page=none", 404), ("/weight?audience=none", 404), ("/weight?width=1", 422),
        ("/weight?page=home&density=nan", 422), ("/weight/at?page=none", 404),
        ("/weight/ladder?page=home&cut=none", 200), ("/weight?page=home&widths=x,-3,9e9,0", 200),
    ],
)  # fmt: skip
def test_what_there_is_not_is_told(pages: httpx.Client, path: str, status: int) -> None:
    assert pages.get(path).status_code == status


def test_a_ladder_is_tried_and_taken(build: Build, pages: httpx.Client) -> None:
    query = {"page": "home", "cut": "dune"}
    tried = pages.get("/weight/ladder", params={**query, "widths": "400, 780"}).text
    assert "<td>400, 780</td>" in tried
    assert "<td>741</td>" in tried, "0.95 of 780 is sharp"
    taken = pages.post("/weight/ladder", params=query, data={"widths": "741", "for": "cut"})
    assert "Saved: Widths 741 for dune" in taken.text
    plan = parse_plan(build.ask("GET", "/plan").text, "p")
    assert [entry.widths for entry in plan.cuts] == [(741,)]
    taken = pages.post("/weight/ladder", params=query, data={"widths": "500 800", "for": "recipe"})
    assert "for the recipe wide" in taken.text
    plan = parse_plan(build.ask("GET", "/plan").text, "p")
    assert plan.recipes["wide"].widths == (500, 800)
    step = {"step": parse_qs(taken.url.query.decode())["step"][0]}
    undone = pages.post("/weight/undo", params=query, data=step)
    assert "Undone: Widths 500, 800" in undone.text
    plan = parse_plan(build.ask("GET", "/plan").text, "p")
    assert plan.recipes["wide"].widths == (300, 900)
    assert [entry.widths for entry in plan.cuts] == [(741,)]
    pages.post("/recipes", data={"name": "fresh"})
    with closing(sqlite3.connect(build.server.folder / "gefa.sqlite3")) as database:
        found = database.execute("SELECT id FROM step WHERE subject = 'recipe fresh'").fetchall()
        made = [{"step": row[0]} for row in found]
    assert len(made) == 1, "its making is undone on Recipes, where slots that use it are looked at"
    for late in (step, *made, {"step": "none"}, {}):
        assert pages.post("/weight/undo", params=query, data=late).status_code == 409
    pages.post("/weight/ladder", params=query, data={"widths": "500 800", "for": "recipe"})
    both = pages.get("/weight", params={"page": "home", "cut": "recipe:wide"}).text
    assert "all cuts by the recipe wide" in both
    assert "Use for this cut" not in both
    before = build.reader.get("/api/v1/pages").json()["pages"][0]["mean"]
    run = build.run("changed")
    after = build.reader.get("/api/v1/pages").json()["pages"][0]["mean"]
    assert after < before
    sheet = pages.get(f"/runs/{run['id']}").text
    assert "Pages: mean bytes of a visit" in sheet
    assert "before this run" in sheet
    for data in ({"widths": ""}, {"widths": "x"}, {"widths": "400, wide"}, {"widths": "9" * 5000}):
        assert pages.post("/weight/ladder", params=query, data=data).status_code == 422
    gone = pages.post("/weight/ladder", params={"page": "home", "cut": "x"}, data={"widths": "9"})
    assert gone.status_code == 404


def test_an_audience_is_taken_in_or_refused_with_its_line(pages: httpx.Client) -> None:
    good = b"viewport_width,device_pixel_ratio,share\n1280,1,1\n"
    shown = pages.post("/weight/audience", files={"file": ("desks.csv", good)})
    assert "Saved: Audience desks" in shown.text
    assert '<option value="desks" selected>' in shown.text
    listed = json.dumps([{"viewport_width": 360, "device_pixel_ratio": 3, "share": 2}])
    again = pages.post("/weight/audience", files={"file": ("desks.json", listed.encode())})
    assert again.text.count('<option value="desks"') == 1
    bad = pages.post("/weight/audience", files={"file": ("x.csv", good + b"wide,1,1\n")})
    assert bad.status_code == 422
    assert "x.csv: line 3: viewport_width" in bad.text
    for files in ({"other": ("x.csv", good)}, {"file": ("x.csv", b"\xff\xfe\0")}):
        assert pages.post("/weight/audience", files=files).status_code == 422

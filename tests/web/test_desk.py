"""The desk over HTTP: found by an address, treated together, and in step with runs."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import pytest

from gefa.web.pages.sources import SAMPLE
from gefa_demo.pennants import draw_pennants
from tests.conftest import Server, eventually
from tests.make import photo
from tests.web.plans import plan_for, site_plan
from tests.web.test_runs import bring, finished, run

HX = {"HX-Request": "true"}


@pytest.fixture
def pages(empty_server: Server) -> Iterator[httpx.Client]:
    with empty_server.client() as client:
        yield client


@pytest.fixture
def sources(pages: httpx.Client) -> dict[str, str]:
    """Two photographs in a folder, one below it, and one beside it."""
    names = ("photos/noon.jpg", "photos/dusk.jpg", "photos/sea/pier.jpg", "crest.jpg")
    sizes = zip(names, (90, 120, 60, 80), strict=True)
    return bring(pages, {n: photo(w, 60, w).jpegsave_buffer() for n, w in sizes})


def shown(pages: httpx.Client, query: str = "") -> list[str]:
    """Names of the rows, in order."""
    text = pages.get(f"/?{query}").text
    return re.findall(r'aria-label="Select ([^"]+)"', text)


def states(pages: httpx.Client) -> list[str]:
    return re.findall(
        r'<span class="standing standing-[\w-]+">([^<]+)', pages.get("/?sort=name").text
    )


def deed(pages: httpx.Client, do: str, *ids: str, **fields: str) -> httpx.Response:
    form = {"do": do, "source": list(ids), **fields}
    return pages.post("/desk", data=form, follow_redirects=True)


def test_a_view_of_the_desk_has_an_address(pages: httpx.Client, sources: dict[str, str]) -> None:
    assert shown(pages, "sort=name") == sorted(sources)
    assert shown(pages, "sort=in") == shown(pages, "sort=in&view=table")
    assert set(shown(pages, "folder=photos")) == set(sources) - {"crest.jpg"}
    assert shown(pages, "folder=photos/sea") == ["photos/sea/pier.jpg"]
    assert shown(pages, "q=DUSK+photos") == ["photos/dusk.jpg"]
    assert shown(pages, "kind=design") == []
    assert "Show all 4" in pages.get("/?q=nothing").text
    more = pages.get("/?sort=name&after=3", headers=HX).text
    assert re.findall(r'aria-label="Select ([^"]+)"', more) == ["photos/sea/pier.jpg"]


def test_many_are_treated_as_one_step_and_undone(
    pages: httpx.Client, sources: dict[str, str]
) -> None:
    noon, dusk = sources["photos/noon.jpg"], sources["photos/dusk.jpg"]
    deed(pages, "recipe", noon, dusk, recipe="icon")
    deed(pages, "tags", noon, tags="beach, summer")
    assert plan_for(pages, "photos/dusk.jpg").default == "icon"
    assert set(shown(pages, "tag=beach")) == {"photos/noon.jpg"}
    answer = deed(pages, "remove", matching="1", tag="beach")
    assert urlsplit(str(answer.url)).query == "tag=beach", "one stays where one was"
    assert len(shown(pages)) == 3
    for _ in range(3):
        pages.post("/desk/undo")
    assert len(shown(pages)) == 4
    assert site_plan(pages).sources == ()
    pages.post("/desk/redo")
    assert plan_for(pages, "photos/noon.jpg").default == "icon"


def test_what_is_moved_keeps_its_screen_and_its_runs(
    pages: httpx.Client, sources: dict[str, str]
) -> None:
    pier = sources["photos/sea/pier.jpg"]
    address = run(pages, source=pier, what="chosen")
    made = finished(pages, address)
    assert made.sources == ["photos/sea/pier.jpg"]
    assert {file.path.rpartition("/")[0] for file in made.files} == {"photos/sea"}
    deed(pages, "move", pier, to="archive/2026/")
    assert "archive/2026/pier.jpg" in shown(pages)
    assert "<h1" in pages.get(f"/sources/{pier}").text
    assert finished(pages, address).sources == ["photos/sea/pier.jpg"], "as it was called then"
    assert pages.get(f"{address}/proof", follow_redirects=True).status_code == 200
    deed(pages, "rename", pier, name="archive/mole.jpg")
    again = finished(pages, run(pages, source=pier, what="chosen"))
    assert {file.path.rpartition("/")[0] for file in again.files} == {"archive"}
    refused = deed(pages, "rename", pier, name="crest.jpg")
    assert refused.status_code == 422
    assert "there is a source called crest.jpg" in refused.text
    nothing = pages.post("/desk", data={"do": "move", "to": "x"}, headers=HX)
    assert nothing.status_code == 422
    assert "no source is chosen" in nothing.text


def test_states_follow_runs_plans_and_revisions(
    pages: httpx.Client, sources: dict[str, str]
) -> None:
    assert states(pages) == ["new"] * 4
    finished(pages, run(pages, what="all"))
    assert states(pages) == ["up to date"] * 4
    assert "Run all 4 again" in pages.get("/").text
    deed(pages, "tags", sources["crest.jpg"], tags="beach")
    assert states(pages) == ["up to date"] * 4, "tags make no other files"
    deed(pages, "recipe", sources["crest.jpg"], recipe="icon")
    assert states(pages) == ["changed", *["up to date"] * 3]
    pages.post("/desk/undo")
    assert states(pages) == ["up to date"] * 4
    bring(pages, {"photos/noon.jpg": photo(90, 60, 5).jpegsave_buffer()})
    assert shown(pages, "state=changed") == ["photos/noon.jpg"]
    finished(pages, run(pages, what="changed"))
    assert states(pages) == ["up to date"] * 4
    assert re.search(r"4 sources</b> · 4 cuts · \d+ files", pages.get("/").text)


def test_the_same_file_again_is_said_and_a_zip_keeps_its_folders(
    pages: httpx.Client, sources: dict[str, str]
) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("photos/noon.jpg", photo(90, 60, 90).jpegsave_buffer())
        archive.writestr("more/dune.jpg", photo(50, 40, 2).jpegsave_buffer())
        archive.writestr("more/notes.txt", "not a picture")
    answer = pages.post(
        "/sources",
        files={"file": ("heap.zip", packed.getvalue())},
        headers={"Accept": "application/json"},
    )
    told = {r["name"]: (r["same"], bool(r["problem"])) for r in answer.json()["results"]}
    assert told == {
        "photos/noon.jpg": (True, False),
        "more/dune.jpg": (False, False),
        "more/notes.txt": (False, True),
    }
    eventually(lambda: "more/dune.jpg" in shown(pages, "state=new"))


def test_an_empty_desk_teaches_and_has_a_sample(empty_server: Server, tmp_path: Path) -> None:
    with empty_server.client(follow_redirects=True) as pages:
        assert "Try a sample design" in pages.get("/").text
        shown = pages.post("/sources/sample")
        assert shown.status_code == 200
        assert "pennants.svg" in shown.text
        again = pages.post("/sources/sample")
        assert again.url == shown.url, "the same file again adds nothing"
        assert "Try a sample design" not in pages.get("/").text
    drawn = tmp_path / "pennants.svg"
    draw_pennants(drawn)
    assert SAMPLE.read_bytes() == drawn.read_bytes(), "draw it again"

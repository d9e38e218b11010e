"""Runs over many sources: named at once, made together, stopped, taken away in one bundle."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from gefa.core.deliver.manifest import Manifest
from tests.conftest import Server, eventually
from tests.make import G, L, dot, flat, ora, photo

HEAVY = 12
"""photographs: more than two processes make while somebody presses Stop"""


@pytest.fixture
def pages(empty_server: Server) -> Iterator[httpx.Client]:
    with empty_server.client() as client:
        yield client


def bring(pages: httpx.Client, files: dict[str, bytes]) -> dict[str, str]:
    """Sources by their names, read and drawn."""
    form = [("file", (name, data)) for name, data in files.items()]
    answer = pages.post("/sources", files=form, headers={"Accept": "application/json"})
    results = answer.json()["results"]
    assert all(not result["problem"] for result in results), results
    eventually(lambda: "ing…" not in pages.get("/").text)
    return {result["name"]: result["source"] for result in results}


def designs(tmp_path: Path) -> dict[str, bytes]:
    found = {}
    for number, name in enumerate(("poster", "sheet")):
        layers = [
            G("Icons", [L("Badge #icon", dot(60, 50, (5, 5, 40, 40), (9 * number, 80, 90)), 3, 3)]),
            L(f"Only {name} #icon", flat(60, 40), 0, 8),
        ]
        path = ora(tmp_path / f"{name}.ora", 70, 60, layers)
        found[path.name] = path.read_bytes()
    found["pier.jpg"] = photo(90, 60, 3).jpegsave_buffer()
    return found


def run(pages: httpx.Client, **form: object) -> str:
    answer = pages.post("/runs", data=form)
    assert answer.status_code == 303, answer.text
    return answer.headers["location"]


def manifest(pages: httpx.Client, address: str) -> Manifest:
    return Manifest.model_validate(pages.get(f"{address}/manifest.json").json())


def finished(pages: httpx.Client, address: str) -> Manifest:
    eventually(lambda: "Weight of all files" in pages.get(address).text)
    return manifest(pages, address)


def test_many_sources_are_one_run_one_sheet_and_one_bundle(
    pages: httpx.Client, tmp_path: Path
) -> None:
    files = designs(tmp_path)
    sources = bring(pages, files)
    assert "Run 3 sources" in pages.get("/").text
    address = run(pages, what="changed")
    made = finished(pages, address)
    assert made.failed == []
    assert made.sources == ["pier.jpg", "poster.ora", "sheet.ora"]
    assert {cut.name: cut.source for cut in made.cuts} == {
        "pier": "pier.jpg",
        "poster-Badge": "poster.ora",
        "Only-poster": "poster.ora",
        "sheet-Badge": "sheet.ora",
        "Only-sheet": "sheet.ora",
    }
    assert all(file.source for file in made.files)
    sheet = pages.get(address).text
    assert "Run of 3 sources" in sheet
    assert "is called poster-Badge, since another cut is called Badge too" in sheet
    assert re.findall(r'sheet-source">([^<]+)<', sheet) == ["poster.ora", "sheet.ora"]
    assert "Run all 3 again" in pages.get("/").text
    with zipfile.ZipFile(io.BytesIO(pages.get(f"{address}/bundle.zip").content)) as bundle:
        names = set(bundle.namelist())
        assert {file.path for file in made.files} <= names
        assert {"poster-layout.html", "sheet-layout.css", "layout.html"} <= names
        assert "poster-layout.html" in bundle.read("layout.html").decode()
        assert json.loads(bundle.read("manifest.json"))["gefa_manifest"] == 3
    positions = pages.get(f"{address}/layout/layout.json", params={"of": "sheet.ora"}).json()
    assert {piece["cut"] for piece in positions["pieces"]} == {"sheet-Badge", "Only-sheet"}
    pages.post(f"{address}/pdf")
    pdf = eventually(lambda: (p := pages.get(f"{address}/pdf")).content[:4] == b"%PDF" and p)
    assert pdf.content.count(b"/Type /Page\n") == 5
    proof = pages.get(f"{address}/proof/sheet-Badge")
    assert "run of sheet.ora" in proof.text
    assert pages.get(f"{address}?q=POSTER").text.count("<tbody>") == 1
    # One that changed is run alone, and finds its names again.
    layers = [L("Badge #icon", dot(60, 50, (5, 5, 40, 40), (200, 80, 90)), 3, 3)]
    bring(pages, {"sheet.ora": ora(tmp_path / "new.ora", 70, 60, layers).read_bytes()})
    assert "Run 1 that changed" in pages.get("/").text
    again = finished(pages, run(pages, what="changed"))
    assert again.sources == ["sheet.ora"]
    assert {remark.cut for remark in again.dropped} >= {"Only-sheet"}
    assert "Two runs of" in pages.get(f"{address}/compare?against={_last(pages)}").text
    # A source that goes takes along what was made of it, and nothing else.
    pages.post(f"/sources/{sources['poster.ora']}/remove")
    pages.post("/removed", data={"source": sources["poster.ora"], "do": "forget"})
    left = manifest(pages, address)
    assert left.sources == ["pier.jpg", "sheet.ora"]
    assert {file.source for file in left.files} == {"pier.jpg", "sheet.ora"}
    assert pages.get(address).status_code == 200


def _last(pages: httpx.Client) -> str:
    return re.findall(r'href="/runs/(\w{31})"', pages.get("/runs").text)[0]


def test_chosen_sources_are_run_and_a_broken_one_is_told(
    pages: httpx.Client, tmp_path: Path
) -> None:
    sources = bring(pages, designs(tmp_path))
    bad = pages.post("/sources", files={"file": ("bad.png", b"\x89PNG\r\n\x1a\nbroken")},
                     headers={"Accept": "application/json"}).json()["results"][0]["source"]  # fmt: skip
    eventually(lambda: "Could not be read" in pages.get("/").text)
    address = run(pages, what="chosen", source=[sources["pier.jpg"], bad])
    made = finished(pages, address)
    assert made.sources == ["pier.jpg"]
    assert [remark.cut for remark in made.failed] == ["bad.png"]
    nothing = pages.post("/runs", data={"what": "chosen"})
    assert nothing.status_code == 409
    assert "Nothing to run" in nothing.text


def test_a_run_that_is_stopped_keeps_what_it_made(pages: httpx.Client) -> None:
    bring(pages, {f"p{n}.jpg": photo(700, 500, n).jpegsave_buffer() for n in range(HEAVY)})
    address = run(pages, what="all")
    eventually(lambda: manifest(pages, address).files)
    assert pages.post(f"{address}/stop").status_code == 303
    made = manifest(pages, address)
    stopped = [remark for remark in made.left_out if remark.reason == "the run was stopped"]
    assert stopped
    assert len(made.cuts) + len(stopped) == HEAVY
    assert made.dropped == []
    page = pages.get(address).text
    assert "Stopped <time" in page
    for file in made.files:
        assert pages.get(f"{address}/files/{file.path}").status_code == 200
    # Nothing more comes, and what was not made is made by the next run.
    again = finished(pages, run(pages, what="changed"))
    assert len(again.cuts) == HEAVY
    assert manifest(pages, address).files == made.files
    assert pages.post(f"{address}/stop").status_code == 303

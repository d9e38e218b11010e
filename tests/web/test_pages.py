"""The pages over HTTP, without a browser."""

from __future__ import annotations

import io
import re
import sqlite3
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from fastapi.testclient import TestClient

from gefa.core.deliver.manifest import Manifest
from gefa.web.app import create_app
from tests.conftest import SECONDS, Server, eventually
from tests.make import L, dot, flat, ora, photo


@pytest.fixture
def pages(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(follow_redirects=True) as client:
        yield client


def bring_in(pages: httpx.Client, *files: tuple[str, bytes]) -> list[dict[str, str]]:
    answer = pages.post(
        "/sources",
        files=[("file", file) for file in files],
        headers={"Accept": "application/json"},
    )
    assert answer.status_code in (201, 422)
    return list(answer.json()["results"])


def ready(pages: httpx.Client, source: str) -> str:
    """The Cut page once the source has been read."""

    def shown() -> str:
        text = pages.get(f"/sources/{source}").text
        return "" if "Reading its parts" in text else text

    return str(eventually(shown))


def png(seed: int, width: int = 200, height: int = 150) -> bytes:
    return bytes(photo(width, height, seed).pngsave_buffer())


def run(pages: httpx.Client, source: str) -> str:
    """Run it, wait, and give the run's address."""
    started = pages.post(f"/sources/{source}/runs")
    assert started.status_code == 200
    path = started.url.path
    # Runs of other tests on the same server come first.
    eventually(lambda: "Bundle (zip)" in pages.get(path).text, 3 * SECONDS)
    return str(path)


def test_the_sample_world_is_on_the_wall(pages: httpx.Client) -> None:
    text = pages.get("/").text
    for name in ("poster.ora", "pennants.svg", "kites-at-noon.jpg", "close-cloth.jpg"):
        assert name in text


def test_a_bad_file_costs_no_other(pages: httpx.Client) -> None:
    results = bring_in(
        pages,
        ("one.png", png(1)),
        ("notes.txt", b"hello"),
        ("empty.png", b""),
        ("../../two.png", png(2)),
    )
    assert [(r["name"], bool(r["source"])) for r in results] == [
        ("one.png", True),
        ("notes.txt", False),
        ("empty.png", False),
        ("two.png", True),
    ]
    assert "It reads SVG" in results[1]["problem"]
    assert "is empty" in results[2]["problem"]


def test_nothing_good_at_all_is_422_and_a_plain_form_gets_a_page(pages: httpx.Client) -> None:
    answer = pages.post("/sources", files={"file": ("notes.txt", b"hello")})
    assert answer.status_code == 422
    assert "notes.txt" in answer.text
    assert pages.post("/sources", files={}).status_code in (415, 422)
    assert pages.post("/sources", files={"file": ("p.png", png(3))}).url.path == "/"


def test_a_source_that_cannot_be_read_says_why(pages: httpx.Client) -> None:
    (result,) = bring_in(pages, ("half.png", png(4)[:5000]))
    text = ready(pages, result["source"])
    assert "half.png" in text
    assert "cannot be read as PNG" in text
    assert "cannot be read as PNG" in pages.get("/").text


def test_the_list_says_what_is_an_svg(pages: httpx.Client) -> None:
    drawing = b"""<svg xmlns="http://www.w3.org/2000/svg" width="90" height="90">
      <g id="Disc #icon"><circle cx="45" cy="45" r="40" fill="teal"/></g></svg>"""
    (result,) = bring_in(pages, ("disc.svg", drawing))
    cut = f"/sources/{result['source']}"
    eventually(lambda: 'title="One SVG file for all widths">SVG<' in pages.get(cut).text)


def test_a_part_is_ticked_named_and_taken_back(pages: httpx.Client, tmp_path: Path) -> None:
    layers = [
        L("Pin #icon", dot(60, 60, (5, 5, 40, 40))),
        L("Plain", flat(60, 60)),
        L("Typo #icom", flat(9, 9)),
    ]
    data = ora(tmp_path / "mine.ora", 60, 60, layers).read_bytes()
    (result,) = bring_in(pages, ("mine.ora", data))
    source = result["source"]
    text = ready(pages, source)
    assert "the tag #icom names no recipe. Did you mean &#39;icon&#39;?" in text
    assert text.count("checked") == 1

    def change(**fields: str) -> str:
        answer = pages.post(f"/sources/{source}/plan", data=fields, headers={"HX-Request": "true"})
        assert answer.status_code == 200, answer.text
        return answer.text

    ticked = change(do="tick", part="Plain", on="true")
    assert 'value="Plain"' in ticked
    assert "by hand" in ticked
    assert 'value="Front page"' in change(do="name", part="Plain", name="Front page")
    chosen = change(do="recipe", part="Plain", line="", recipe="backdrop")
    assert re.search(r'value="backdrop"[^>]*selected', chosen)
    assert "left out by hand" in change(do="tick", part="Pin")
    assert "by tag" in change(do="back", part="Pin")
    assert pages.get(f"/sources/{source}").text.count('class="tick"') == 4

    for fields, status in (
        ({"do": "tick", "part": "Nowhere", "on": "true"}, 404),
        ({"do": "recipe", "part": "Plain", "recipe": "none"}, 422),
        ({"do": "conjure"}, 422),
        ({}, 422),
    ):
        assert pages.post(f"/sources/{source}/plan", data=fields).status_code == status


def test_a_run_from_press_to_bundle(pages: httpx.Client, tmp_path: Path) -> None:
    layers = [
        L("Pin #icon", dot(60, 60, (5, 5, 40, 40))),
        L("Void #icon", flat(9, 9, (0, 0, 0, 0))),
    ]
    data = ora(tmp_path / "run.ora", 60, 60, layers).read_bytes()
    (result,) = bring_in(pages, ("run.ora", data))
    ready(pages, result["source"])
    address = run(pages, result["source"])

    text = pages.get(address).text
    assert "no visible pixels" in text
    assert "&lt;picture&gt;" in text
    manifest = Manifest.model_validate_json(pages.get(f"{address}/manifest.json").text)
    assert manifest.sources == ["run.ora"]
    assert [file.width for file in manifest.files] == [40, 40]
    packed = pages.get(f"{address}/bundle.zip")
    assert packed.headers["Content-Disposition"].endswith("run.zip")
    with zipfile.ZipFile(io.BytesIO(packed.content)) as archive:
        pages_too = {"manifest.json", "markup.html", "layout.html", "layout.css", "layout.json"}
        assert {file.path for file in manifest.files} | pages_too == set(archive.namelist())
        for file in manifest.files:
            assert len(archive.read(file.path)) == file.bytes
    one = pages.get(f"{address}/files/{manifest.files[0].path}")
    assert one.headers["Content-Type"] == "image/webp"
    assert pages.get(f"{address}/files/none.webp").status_code == 404

    again = Manifest.model_validate_json(
        pages.get(f"{run(pages, result['source'])}/manifest.json").text
    )
    assert all(file.reused for file in again.files)
    assert "Up to date" in pages.get(f"/sources/{result['source']}").text
    assert address in pages.get("/runs").text


def test_progress_comes_as_events_until_the_run_is_finished(pages: httpx.Client) -> None:
    (result,) = bring_in(pages, ("events.png", png(9, 1500, 1000)))
    ready(pages, result["source"])
    address = pages.post(f"/sources/{result['source']}/runs").url.path
    events = []
    with pages.stream("GET", f"{address}/events") as stream:
        assert stream.headers["Content-Type"].startswith("text/event-stream")
        for line in stream.iter_lines():
            if line.startswith("event: "):
                events.append(line.removeprefix("event: "))
    assert events[-1] == "finished"
    assert "progress" in events
    assert pages.get("/runs/none/events").status_code == 404


def test_a_new_revision_takes_the_place_of_the_old_and_keeps_decisions(pages: httpx.Client) -> None:
    (first,) = bring_in(pages, ("same.png", png(5)))
    ready(pages, first["source"])
    pages.post(f"/sources/{first['source']}/plan", data={"do": "name", "part": "/", "name": "kept"})
    (second,) = bring_in(pages, ("same.png", png(6)))
    assert second["source"] == first["source"]
    text = ready(pages, second["source"])
    assert "revision 2" in text
    assert 'value="kept"' in text


def test_pages_answer_with_a_page_where_nothing_is(pages: httpx.Client) -> None:
    for path in (
        "/sources/none",
        "/runs/none",
        "/nowhere",
        "/sources/none/1/picture",
        "/sources/a/b/c",
    ):
        answer = pages.get(path)
        assert answer.status_code == 404, path
        assert "Go to Sources" in answer.text
    assert pages.get("/api/v1/nothing").headers["Content-Type"] == "application/problem+json"


def test_every_answer_keeps_the_page_to_itself(pages: httpx.Client) -> None:
    for path in ("/", "/runs", "/slots", "/uploads", "/nowhere", "/static/gefa.css"):
        headers = pages.get(path).headers
        policy = headers["Content-Security-Policy"]
        assert "script-src 'self';" in policy
        assert "unsafe" not in policy
        assert headers["X-Content-Type-Options"] == "nosniff"
    site = pages.get("/festival/").headers["Content-Security-Policy"]
    assert site.count("unsafe") == site.count("style-src-attr 'unsafe-inline'") == 1


def test_no_page_has_inline_script_or_style_or_foreign_assets(pages: httpx.Client) -> None:
    source = re.search(r'href="(/sources/\w+)"', pages.get("/").text)
    assert source
    for path in ("/", "/runs", source[1], "/slots", "/slots/gallery", "/uploads", "/festival/"):
        text = pages.get(path).text
        assert not re.search(r"<script(?![^>]*\bsrc=)", text)
        # The sample website shows a picture's colour until it has come.
        styled = r"\son\w+=|<style" if path == "/festival/" else r"\son\w+=|\sstyle=|<style"
        assert not re.search(styled, text)
        assets = re.findall(r"""(?:src|href|action)=["']([^"']+)""", text)
        assert all(asset.startswith(("/", "#")) for asset in assets), assets


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"Sec-Fetch-Site": "cross-site"}, 403),
        ({"Sec-Fetch-Site": "same-site"}, 403),
        ({"Origin": "http://evil.example"}, 403),
        ({"Origin": "null"}, 403),
        ({"Sec-Fetch-Site": "same-origin"}, 404),
        ({}, 404),
    ],
)
def test_changes_are_taken_from_our_own_pages_only(
    pages: httpx.Client, headers: dict[str, str], status: int
) -> None:
    assert pages.post("/sources/none/runs", headers=headers).status_code == status


def test_the_sample_website_uploads_through_the_api_and_shows_the_result(
    demo: Server, pages: httpx.Client
) -> None:
    eventually(
        lambda: (
            "Ripples" in pages.get("/festival/").text
            or "Wind ripples" in pages.get("/festival/").text
        )
    )
    data = bytes(photo(700, 500, 11).jpegsave_buffer(Q=88))
    answer = pages.post(
        "/festival/share", files={"photo": ("mine.jpg", data)}, data={"caption": "A <b>kite</b>"}
    )
    assert answer.url.path == "/festival/"
    assert "A &lt;b&gt;kite&lt;/b&gt;" in answer.text
    assert "<b>kite" not in answer.text
    urls = re.findall(r"/m/[^\s\"]+mine-card-\d+\.\w+", answer.text)
    assert pages.get(urls[0]).headers["Content-Type"].startswith("image/")
    assert demo.key not in answer.text

    refused = pages.post("/festival/share", files={"photo": ("notes.txt", b"hello")})
    assert "notes.txt is not accepted: Gefa cannot read it as a picture" in refused.text


def test_a_part_with_two_recipes_keeps_both_when_one_is_renamed(
    pages: httpx.Client, tmp_path: Path
) -> None:
    data = ora(tmp_path / "two.ora", 60, 60, [L("Pin #icon #figure", flat(60, 60))]).read_bytes()
    (result,) = bring_in(pages, ("two.ora", data))
    source = result["source"]
    assert "files Pin-figure-" in ready(pages, source)

    def change(**fields: str) -> str:
        return pages.post(
            f"/sources/{source}/plan", data=fields, headers={"HX-Request": "true"}
        ).text

    text = change(do="name", part="Pin", line="0", name="Badge")
    assert 'value="Badge"' in text
    assert "files Pin-figure-" in text or 'value="Pin"' in text
    assert len(re.findall('name="recipe" aria-label="Recipe"', text)) == 2
    assert len(re.findall('aria-label="Recipe"', change(do="drop", part="Pin", line="e1"))) == 1
    assert (
        len(re.findall('aria-label="Recipe"', change(do="also", part="Pin", recipe="figure"))) == 2
    )


def test_a_chosen_part_that_a_new_revision_lacks_is_told(
    pages: httpx.Client, tmp_path: Path
) -> None:
    def send(*layers: L) -> str:
        data = ora(tmp_path / "less.ora", 60, 60, list(layers)).read_bytes()
        (result,) = bring_in(pages, ("less.ora", data))
        return result["source"]

    source = send(L("Sail", flat(60, 60)), L("Mast", flat(20, 20)))
    ready(pages, source)
    pages.post(f"/sources/{source}/plan", data={"do": "tick", "part": "Mast", "on": "true"})
    send(L("Sail", flat(60, 60)))
    text = ready(pages, source)
    assert "<b>Mast</b>: the source has no part &#39;Mast&#39;" in text


def test_only_names_that_the_server_is_known_by_are_answered(pages: httpx.Client) -> None:
    """A page elsewhere may point its own name at this machine, and read what it is answered."""
    for name in ("rebound.example", "localhost.example", "127.0.0.1.example", "", "a b"):
        for path in ("/", "/api/v1/openapi.json", "/m/x"):
            answer = pages.get(path, headers={"Host": name})
            assert answer.status_code in (400, 421), (name, path)
            assert "poster" not in answer.text
    for name in (
        "localhost:99",
        "LOCALHOST.",
        "gefa.localhost",
        "127.0.0.1",
        "[::1]:9",
        "10.2.3.4:80",
    ):
        assert pages.get("/", headers={"Host": name}).status_code == 200, name


def test_host_names_are_those_that_it_was_started_with(tmp_path: Path) -> None:
    app = create_app(tmp_path / "data", host_names=["Design.Example"])
    with TestClient(app, base_url="http://design.example:8741") as known:
        assert known.get("/").status_code == 200
        assert "Sample website" not in known.get("/").text
        assert known.get("/festival/").status_code == 404
        refused = known.get("/", headers={"Host": "other.example"})
    assert refused.status_code == 421
    assert "--host-name" in refused.text


def test_looking_begins_no_work(pages: httpx.Client, demo: Server) -> None:
    """Every page that the others link to, opened by somebody who only looks."""
    (result,) = bring_in(pages, ("looked-at.png", png(31)))
    ready(pages, result["source"])
    address = run(pages, result["source"])

    def tasks() -> int:
        with sqlite3.connect(demo.folder / "gefa.sqlite3", timeout=30) as database:
            # Estimates are made by themselves, and gone when they are known.
            query = "SELECT count(*) FROM job WHERE kind != 'ESTIMATE'"
            return int(database.execute(query).fetchone()[0])

    eventually(lambda: "Drawing" not in pages.get("/").text)
    before = tasks()
    seen: set[str] = set()
    waiting = [
        "/",
        "/recipes",
        "/runs",
        "/slots",
        "/uploads",
        f"/sources/{result['source']}",
        address,
    ]
    waiting += [f"{address}/proof", f"{address}?sort=look", f"{address}/layout/", "/recipes/icon"]
    waiting += [
        f"{address}/proof/looked-at/reference?width=200",
        f"{address}/pdf",
        "/slots/gallery",
    ]
    while waiting and len(seen) < 60:
        path = waiting.pop()
        if path in seen or path.startswith(("/m/", "/festival", "//")):
            continue
        seen.add(path)
        answer = pages.get(path)
        if "html" in answer.headers.get("content-type", ""):
            waiting += [
                link.replace("&amp;", "&")
                for link in re.findall(r'(?:href|hx-get)="(/[^"]*)"', answer.text)
            ]
    assert tasks() == before


def test_a_run_goes_for_good_and_a_source_can_be_had_back_before(pages: httpx.Client) -> None:
    (result,) = bring_in(pages, ("leaving.png", png(32)))
    source = result["source"]
    ready(pages, source)
    first, second = run(pages, source), run(pages, source)
    assert pages.post(f"{first}/remove").url.path == "/runs"
    assert pages.get(first).status_code == 404
    assert pages.get(second).status_code == 200
    assert pages.post(f"/sources/{source}/remove").url.path == "/"
    gone = pages.get(f"/sources/{source}")
    assert gone.status_code == 404
    assert "can be restored" in gone.text
    assert pages.get(second).status_code == 200
    assert "Choose leaving.png" not in pages.get("/").text
    assert "leaving.png" in pages.get("/removed").text
    assert pages.post("/removed", data={"source": source}).url.path == "/"
    assert pages.get(f"/sources/{source}").status_code == 200
    pages.post("/desk", data={"do": "remove", "source": source})
    assert pages.post("/removed", data={"source": source, "do": "forget"}).status_code == 200
    assert [pages.get(path).status_code for path in (second, f"/sources/{source}")] == [404, 404]
    assert "leaving.png" not in pages.get("/removed").text
    (again,) = bring_in(pages, ("leaving.png", png(32)))
    assert "Reading" not in ready(pages, again["source"])

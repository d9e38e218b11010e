"""The Cut screen over HTTP: plans, slices, revisions, originals, large files, watching."""

from __future__ import annotations

import io
import os
import re
import sqlite3
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest

from gefa.core.deliver.manifest import Manifest
from gefa.core.plan.plan import Plan, Split
from gefa.core.treat.recipe import Aim
from tests.conftest import HTTP, Server, eventually, start
from tests.make import BLUE, GREEN, RED, G, L, dot, flat, ora, photo, svg
from tests.web.plans import give_plan, plan_for, site_plan
from tests.web.test_pages import bring_in, png, ready, run

HX = {"HX-Request": "true"}


@pytest.fixture
def pages(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(follow_redirects=True) as client:
        yield client


NAMES: dict[str, str] = {}
"""of sources, by their ids"""


def source_of(pages: httpx.Client, name: str, data: bytes) -> str:
    (result,) = bring_in(pages, (name, data))
    ready(pages, result["source"])
    NAMES[result["source"]] = name
    return result["source"]


def change(pages: httpx.Client, source: str, **fields: str | list[str]) -> str:
    answer = pages.post(f"/sources/{source}/plan", data=fields, headers=HX)
    assert answer.status_code == 200, answer.text
    return answer.text


def plan(pages: httpx.Client, source: str) -> Plan:
    """What the plan says of the source; without the recipes, which other tests add to, and the
    folder."""
    without: dict[str, object] = {"recipes": {}, "out": None}
    return plan_for(pages, NAMES[source]).model_copy(update=without)


def manifest(pages: httpx.Client, address: str) -> Manifest:
    return Manifest.model_validate_json(pages.get(f"{address}/manifest.json").text)


def design(path: Path, colour: tuple[int, int, int] = RED) -> bytes:
    layers = [
        G("Sky", [L("Kite", dot(60, 60, (5, 5, 40, 30), colour), 10, 10)]),
        L("Sign", dot(30, 30, (0, 0, 30, 30), BLUE), 80, 50),
    ]
    return ora(path, 120, 90, layers).read_bytes()


def test_slices_are_split_named_left_out_undone_and_redone(pages: httpx.Client) -> None:
    source = source_of(pages, "wide.png", png(3, 240, 80))
    assert change(pages, source, do="split", columns="3", rows="2").count('class="slice ') == 6
    change(pages, source, do="slice-name", slice="0 r1-c2", name="logo")
    change(pages, source, do="slice-recipe", slice=["0 r1-c1", "0 r1-c2"], recipe="icon")
    change(pages, source, do="slice-tick", slice="0 r2-c3")
    text = change(pages, source, do="guides", x="80, 50%, 160", y="40")
    assert 'value="logo"' in text
    assert text.count("data-axis=") == 4
    made = plan(pages, source).slices[0]
    assert made.cells["r1-c2"].name == "logo"
    assert made.cells["r2-c3"].leave_out
    assert "Moved lines" in text
    pages.post(f"/sources/{source}/undo", headers=HX)
    assert plan(pages, source).slices[0].split is not None
    pages.post(f"/sources/{source}/redo", headers=HX)
    assert plan(pages, source).slices[0].guides is not None
    found = manifest(pages, run(pages, source))
    assert len(found.cuts) == 7
    assert {cut.recipe for cut in found.cuts if cut.name == "logo"} == {"icon"}


def test_changes_at_the_same_time_cost_none_of_each_other(
    pages: httpx.Client, tmp_path: Path
) -> None:
    layers = [L(f"Flag {n}", dot(30, 30, (n, n, 9, 9))) for n in range(12)]
    source = source_of(pages, "flags.ora", ora(tmp_path / "f.ora", 30, 30, layers).read_bytes())

    def tick(n: int) -> int:
        fields = {"do": "tick", "part": f"Flag {n}", "on": "true"}
        return HTTP.post(f"{pages.base_url}/sources/{source}/plan", data=fields).status_code

    with ThreadPoolExecutor(6) as pool:
        assert set(pool.map(tick, range(12))) == {303}
    assert {cut.part for cut in plan(pages, source).cuts} == {f"Flag {n}" for n in range(12)}


def test_what_cannot_be_is_refused_with_a_reason(pages: httpx.Client) -> None:
    source = source_of(pages, "refuse.png", png(4))
    for fields, reason in (
        ({"do": "guides", "x": "left"}, "not a place for a line"),
        ({"do": "split", "columns": "many"}, "Give a number"),
        ({"do": "split", "columns": "900000"}, "less than or equal"),
        ({"do": "draw", "x": "0", "y": "0", "width": "0", "height": "9"}, "at least 1\u202fpx"),
        ({"do": "reshape", "slice": "7", "x": "0", "y": "0", "width": "1", "height": "9"}, "no such"),
        ({"do": "size", "part": "/", "width": "-3"}, "greater than 0"),
        ({"do": "rule-add", "parts": "*", "recipe": "nope"}, "no recipe"),
        ({"do": "slice-name", "slice": "x", "name": "y"}, "no such slice"),
    ):  # fmt: skip
        answer = pages.post(f"/sources/{source}/plan", data=fields)
        assert answer.status_code == 422, fields
        assert reason in answer.text, answer.text
    assert plan(pages, source) == Plan()


def test_rules_come_and_go_and_ticks_stand(pages: httpx.Client, tmp_path: Path) -> None:
    source = source_of(pages, "rules.ora", design(tmp_path / "r.ora"))
    change(pages, source, do="tick", part="Sign", on="true")
    assert "by rule" in change(pages, source, do="rule-add", parts="Sky/*", recipe="icon")
    change(pages, source, do="rule-add", parts="**", recipe="")
    change(pages, source, do="rule-raise", rule="r1")
    text = pages.get(f"/sources/{source}").text
    assert "by rule" not in re.sub(r"<select.*?</select>", "", text, flags=re.S)
    change(pages, source, do="rule-remove", rule="r1")
    found = manifest(pages, run(pages, source))
    assert {cut.name: cut.origin.value for cut in found.cuts} == {"Kite": "rule", "Sign": "hand"}


def test_many_parts_are_changed_in_one_step(pages: httpx.Client, tmp_path: Path) -> None:
    source = source_of(pages, "many.ora", design(tmp_path / "m.ora"))
    change(pages, source, do="recipe", part=["Sky/Kite", "Sign"], recipe="icon")
    assert {cut.recipe for cut in plan(pages, source).cuts} == {"icon"}
    pages.post(f"/sources/{source}/undo", headers=HX)
    assert plan(pages, source) == Plan()


def test_a_revision_tells_what_changed_with_pictures(pages: httpx.Client, tmp_path: Path) -> None:
    source = source_of(pages, "next.ora", design(tmp_path / "a.ora"))
    change(pages, source, do="tick", part="Sky/Kite", on="true")
    first = run(pages, source)
    layers = [L("Dragon", dot(60, 60, (5, 5, 40, 30)), 60, 10), L("Moon", flat(9, 9, GREEN))]
    bring_in(pages, ("next.ora", ora(tmp_path / "b.ora", 120, 90, layers).read_bytes()))
    text = ready(pages, source)
    assert "New in revision 2" in text
    assert "1 moved" in text
    assert "Sky/Kite is Dragon now, found by its likeness" in text
    assert "Moon" in text
    assert plan(pages, source).cuts[0].part == "Dragon"
    assert "2 added" not in text

    bring_in(pages, ("next.ora", design(tmp_path / "c.ora", GREEN)))
    eventually(lambda: "/after/0" in pages.get(f"/sources/{source}").text)
    for which in ("before", "after"):
        picture = pages.get(f"/sources/{source}/3/{which}/0")
        assert picture.headers["Content-Type"] == "image/webp"
    assert pages.get(f"/sources/{source}/3/after/99").status_code == 404
    eventually(lambda: "1 added" in pages.get("/").text or "changed" in pages.get("/").text)
    change(pages, source, do="tick", part="Sign", on="true")
    second = manifest(pages, run(pages, source))
    # Other designs here have a Sign too.
    assert {cut.name.removeprefix("next-") for cut in second.cuts} == {"Sign"}
    assert {remark.cut.removeprefix("next-") for remark in second.dropped} == {"Kite"}
    assert len(second.dropped) == len(manifest(pages, first).files)
    assert all(remark.reason.endswith("is not made any more") for remark in second.dropped)


def test_originals_are_listed_narrowed_and_taken_out(pages: httpx.Client, tmp_path: Path) -> None:
    data = design(tmp_path / "o.ora")
    source = source_of(pages, "stored.ora", data)
    text = pages.get(f"/sources/{source}/originals", params={"group": "Sky"}).text
    assert 'aria-label="Choose Kite"' in text
    assert 'aria-label="Choose Sign"' not in text
    started = pages.post(f"/sources/{source}/originals", data={"group": "Sky"})
    address = started.url.path
    eventually(lambda: manifest(pages, address).originals)
    (original,) = manifest(pages, address).originals
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        stored = archive.read("data/0.png")
    taken = pages.get(f"{address}/files/{original.path}")
    assert taken.content == stored
    assert taken.headers["Content-Disposition"] == "attachment"
    eventually(lambda: pages.get(f"{address}/bundle.zip").status_code == 200)
    with zipfile.ZipFile(io.BytesIO(pages.get(f"{address}/bundle.zip").content)) as archive:
        assert archive.read("originals/Kite.png") == stored


def test_very_large_files_are_asked_for_first(pages: httpx.Client, tmp_path: Path) -> None:
    shape = '<circle id="disc" cx="50" cy="50" r="40"/><path id="leaf #icon" d="M0 0h9v9z"/>'
    source = source_of(pages, "large.svg", svg(tmp_path / "l.svg", shape).read_bytes())
    text = change(pages, source, do="size", part="disc", width="70", unit="cm", dpi="300", line="0")
    assert "8,268 × 8,268\u202fpx, 68.4 megapixels" in text
    assert "Run asks first" in text
    asked = pages.post(f"/sources/{source}/runs")
    assert asked.status_code == 409
    assert "68 megapixels" in asked.text
    started = pages.post(f"/sources/{source}/runs", data={"large": "leave"})
    eventually(lambda: "Bundle (zip)" in pages.get(started.url.path).text)
    found = manifest(pages, started.url.path)
    assert [cut.name for cut in found.cuts] == ["leaf"]
    assert "68 megapixels" in found.left_out[-1].reason


def test_a_plan_file_is_taken_in_and_given_out(pages: httpx.Client) -> None:
    source = source_of(pages, "plan.png", png(8))
    text = '[[slices]]\nrecipe = "icon"\n\n[slices.split]\ncolumns = 2\n'
    assert give_plan(pages, "plan.png", text).status_code == 200
    (entry,) = plan_for(pages, "plan.png").slices
    assert (entry.recipe, entry.split) == ("icon", Split(columns=2))
    shown = pages.get("/plan").text
    assert "plan.png" in shown
    whole = site_plan(pages)
    less = whole.model_copy(update={"slices": ()}).to_toml()
    asked = pages.post("/plan/preview", files={"file": ("gefa.toml", less.encode())})
    assert re.search(r"plan.png</td><td>slices</td>\s*<td[^>]*>1 → 0", asked.text)
    assert site_plan(pages) == whole, "asking changes nothing"
    version = re.search(r'name="version" value="(\w+)"', asked.text)
    assert version is not None
    change(pages, source, do="split", columns="3", rows="1")
    late = pages.post("/plan", data={"text": less, "version": version[1]})
    assert late.status_code == 409
    assert "changed meanwhile" in late.text
    assert pages.post("/plan", data={"text": less}).status_code == 200
    assert site_plan(pages).slices == ()
    pages.post("/desk/undo")
    assert plan_for(pages, "plan.png").slices[0].split == Split(columns=3)
    same = pages.post("/plan/preview", files={"file": ("p.toml", site_plan(pages).to_toml())})
    assert "Nothing to import" in same.text
    for text, why in (("[[slices]]", "one of split, guides or rect"), ("\xff", "not UTF-8")):
        bad = pages.post("/plan/preview", files={"file": ("p.toml", text.encode("latin-1"))})
        assert bad.status_code == 422
        assert why in bad.text


def test_a_layout_and_a_pdf_of_a_run(pages: httpx.Client, tmp_path: Path) -> None:
    source = source_of(pages, "lay.ora", design(tmp_path / "l.ora"))
    change(pages, source, do="recipe", part=["Sky/Kite", "Sign"], recipe="icon")
    address = run(pages, source)
    positions = pages.get(f"{address}/layout/layout.json").json()
    assert [(p["cut"].removeprefix("lay-"), p["x"], p["y"]) for p in positions["pieces"]] == [
        ("Sign", 80, 50),
        ("Kite", 15, 15),
    ]
    sign = positions["pieces"][0]["cut"]
    some = pages.get(f"{address}/layout/layout.json", params={"cut": sign}).json()
    assert len(some["pieces"]) == 1
    assert pages.post(f"{address}/pdf").status_code == 200
    eventually(lambda: pages.get(f"{address}/pdf").headers["Content-Type"] == "application/pdf")
    assert pages.get(f"{address}/pdf").content.startswith(b"%PDF-")


def test_a_zip_brings_in_each_of_its_files(pages: httpx.Client, tmp_path: Path) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("in/one-of-zip.png", png(5))
        archive.writestr("in/two-of-zip.png", png(6))
        archive.writestr("notes.txt", "hello")
    results = bring_in(pages, ("heap.zip", packed.getvalue()))
    assert [(r["name"], bool(r["source"])) for r in results] == [
        ("in/one-of-zip.png", True),
        ("in/two-of-zip.png", True),
        ("notes.txt", False),
    ]
    (broken,) = bring_in(pages, ("broken.zip", packed.getvalue()[:60]))
    assert "cannot be read as a zip" in broken["problem"]


def test_tiles_show_a_large_picture_up_close(pages: httpx.Client) -> None:
    source = source_of(
        pages, "large-one.png", bytes(photo(2100, 900).pngsave_buffer(compression=1))
    )
    eventually(lambda: "data-tiles" in pages.get(f"/sources/{source}").text)
    tile = pages.get(f"/sources/{source}/1/tiles/3/4_1")
    assert tile.headers["Content-Type"] == "image/jpeg"
    assert pages.get(f"/sources/{source}/1/tiles/0/0_0").status_code == 200
    assert pages.get(f"/sources/{source}/1/tiles/3/99_0").status_code == 404


def test_a_watched_folder_gives_revisions_that_run_by_themselves(
    tmp_path: Path, free_port: Callable[[], int]
) -> None:
    folder = tmp_path / "designs"
    folder.mkdir()
    server = start("serve", tmp_path / "data", free_port(), "--watch-under", str(tmp_path))
    try:
        with server.client(follow_redirects=True) as pages:
            source = source_of(pages, "live.ora", design(tmp_path / "a.ora"))
            change(pages, source, do="recipe", part="Sky/Kite", recipe="icon")
            for bad in ("/", str(tmp_path / "nowhere")):
                refused = pages.post("/watched", data={"folder": bad})
                assert refused.status_code == 422
            assert str(folder) in pages.post("/watched", data={"folder": str(folder)}).text
            design(tmp_path / "next.ora", GREEN)
            os.replace(tmp_path / "next.ora", folder / "live.ora")
            eventually(lambda: "revision 2" in pages.get(f"/sources/{source}").text)
            assert str(folder) in pages.get(f"/sources/{source}").text
            eventually(lambda: "/runs/" in pages.get("/runs").text.split("<main")[1])
            # What appears is brought in, with its folder; what cannot be is told.
            (folder / "beach").mkdir()
            (folder / "beach" / "gull.png").write_bytes(png(3, 60, 40))
            (folder / "broken.png").write_bytes(b"no picture at all")
            eventually(lambda: "gull.png" in pages.get("/?folder=beach").text)
            eventually(lambda: "broken.png" in pages.get("/watched").text)
            pages.post("/watched", data={"folder": str(folder), "do": "stop"})
            assert "No folder is watched" in pages.get("/watched").text
    finally:
        server.stop()


def step(pages: httpx.Client, source: str) -> str:
    """Which step of the plan a page was drawn from."""
    found = re.search(r'data-step="([^"]*)"', pages.get(f"/sources/{source}").text)
    assert found is not None
    return found[1]


def test_a_form_of_another_step_changes_nothing_else(pages: httpx.Client) -> None:
    """Two windows: a rule that both remove, a slice that moved up, an undo of something unseen."""
    source = source_of(pages, "windows.png", png(5, 90, 60))
    for parts in ("A/*", "B/*", "C/*"):
        change(pages, source, do="rule-add", parts=parts, recipe="icon")
    drawn_from = step(pages, source)
    fields = {"do": "rule-remove", "rule": "r0", "step": drawn_from}
    address = f"/sources/{source}/plan"
    assert pages.post(address, data=fields, headers=HX).status_code == 200
    stale = pages.post(address, data=fields, headers=HX)
    assert stale.status_code == 409
    assert "changed meanwhile" in stale.text
    assert "B/*" in stale.text, "it is answered with what is there now"
    assert pages.post(address, data=fields).status_code == 409
    stale = pages.post(f"/sources/{source}/undo", data={"step": drawn_from}, headers=HX)
    assert stale.status_code == 409
    rules = plan(pages, source).rules
    assert [rule.parts for rule in rules] == ["B/*", "C/*"]
    # What nobody touched meanwhile may be changed from an older page.
    other = {"do": "name", "part": "/", "name": "cover", "step": drawn_from}
    assert pages.post(address, data=other, headers=HX).status_code == 200
    again = {"do": "name", "part": "/", "name": "banner", "step": drawn_from}
    assert pages.post(address, data=again, headers=HX).status_code == 409
    assert plan(pages, source).cuts[0].name == "cover"


def test_an_edit_that_makes_no_plan_is_refused(pages: httpx.Client) -> None:
    source = source_of(pages, "refused.png", png(6, 90, 60))
    address = f"/sources/{source}/plan"
    for fields in (
        {"do": "name", "part": "/", "name": "n" * 301},
        {"do": "guides", "x": "120%"},
        {"do": "guides", "x": "200000"},
        {"do": "rule-add", "parts": "x" * 1001, "recipe": "icon"},
    ):
        answer = pages.post(address, data=fields, headers=HX)
        assert answer.status_code == 422, fields
    assert plan(pages, source) == Plan()
    assert "from 0 to 100,000" in pages.post(address, data={"do": "guides", "x": "120%"}).text


def test_a_plan_that_cannot_be_read_shows_its_page_with_undo(
    pages: httpx.Client, demo: Server
) -> None:
    """As an earlier version may have stored it."""
    source = source_of(pages, "unreadable.png", png(7, 90, 60))
    change(pages, source, do="name", part="/", name="good")
    change(pages, source, do="name", part="/", name="bad")
    with sqlite3.connect(demo.folder / "gefa.sqlite3", timeout=30) as database:
        database.execute(
            "UPDATE step SET content = json_set(content, '$.cuts[0].name', ?) WHERE subject = ?"
            " AND number = 2",
            ("n" * 301, f"plan {source}"),
        )
    shown = pages.get(f"/sources/{source}")
    assert shown.status_code == 409
    assert "the plan of unreadable.png: cannot be read: cuts[0].name" in shown.text
    assert pages.post(f"/sources/{source}/runs").status_code == 409
    assert pages.get("/recipes/icon").status_code == 200, "other pages do without it"
    undone = pages.post(f"/sources/{source}/undo")
    assert undone.status_code == 200
    assert 'value="good"' in undone.text


def test_lines_that_move_keep_what_their_slices_have(pages: httpx.Client) -> None:
    source = source_of(pages, "kept-lines.png", png(8, 90, 60))
    text = '[[slices]]\nsplit = { columns = 2 }\nquality = { look = 81 }\nrecipe = "icon"\n'
    give_plan(pages, "kept-lines.png", text)
    change(pages, source, do="guides", x="30")
    (entry,) = plan(pages, source).slices
    assert (entry.quality, entry.recipe) == (Aim(look=81), "icon")
    assert entry.guides is not None


def test_the_cut_that_is_shown_is_the_one_that_is_changed(pages: httpx.Client) -> None:
    """The first of two entries makes no job."""
    source = source_of(pages, "two-entries.png", png(9, 90, 60))
    text = '[[cuts]]\npart = "/"\nleave_out = true\n[[cuts]]\npart = "/"\nrecipe = "icon"\n'
    give_plan(pages, "two-entries.png", text)
    shown = pages.get(f"/sources/{source}").text
    line = re.search(r'"do": "name", "line": "(\w+)"', shown.replace("&#34;", '"'))
    assert line is not None
    change(pages, source, do="name", part="/", line=line[1], name="sign")
    cuts = plan(pages, source).cuts
    assert [(cut.leave_out, cut.name) for cut in cuts] == [(True, None), (False, "sign")]


def test_estimates_come_to_the_rows_with_the_sum(pages: httpx.Client) -> None:
    (result,) = bring_in(pages, ("foretold.jpg", bytes(photo(1400, 900, 81).jpegsave_buffer())))
    shown = ready(pages, result["source"])

    def told() -> str:
        text = pages.get(f"/sources/{result['source']}/sum").text
        return text if "≈" in text else ""

    late = re.findall(r'<span[^>]* id="([^"]+)" hx-swap-oob="true"', eventually(told))
    assert [name.rpartition("-row-")[2].split("-")[-2] for name in late] == ["files", "expected"]
    assert all(shown.count(f'id="{name}"') == 1 for name in late)

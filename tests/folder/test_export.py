"""``gefa export`` beyond single files: watching, layouts, PDFs, originals, zips."""

from __future__ import annotations

import json
import os
import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from PIL import Image

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import SourceError
from gefa.core.make.job import CutJob
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.treat.recipe import Recipe
from gefa.folder.export import Exported, Exporter, ExportListener, Extras
from gefa.folder.saves import Watched
from gefa.folder.site_files import listed, named
from gefa.work.pool import Pool
from tests.conftest import eventually
from tests.core.test_svg_file import BADGE
from tests.make import BLUE, GREEN, RED, G, L, dot, flat, ora, photo, svg

TINY = '[recipes.tiny]\nformats = ["png"]\nwidths = [20]\n'


@pytest.fixture(scope="module")
def pool() -> Iterator[Pool]:
    with Pool(2) as opened:
        yield opened


def design(
    path: Path, colour: tuple[int, int, int] = RED, more: list[object] | None = None
) -> Path:
    layers = [
        L("Kite #tiny", dot(40, 40, (4, 4, 30, 20), colour), 10, 10),
        L("Sign #tiny", dot(20, 20, (0, 0, 20, 20), BLUE), 70, 60),
        L("Ground", flat(100, 90, (240, 235, 220))),
    ]
    return ora(path, 100, 90, [*(more or []), *layers])


def paths(out: Path) -> list[str]:
    found = [p for p in out.rglob("*") if p.is_file() and ".gefa" not in p.parts]
    return sorted(str(p.relative_to(out)) for p in found)


@pytest.fixture
def watching(tmp_path: Path, pool: Pool) -> Iterator[tuple[Path, Path, list[Exported]]]:
    """A design that is watched; its folder of files; what was reported."""
    source, out = design(tmp_path / "d.ora"), tmp_path / "out"
    told: list[Exported] = []
    stop = threading.Event()
    watched = Watched(
        Exporter(pool, out),
        pool,
        lambda: parse_plan(TINY, "p"),
        lambda exported, _, __: told.append(exported),
        lambda error: pytest.fail(str(error)),
    )
    thread = threading.Thread(target=watched.run, args=(named([source]), None, stop))
    thread.start()
    eventually(lambda: told)
    time.sleep(0.3)  # until the folder is watched
    yield source, out, told
    stop.set()
    thread.join(timeout=10)


def test_a_save_makes_again_only_what_changed(
    watching: tuple[Path, Path, list[Exported]], tmp_path: Path
) -> None:
    source, out, told = watching
    assert paths(out) == ["Kite-20.png", "Sign-20.png", "manifest.json"]
    os.replace(design(tmp_path / "next.ora", GREEN), source)
    eventually(lambda: len(told) == 2)
    changes = told[1].changes["d.ora"]
    assert (changes.changed, changes.added, changes.gone) == (["Kite"], [], [])
    assert {f.cut: f.reused for f in told[1].manifest.files} == {"Kite": False, "Sign": True}


def test_cuts_that_are_gone_take_their_files_along(
    watching: tuple[Path, Path, list[Exported]], tmp_path: Path
) -> None:
    source, out, told = watching
    layers = [L("Sign #tiny", dot(20, 20, (0, 0, 20, 20), BLUE), 70, 60)]
    os.replace(ora(tmp_path / "next.ora", 100, 90, layers), source)
    eventually(lambda: len(told) == 2)
    assert told[1].changes["d.ora"].gone == ["Kite", "Ground"]
    assert [remark.cut for remark in told[1].manifest.dropped] == ["Kite"]
    assert paths(out) == ["Sign-20.png", "manifest.json"]


def test_a_save_during_the_first_export_is_not_lost(tmp_path: Path, pool: Pool) -> None:
    source, stop = design(tmp_path / "d.ora"), threading.Event()
    told: list[Exported] = []

    def report(exported: Exported, *_: object) -> None:
        told.append(exported)
        if len(told) == 1:  # before the folder is watched
            os.replace(design(tmp_path / "next.ora", GREEN), source)
        else:
            stop.set()

    def trouble(error: Exception) -> None:
        pytest.fail(str(error))

    watched = Watched(
        Exporter(pool, tmp_path / "out"), pool, lambda: parse_plan(TINY, "p"), report, trouble
    )
    watched.run(named([source]), None, stop)
    assert told[1].changes["d.ora"].changed == ["Kite"]


def test_a_half_saved_file_is_waited_for(
    watching: tuple[Path, Path, list[Exported]], tmp_path: Path
) -> None:
    source, _, told = watching
    whole = design(tmp_path / "next.ora", GREEN).read_bytes()
    with source.open("wb") as file:
        for start in range(0, len(whole), len(whole) // 4 + 1):
            file.write(whole[start : start + len(whole) // 4 + 1])
            file.flush()
            time.sleep(0.3)
    eventually(lambda: len(told) > 1)
    assert all(not exported.manifest.failed for exported in told)
    eventually(lambda: not told[-1].manifest.files[0].reused)


def test_what_a_plan_names_is_followed_from_export_to_export(tmp_path: Path, pool: Pool) -> None:
    out, source = tmp_path / "out", tmp_path / "d.ora"
    exporter = Exporter(pool, out)
    plan = Plan(cuts=(CutEntry(part="Sky/Kite", recipe="icon"),))
    kite = L("Kite", dot(40, 40, (4, 4, 30, 20)), 10, 10)
    for group, found in (("Sky", "Sky/Kite"), ("Air", "Air/Kite"), ("Wind", "Wind/Kite")):
        ora(source, 100, 90, [G(group, [kite])])
        manifest = exporter.export(named([source]), plan).manifest
        assert [cut.part for cut in manifest.cuts] == [found]
    assert "found again by its name" in manifest.warnings[0].reason
    assert all(file.reused for file in manifest.files)


def test_layout_and_pdf_lie_beside_the_files(tmp_path: Path, pool: Pool) -> None:
    out = tmp_path / "out"
    exporter = Exporter(pool, out, extras=Extras(layout=True, pdf=True))
    exporter.export(named([design(tmp_path / "d.ora")]), parse_plan(TINY, "p"))
    positions = json.loads((out / "d-layout.json").read_text())
    assert positions["canvas"] == {"width": 100, "height": 90}
    assert [(p["cut"], p["x"], p["y"]) for p in positions["pieces"]] == [
        ("Sign", 70, 60),
        ("Kite", 14, 14),
    ]
    html = (out / "d-layout.html").read_text()
    assert html.index("piece-Sign") < html.index("piece-Kite")
    pdf = (out / "d-cuts.pdf").read_bytes()
    assert pdf.startswith(b"%PDF-")
    assert pdf.count(b"/Type /Page\n") == 2


def test_originals_come_out_as_they_are_stored(tmp_path: Path, pool: Pool) -> None:
    source, out = design(tmp_path / "d.ora"), tmp_path / "out"
    plan = parse_plan('[[originals]]\nparts = "*"', "p")
    manifest = Exporter(pool, out).export(named([source]), plan).manifest
    assert not manifest.cuts
    with zipfile.ZipFile(source) as archive:
        stored = {archive.read(f"data/{number}.png") for number in range(3)}
    assert {(out / file.path).read_bytes() for file in manifest.originals} == stored
    assert sorted(file.path for file in manifest.originals) == [
        "originals/Ground.png",
        "originals/Kite.png",
        "originals/Sign.png",
    ]


def test_a_zip_is_many_sources(tmp_path: Path, pool: Pool) -> None:
    Image.fromarray(photo(40, 30).numpy()).save(tmp_path / "a.png")
    with zipfile.ZipFile(tmp_path / "heap.zip", "w") as archive:
        archive.write(tmp_path / "a.png", "north/a.png")
        archive.write(tmp_path / "a.png", "south/a.png")
        archive.write(design(tmp_path / "d.ora"), "../../d.ora")
        archive.writestr("__MACOSX/._a.png", b"\x89PNG\r\n\x1a\n")
        archive.writestr("notes.txt", "hello")
    exporter = Exporter(pool, tmp_path / "out")
    sources = listed([tmp_path / "heap.zip"], None, exporter.place_for)
    assert sorted(file.name for file in sources) == ["d.ora", "north/a.png", "south/a.png"]
    manifest = exporter.export(sources, parse_plan(TINY, "p")).manifest
    assert not manifest.failed
    assert len(manifest.cuts) == 4
    assert not (tmp_path / "out" / ".gefa" / "unpacked").exists()
    (tmp_path / "broken.zip").write_bytes((tmp_path / "heap.zip").read_bytes()[:90])
    with pytest.raises(SourceError, match=r"broken\.zip: cannot be read as a zip"):
        listed([tmp_path / "broken.zip"], None, exporter.place_for)
    with zipfile.ZipFile(tmp_path / "letters.zip", "w") as archive:
        archive.writestr("notes.txt", "hello")
    with pytest.raises(SourceError, match="holds no picture or design"):
        listed([tmp_path / "letters.zip"], None, exporter.place_for)


def test_files_above_40_megapixels_are_asked_for(tmp_path: Path, pool: Pool) -> None:
    source = tmp_path / "s.svg"
    source.write_text(
        '<svg xmlns="http://www.w3.org/2000/svg" width="100" height="100">'
        '<circle id="c #tiny" cx="50" cy="50" r="40"/></svg>'
    )
    plan = parse_plan(TINY.replace("20]", "20]") + '[[cuts]]\npart = "c"\nrecipe = "tiny"\n'
                      'size = { width = 60, unit = "cm", dpi = 300 }', "p")  # fmt: skip
    asked: list[float] = []

    def refuse(jobs: list[CutJob]) -> bool:
        asked.extend(job.megapixels for job in jobs)
        return False

    exporter = Exporter(pool, tmp_path / "out", progress=ExportListener(large=refuse))
    manifest = exporter.export(named([source]), plan).manifest
    assert asked == [pytest.approx(7087 * 7087 / 1e6)]
    assert "50 megapixels" in manifest.left_out[0].reason
    assert not manifest.files


def test_a_size_in_millimetres_is_written_with_its_resolution(tmp_path: Path, pool: Pool) -> None:
    source = design(tmp_path / "d.ora")
    plan = parse_plan(TINY + '[[cuts]]\npart = "Kite"\nrecipe = "tiny"\n'
                      'size = { width = 2, unit = "mm", dpi = 254 }', "p")  # fmt: skip
    Exporter(pool, tmp_path / "out").export(named([source]), plan)
    with Image.open(tmp_path / "out" / "Kite-20.png") as made:
        assert made.size == (20, 13)
        assert made.info["dpi"] == pytest.approx((254, 254), abs=0.1)


def test_a_sprite_is_written_and_taken_away_again(tmp_path: Path, pool: Pool) -> None:
    """It is made of files that lie there, whichever of them were made anew."""
    source, out = svg(tmp_path / "drawing.svg", BADGE), tmp_path / "out"
    recipe = Recipe(formats=("svg",), widths=(96,), sprite=True)

    def export(recipe: Recipe) -> Manifest:
        plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="Badge", recipe="r"),))
        exporter = Exporter(pool, out)
        return exporter.export(listed([source], None, exporter.place_for), plan).manifest

    assert export(recipe).sprites[0].symbols == {"Badge": "Badge"}
    assert b'<symbol id="Badge"' in (out / "r/sprite.svg").read_bytes()
    assert export(recipe).files[0].reused
    assert (out / "r/sprite.svg").exists()
    gone = export(recipe.model_copy(update={"sprite": False}))
    assert [remark.reason for remark in gone.dropped] == ["r/sprite.svg is not made any more"]
    assert not (out / "r").exists()
    assert (out / "Badge.svg").exists()

"""What a recipe does to a picture before it is encoded: underlay, tones, marks."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core import carry_out, prepare, survey_for
from gefa.core.make.prepare import Prepared
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.treat.mark import marked
from gefa.core.treat.recipe import Corner, Mark, Recipe
from gefa.core.treat.tone import curve_for, lifted
from tests.make import (
    BLUE,
    GREEN,
    RED,
    G,
    L,
    dot,
    flat,
    largest_difference,
    loaded,
    ora,
    photo,
    svg,
)
from tests.shelves import MemoryShelf

PNG = Recipe(formats=("png",), widths=(2000,))


def cut(
    source: Path, part: str, recipe: Recipe, marks: dict[str, Path] | None = None
) -> tuple[Prepared, list[JobReport], MemoryShelf]:
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part=part, recipe="r"),))
    document = read(source)
    known = {name: f"digest of {name}" for name in marks or {}}
    prepared = prepare(survey_for(document, plan), plan, marks=known)
    shelf = MemoryShelf()
    picture = next(iter((marks or {}).values()), source)
    reports = [
        carry_out(job, lambda: document, shelf, mark=lambda: read(picture)) for job in prepared.jobs
    ]
    return prepared, reports, shelf


def pixels(shelf: MemoryShelf) -> pyvips.Image:
    (data,) = shelf.data.values()
    return loaded(data)


# -- underlay --------------------------------------------------------------------------------


def design(path: Path, *above: L) -> Path:
    ground = L("Ground", flat(200, 150, GREEN))
    glow = L(
        "Glow", dot(80, 60, (0, 0, 80, 60), (120, 120, 120)), 40, 30, {"composite-op": "svg:screen"}
    )
    return ora(
        path,
        200,
        150,
        [*above, G("Art", [glow, L("Below", dot(60, 60, (0, 0, 60, 60), BLUE), 20, 20)]), ground],
    )


def test_an_underlaid_layer_is_the_design_without_what_lies_above(tmp_path: Path) -> None:
    cover = L("Cover", dot(200, 150, (0, 0, 200, 150), RED))
    with_cover = design(tmp_path / "covered.ora", cover)
    recipe = Recipe.model_validate(PNG.model_dump() | {"alpha": "underlay"})
    _, (report,), shelf = cut(with_cover, "Art/Glow", recipe)
    bare = read(design(tmp_path / "bare.ora"))
    place = (report.record.x, report.record.y, report.record.width, report.record.height)
    assert place == (40, 30, 80, 60)
    wanted = bare.render(bare.canvas, bare.canvas_rect, 200).crop(*place)
    assert largest_difference(pixels(shelf), wanted.extract_band(0, n=3)) == 0
    assert not any("blend mode" in remark.reason for remark in report.warnings)


def test_what_hangs_over_the_canvas_has_nothing_beneath_it_and_is_cut_off(tmp_path: Path) -> None:
    recipe = Recipe.model_validate(PNG.model_dump() | {"alpha": "underlay"})
    source = design(
        tmp_path / "a.ora",
        L("Edge", dot(60, 40, (0, 0, 60, 40), RED), 170, 10),
        L("Out", dot(9, 9, (0, 0, 9, 9), RED), 400, 10),
    )
    _, (report,), _ = cut(source, "Edge", recipe)
    assert (report.record.x, report.record.width) == (170, 30)
    prepared, reports, _ = cut(source, "Out", recipe)
    assert reports == []
    assert "outside the canvas" in prepared.failed[0].reason


def test_an_underlaid_shape_shows_the_drawing_below_it(tmp_path: Path) -> None:
    body = (
        '<rect id="ground" width="400" height="300" fill="#20a040"/>'
        '<g id="art"><circle id="dot" cx="100" cy="100" r="40" fill="#1e3cc8" opacity="0.5"/>'
        '<rect id="later" x="90" y="90" width="20" height="20" fill="#fff"/></g>'
        '<rect id="cover" width="400" height="300" fill="#c81e14"/>'
    )
    recipe = Recipe(formats=("png",), widths=(80,), alpha="underlay")
    _, (report,), shelf = cut(svg(tmp_path / "a.svg", body), "art/dot", recipe)
    middle = pixels(shelf)(40, 40)[:3]
    assert middle == pytest.approx([31, 110, 132], abs=2)
    assert pixels(shelf)(1, 1)[:3] == pytest.approx([32, 160, 64], abs=1)
    assert report.record.alpha == "none"


# -- tones -----------------------------------------------------------------------------------


@given(st.integers(0, 120), st.integers(121, 255), st.integers(0, 99))
def test_a_tone_curve_never_turns_round(dark: int, bright: int, seed: int) -> None:
    levels = np.random.default_rng(seed).integers(dark, bright + 1, (20, 20, 1), np.uint8)
    curve = curve_for(pyvips.Image.new_from_array(levels.repeat(3, 2), interpretation="srgb"))
    assert (np.diff(curve.astype(int)) >= 0).all()
    assert abs(curve.astype(int) - np.arange(256)).max() <= 28 + 45


def test_flat_tones_are_lifted_and_full_ones_hardly_changed() -> None:
    full = photo(300, 200, 2)
    dull = (full * 0.55 + 50).cast("uchar").copy(interpretation="srgb")
    lift = lifted(dull, curve_for(dull))
    assert lift.max() - lift.min() > dull.max() - dull.min() + 25
    assert abs(lifted(full, curve_for(full)).avg() - full.avg()) < 8
    clear = dot(40, 40, (10, 10, 10, 10), (90, 90, 90))
    toned = lifted(clear, curve_for(clear))
    assert largest_difference(toned[3], clear[3]) == 0


def test_all_sizes_get_the_same_tones_and_the_recipe_tells_them_apart(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    (photo(600, 400, 3) * 0.5 + 60).cast("uchar").pngsave(str(source))
    plain = Recipe(formats=("png",), widths=(150, 600))
    toned = plain.model_copy(update={"tone": True})
    _, (before,), one = cut(source, "/", plain)
    _, (after,), other = cut(source, "/", toned)
    assert set(before.keys.values()).isdisjoint(after.keys.values())
    small, large = (loaded(other.data[file.path]) for file in after.files)
    shrunk = large.resize(small.width / large.width)
    assert abs(small.avg() - shrunk.avg()) < 1
    assert small.deviate() > loaded(one.data[before.files[0].path]).deviate() * 1.1


# -- marks -----------------------------------------------------------------------------------


@pytest.fixture
def stamp(tmp_path: Path) -> Path:
    path = tmp_path / "stamp.png"
    flat(40, 20, (0, 0, 255)).pngsave(str(path))
    return path


@pytest.mark.parametrize(
    ("corner", "inside", "outside"),
    [
        (Corner.TOP_LEFT, (30, 15), (170, 80)),
        (Corner.TOP_RIGHT, (170, 15), (30, 80)),
        (Corner.BOTTOM_LEFT, (30, 85), (170, 20)),
        (Corner.BOTTOM_RIGHT, (170, 85), (30, 20)),
    ],
)
def test_a_mark_lies_in_its_corner_with_its_margin_and_opacity(
    stamp: Path, corner: Corner, inside: tuple[int, int], outside: tuple[int, int]
) -> None:
    ground = flat(200, 100, (200, 200, 200))
    mark = Mark(picture="stamp.png", corner=corner, width=0.2, margin=0.05, opacity=0.5)
    made = marked(ground, mark, read(stamp))
    assert (made.width, made.height, made.bands) == (200, 100, 3)
    assert made(*inside)[:3] == pytest.approx([100, 100, 228], abs=2)
    assert made(*outside)[:3] == [200, 200, 200]
    changed = (made.extract_band(0) < 150).numpy() > 0
    rows, columns = np.flatnonzero(changed.any(1)), np.flatnonzero(changed.any(0))
    assert (rows[-1] - rows[0] + 1, columns[-1] - columns[0] + 1) == (20, 40)
    assert min(rows[0], 99 - rows[-1]) == min(columns[0], 199 - columns[-1]) == 10


def test_a_mark_is_never_larger_than_its_picture_and_keeps_transparency(stamp: Path) -> None:
    tall = Mark(picture="stamp.png", width=1.0, margin=0.1)
    made = marked(dot(60, 12, (0, 0, 9, 9)), tall, read(stamp))
    assert (made.width, made.height, made.bands) == (60, 12, 4)
    assert made(30, 0)[3] == 0


def test_a_recipe_lays_its_mark_over_every_size(tmp_path: Path, stamp: Path) -> None:
    source = tmp_path / "a.png"
    flat(400, 200, (220, 210, 200)).pngsave(str(source))
    mark = Mark(picture="stamp.png", width=0.25, margin=0.0, opacity=1)
    recipe = Recipe(formats=("png",), widths=(100, 400), mark=mark)
    _, (report,), shelf = cut(source, "/", recipe, {"stamp.png": stamp})
    for file in report.files:
        corner = loaded(shelf.data[file.path])(file.width - 3, file.height - 3)
        assert corner[2] == 255
        assert corner[0] < 10
    prepared, reports, _ = cut(source, "/", recipe)
    assert reports == []
    assert "its mark, the picture 'stamp.png', is missing" in prepared.failed[0].reason

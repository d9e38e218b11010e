from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.slice_geometry import cells, even_lines, fingerprint, gaps, line_at, overlaps
from gefa.core.cut.suggest import merged, objects_of, suggested
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect, Size
from gefa.core.make.make_cut import carry_out
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.gather import gather
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CellEntry, Plan, SliceEntry, Split
from gefa.core.read import read
from gefa.core.read.survey import survey
from tests.make import BLUE, GREEN, RED, L, dot, flat, ora, photo
from tests.shelves import MemoryShelf

SIZES = st.builds(Size, st.integers(1, 5000), st.integers(1, 5000))
RECTS = st.builds(
    Rect, st.integers(-20, 90), st.integers(-20, 70), st.integers(1, 60), st.integers(1, 60)
)


def painted(rects: list[Rect], canvas: Rect) -> np.ndarray:
    """How often each pixel of the canvas is covered."""
    counts = np.zeros((canvas.height, canvas.width), int)
    for rect in rects:
        shared = rect.intersection(canvas)
        counts[shared.y : shared.bottom, shared.x : shared.right] += 1
    return counts


@given(SIZES, st.integers(1, 60), st.integers(1, 60))
def test_an_even_split_tiles_and_its_widths_differ_by_one(
    size: Size, columns: int, rows: int
) -> None:
    made = cells(size, even_lines(size.width, columns), even_lines(size.height, rows))
    assert len(made) == min(columns, size.width) * min(rows, size.height)
    assert sum(c.rect.width * c.rect.height for c in made) == size.width * size.height
    for sides in ({c.rect.width for c in made}, {c.rect.height for c in made}):
        assert max(sides) - min(sides) <= 1


@given(
    st.integers(1, 90),
    st.integers(1, 70),
    st.lists(st.integers(-10, 110)),
    st.lists(st.integers(-10, 110)),
)
def test_guides_tile_exactly_wherever_they_lie(
    width: int, height: int, across: list[int], down: list[int]
) -> None:
    made = cells(Size(width, height), across, down)
    canvas = Rect(0, 0, width, height)
    assert (painted([cell.rect for cell in made], canvas) == 1).all()


@given(st.lists(RECTS, max_size=6))
def test_gaps_and_overlaps_agree_with_painting(rects: list[Rect]) -> None:
    canvas = Rect(0, 0, 80, 60)
    counts = painted(rects, canvas)
    found = gaps(rects, canvas)
    assert found.share == pytest.approx((counts == 0).mean())
    assert (painted([found.largest], canvas)[counts > 0] == 0).all()
    inside = [rect.intersection(canvas) for rect in rects]
    assert bool(overlaps(inside)) == bool((counts > 1).any())


def test_guides_are_px_or_percent() -> None:
    assert [line_at(p, 300) for p in (40, "50%", "33.3 %", 900)] == [40, 150, 100, 300]
    with pytest.raises(PlanError, match="not a place for a guide"):
        parse_plan('[[slices]]\nguides = { x = ["wide"] }', "p.toml")
    with pytest.raises(PlanError, match="one of split, guides or rect"):
        parse_plan("[[slices]]\nrecipe = 'icon'", "p.toml")


def test_every_slice_has_its_own_name_and_recipe(tmp_path: Path) -> None:
    photo(90, 60).pngsave(str(tmp_path / "wide.png"))
    plan = Plan(
        slices=(
            SliceEntry(
                split=Split(columns=3, rows=2),
                recipe="figure",
                cells={
                    "r1-c2": CellEntry(name="logo", recipe="icon"),
                    "r2-c3": CellEntry(leave_out=True),
                },
            ),
        )
    )
    found = gather(survey_for(read(tmp_path / "wide.png"), plan), plan, default=True)
    cuts = {cut.name: (cut.recipe, cut.rect) for cut in found.cuts}
    assert cuts["logo"] == ("icon", Rect(30, 0, 30, 30))
    assert cuts["wide-r2-c1"] == ("figure", Rect(0, 30, 30, 30))
    assert len(cuts) == 5
    assert [remark.cut for remark in found.left_out] == ["wide-r2-c3"]


def test_drawn_slices_tell_of_overlaps_gaps_and_edges(tmp_path: Path) -> None:
    photo(100, 50).pngsave(str(tmp_path / "p.png"))
    rects = [(0, 0, 60, 50), (50, 0, 30, 50), (90, 10, 40, 10), (300, 0, 5, 5)]
    plan = Plan(slices=tuple(SliceEntry(rect=rect, name=f"s{i}") for i, rect in enumerate(rects)))
    found = gather(survey_for(read(tmp_path / "p.png"), plan), plan, default=True)
    reasons = " | ".join(f"{r.cut}: {r.reason}" for r in found.warnings)
    assert "s0: overlaps s1 by 10 × 50 px at 50, 0" in reasons
    assert "s2: extends past the edge" in reasons
    assert "s3: lies outside the canvas" in reasons
    assert found.gaps.startswith("18.0 % of the canvas is in no slice")
    assert [cut.rect for cut in found.cuts if cut.name == "s2"] == [Rect(90, 10, 10, 10)]


@pytest.mark.parametrize("orientation", range(1, 9))
def test_slices_hold_exactly_the_pixels_of_the_upright_picture(
    tmp_path: Path, orientation: int
) -> None:
    image = photo(61, 40).copy()
    image.set_type(pyvips.GValue.gint_type, "orientation", orientation)
    image.tiffsave(str(tmp_path / "p.tif"))
    document = read(tmp_path / "p.tif")
    whole = document.render(document.canvas, document.canvas_rect, 61).numpy()
    for cell in cells(document.size, [7, 30], [11, 25]):
        piece = document.render(document.canvas, cell.rect, cell.rect.width).numpy()
        wanted = whole[cell.rect.y : cell.rect.bottom, cell.rect.x : cell.rect.right]
        assert (piece == wanted).all()


def test_regions_of_large_pictures_come_from_a_copy_on_disk(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gefa.core.read.scratch import Scratch

    monkeypatch.setattr("gefa.core.read.flat.LARGE_MEGAPIXELS", 0.01)
    image = photo(400, 300)
    image.pngsave(str(tmp_path / "large.png"))
    document = read(tmp_path / "large.png", scratch=Scratch(tmp_path / "scratch"))
    piece = document.render(document.canvas, Rect(100, 50, 200, 120), 200).numpy()
    assert (piece == image.numpy()[50:170, 100:300]).all()
    assert len(list((tmp_path / "scratch").glob("*.tif"))) == 1


def test_a_change_in_one_layer_changes_only_the_slices_it_reaches(tmp_path: Path) -> None:
    def prints(colour: tuple[int, int, int]) -> list[str]:
        layers = [
            L("Dot", dot(30, 30, (5, 5, 20, 20), colour), 0, 0),
            L("Other", dot(30, 30, (5, 5, 20, 20), GREEN), 60, 0),
            L("Ground", flat(90, 30, BLUE)),
        ]
        document = read(ora(tmp_path / f"{colour[0]}.ora", 90, 30, layers))
        return [fingerprint(survey(document), Rect(x, 0, 30, 30)) for x in (0, 30, 60)]

    before, after = prints(RED), prints((1, 2, 3))
    assert [a == b for a, b in zip(before, after, strict=True)] == [False, True, True]


def test_slices_are_carried_out_like_any_cut(tmp_path: Path) -> None:
    photo(120, 80).pngsave(str(tmp_path / "p.png"))
    plan = parse_plan(
        """
        [recipes.exact]
        formats = ["png"]
        widths = [4000]
        [[slices]]
        guides = { x = ["25%", 70], y = [33] }
        recipe = "exact"
        """,
        "p.toml",
    )
    document = read(tmp_path / "p.png")
    shelf = MemoryShelf()
    canvas = np.zeros((80, 120, 3), np.uint8)
    for job in prepare(survey_for(document, plan), plan).jobs:
        report = carry_out(job, lambda: document, shelf)
        (file,) = report.files
        piece = pyvips.Image.new_from_buffer(shelf.data[file.path], "").numpy()
        r = report.record
        canvas[r.y : r.y + r.height, r.x : r.x + r.width] = piece
    assert (canvas == photo(120, 80).numpy()).all()


def test_objects_on_a_plain_ground_are_suggested(tmp_path: Path) -> None:
    ground = np.full((200, 300, 3), 240, np.uint8)
    boxes = [Rect(20, 20, 60, 40), Rect(150, 30, 50, 90), Rect(60, 140, 30, 30)]
    for box in boxes:
        ground[box.y : box.bottom, box.x : box.right] = (30, 90, 60)
    ground[142:150, 94:100] = (200, 0, 0)  # 4 px beside the third
    pyvips.Image.new_from_array(ground).pngsave(str(tmp_path / "sheet.png"))
    objects = objects_of(read(tmp_path / "sheet.png"))
    assert suggested(objects, distance=2) == [
        *boxes[:2],
        Rect(60, 140, 30, 30),
        Rect(94, 142, 6, 8),
    ]
    assert suggested(objects, distance=8) == [*boxes[:2], Rect(60, 140, 40, 30)]
    photo(200, 100).pngsave(str(tmp_path / "photo.png"))
    assert objects_of(read(tmp_path / "photo.png")) == []


@given(st.lists(RECTS, max_size=8), st.integers(0, 20))
def test_merged_boxes_hold_all_and_are_far_enough_apart(boxes: list[Rect], distance: int) -> None:
    joined = merged(boxes, distance)
    assert all(any(j.union(b) == j for j in joined) for b in boxes)
    for index, one in enumerate(joined):
        for other in joined[index + 1 :]:
            assert one.grown(distance).intersection(other).empty

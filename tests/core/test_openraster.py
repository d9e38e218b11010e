from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest

from gefa.core.geometry import Rect
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.document import Document, Kind
from gefa.core.read.survey import survey
from tests.core.test_export import run
from tests.make import BLUE, GREEN, RED, G, L, dot, flat, largest_difference, loaded, ora


@pytest.fixture
def nested(tmp_path: Path) -> Document:
    """Groups in groups, offsets, hidden layers, opacity."""
    return read(
        ora(
            tmp_path / "nested.ora",
            100,
            80,
            [
                G(
                    "Front",
                    [
                        L("Dot #icon", dot(40, 40, (5, 6, 10, 12)), 50, 30),
                        L("Ghost", flat(10, 10, BLUE), 3, 3, {"visibility": "hidden"}),
                        G("Inner", [L("Deep", flat(20, 10, GREEN), 5, 5)], {"x": "60", "y": "50"}),
                    ],
                ),
                L("Over the edge", flat(30, 30, RED), -12, 65, {"opacity": "0.5"}),
                L("Ground", flat(100, 80, (240, 240, 240))),
            ],
        )
    )


def test_the_tree_is_read_topmost_first(nested: Document) -> None:
    found = [(part.path, part.kind) for part in nested.canvas.walk()]
    assert found == [
        ("/", Kind.CANVAS),
        ("Front", Kind.GROUP),
        ("Front/Dot", Kind.LAYER),
        ("Front/Ghost", Kind.LAYER),
        ("Front/Inner", Kind.GROUP),
        ("Front/Inner/Deep", Kind.LAYER),
        ("Over the edge", Kind.LAYER),
        ("Ground", Kind.LAYER),
    ]
    assert nested.part("Front/Dot").tags == ("icon",)
    assert not nested.part("Front/Ghost").visible
    assert nested.part("Over the edge").opacity == 0.5


def test_extents_are_the_visible_pixels_also_beyond_the_canvas(nested: Document) -> None:
    assert nested.extent(nested.part("Front/Dot")) == Rect(55, 36, 10, 12)
    assert nested.extent(nested.part("Over the edge")) == Rect(-12, 65, 30, 30)
    assert nested.extent(nested.part("Front/Inner/Deep")) == Rect(65, 55, 20, 10)
    assert nested.extent(nested.part("Front")) == Rect(55, 36, 30, 29)
    assert nested.extent(nested.canvas) == Rect(0, 0, 100, 80)


def test_a_hidden_layer_can_be_cut_and_is_not_in_its_group(nested: Document) -> None:
    ghost = nested.part("Front/Ghost")
    image = nested.render(ghost, nested.extent(ghost), 10)
    assert image.numpy()[0, 0].tolist() == [*BLUE, 255]
    front = nested.part("Front")
    whole = nested.render(front, Rect(0, 0, 100, 80), 100).numpy()
    assert whole[5, 5, 3] == 0


def test_a_part_keeps_its_own_opacity(nested: Document) -> None:
    part = nested.part("Over the edge")
    pixel = nested.render(part, nested.extent(part), 30).numpy()[3, 3]
    assert pixel.tolist() == pytest.approx([*RED, 128], abs=1)


def test_the_canvas_shows_everything_in_its_place(nested: Document) -> None:
    canvas = nested.render(nested.canvas, nested.canvas_rect, 100).numpy()
    assert canvas[40, 60, :3].tolist() == list(RED)
    assert canvas[58, 70, :3].tolist() == list(GREEN)
    assert canvas[5, 5, :3].tolist() == [240, 240, 240]
    assert canvas[70, 5, :3].tolist() == pytest.approx([220, 135, 130], abs=1)


def test_a_group_that_is_faded_or_blended_is_composed_by_itself_first(tmp_path: Path) -> None:
    """Two overlapping layers at half opacity as a group: the overlap shows the upper one only."""
    layers = [L("a", flat(10, 10, RED)), L("b", flat(10, 10, BLUE))]
    file = ora(tmp_path / "g.ora", 10, 10, [G("both", layers, {"opacity": "0.5"})])
    document = read(file)
    assert document.render(document.canvas, document.canvas_rect, 10).numpy()[
        4, 4
    ].tolist() == pytest.approx([*RED, 128], abs=1)


def test_blending_goes_through_a_group_unless_it_is_isolated(tmp_path: Path) -> None:
    """Multiply in a plain group sees the ground below the group; isolated it does not."""
    for isolation, wanted in (("auto", [94, 19, 6]), ("isolate", [120, 160, 80])):
        layer = L("m", flat(4, 4, (120, 160, 80)), 0, 0, {"composite-op": "svg:multiply"})
        items = [G("g", [layer], {"isolation": isolation}), L("ground", flat(4, 4, RED))]
        document = read(ora(tmp_path / f"{isolation}.ora", 4, 4, items))
        pixel = document.render(document.canvas, document.canvas_rect, 4).numpy()[0, 0, :3]
        assert pixel.tolist() == pytest.approx(wanted, abs=1), isolation


def test_a_part_alone_does_not_blend_with_what_lies_below(tmp_path: Path) -> None:
    layer = L("m", flat(4, 4, GREEN), 0, 0, {"composite-op": "svg:multiply"})
    document = read(ora(tmp_path / "m.ora", 4, 4, [layer, L("ground", flat(4, 4, RED))]))
    part = document.part("m")
    assert part.blend == "multiply"
    assert document.render(part, document.extent(part), 4).numpy()[0, 0, :3].tolist() == list(GREEN)


def test_a_layer_that_eats_into_its_group_makes_the_extent_smaller(tmp_path: Path) -> None:
    eater = L("hole", flat(20, 40, BLUE), 0, 0, {"composite-op": "svg:dst-out"})
    group = G("g", [eater, L("plate", flat(40, 40, RED))])
    document = read(ora(tmp_path / "hole.ora", 40, 40, [group]))
    assert document.extent(document.part("g")) == Rect(20, 0, 20, 40)


def test_an_unknown_operator_is_told_and_drawn_plainly(tmp_path: Path) -> None:
    layer = L("odd", flat(4, 4, RED), 0, 0, {"composite-op": "svg:sparkle"})
    document = read(ora(tmp_path / "odd.ora", 4, 4, [layer]))
    assert "sparkle" in document.notices[0].reason
    assert document.part("odd").blend == "src-over"


def test_names_used_twice_get_paths_of_their_own(tmp_path: Path) -> None:
    layers = [
        L("Kite", flat(2, 2)),
        L("Kite #icon", flat(2, 2)),
        L("a/b", flat(2, 2)),
        L("", flat(2, 2)),
    ]
    document = read(ora(tmp_path / "twice.ora", 4, 4, layers))
    paths = [part.path for part in document.canvas.children]
    assert paths == ["Kite", "Kite~2", "a∕b", "layer"]


def test_fingerprints_follow_the_pixels_and_nothing_else(tmp_path: Path) -> None:
    def document(at: int, colour: tuple[int, int, int], other: int = 0) -> Document:
        name = f"{at}-{colour[0]}-{other}.ora"
        layers = [L("a", dot(20, 20, (2, 2, 9, 9), colour), at, at), L("b", flat(9, 9), other, 0)]
        return read(ora(tmp_path / name, 60, 60, [G("g", layers)]))

    def prints(d: Document) -> tuple[str, str]:
        return d.fingerprint(d.part("g/a")), d.fingerprint(d.part("g"))

    same = prints(document(5, RED))
    assert prints(document(5, RED)) == same
    assert prints(document(8, RED))[0] == same[0], "moving a layer changes none of its pixels"
    assert prints(document(8, RED))[1] != same[1], "moving a layer changes its group"
    assert prints(document(5, BLUE))[0] != same[0]
    assert prints(document(5, RED, other=3))[0] == same[0]


def test_the_poster_agrees_with_its_own_merged_image(poster: Path) -> None:
    document = read(poster)
    canvas = document.render(document.canvas, document.canvas_rect, document.size.width)
    merged = loaded(zipfile.ZipFile(poster).read("mergedimage.png"))
    assert largest_difference(canvas, merged) <= 2


def test_the_poster_is_the_design_it_is_meant_to_be(poster: Path) -> None:
    document = read(poster)
    parts = list(document.canvas.walk())
    assert sum(part.kind is Kind.LAYER for part in parts) >= 12
    assert sum(part.kind is Kind.GROUP for part in parts) == 3
    assert any(not part.visible for part in parts)
    runaway = document.extent(document.part("Kites/Runaway kite"))
    assert runaway.right > document.size.width
    alpha = document.render(document.part("Words/Sun badge"), Rect(1180, 1408, 320, 324), 320)
    levels = np.unique(alpha.numpy()[..., 3])
    assert len(levels) > 50, "the shadow is soft"


# -- files as other programs write them ----------------------------------------------------------


def packed(path: Path, xml: str, members: dict[str, bytes], mimetype: str = "first") -> Path:
    """A zip with a stack.xml and these members, written as they are named."""
    with zipfile.ZipFile(path, "w") as archive:
        if mimetype == "first":
            archive.writestr("mimetype", "image/openraster")
        archive.writestr("stack.xml", xml)
        for name, data in members.items():
            archive.writestr(name, data)
        if mimetype == "last":
            archive.writestr("mimetype", "image/openraster")
    return path


def png(colour: tuple[int, int, int]) -> bytes:
    return bytes(flat(30, 20, colour).pngsave_buffer())


def stack(*layers: str) -> str:
    return f'<image w="60" h="40"><stack>{"".join(layers)}</stack></image>'


@pytest.mark.parametrize("mimetype", ["first", "last", "none"])
def test_a_stack_in_a_zip_is_a_design_wherever_its_type_lies(tmp_path: Path, mimetype: str) -> None:
    xml = stack('<layer name="Kite" src="data/k.png" x="3" y="4"/>')
    document = read(packed(tmp_path / "d.ora", xml, {"data/k.png": png(RED)}, mimetype))
    assert document.format == "openraster"
    assert document.extent(document.part("Kite")) == Rect(3, 4, 30, 20)


@pytest.mark.parametrize("src", ["./data/k%20a.png", "data/../data/k a.png", "/data/k a.png"])
def test_paths_of_bitmaps_are_resolved(tmp_path: Path, src: str) -> None:
    xml = stack(f'<layer name="Kite" src="{src}"/>')
    document = read(packed(tmp_path / "d.ora", xml, {"data/k a.png": png(RED)}))
    assert document.extent(document.part("Kite")) == Rect(0, 0, 30, 20)


@pytest.mark.parametrize(
    "src", ["../k.png", "data/../../k.png", "/etc/passwd", "", "data/gone.png"]
)
def test_a_lost_bitmap_costs_its_layer_and_no_other(tmp_path: Path, src: str) -> None:
    (tmp_path / "k.png").write_bytes(png(RED))
    xml = stack(f'<layer name="Lost" src="{src}"/>', '<layer name="Kite" src="data/k.png" x="5"/>')
    surveyed = survey(read(packed(tmp_path / "d.ora", xml, {"data/k.png": png(GREEN)})))
    assert surveyed.part("Kite").extent == Rect(5, 0, 30, 20)
    assert surveyed.part("Lost").problem
    source = packed(tmp_path / "e.ora", xml, {"data/k.png": png(GREEN)})
    _, reports = run(source, tmp_path / "out", Plan())
    assert [report.record.name for report in reports if report.files] == ["Kite"]


def test_a_layer_that_is_not_to_be_seen_is_fine(tmp_path: Path) -> None:
    """Opacity 0: nothing visible, and its bitmap can be taken out all the same."""
    xml = stack('<layer name="Ghost" src="data/g.png" opacity="0"/>',
                '<layer name="Kite" src="data/k.png"/>')  # fmt: skip
    members = {"data/g.png": png(RED), "data/k.png": png(GREEN)}
    document = read(packed(tmp_path / "d.ora", xml, members))
    surveyed = survey(document)
    keys = {original.part: original.key for original in surveyed.originals}
    assert set(keys) == {"Ghost", "Kite"}
    assert document.original_bytes(keys["Ghost"]) == members["data/g.png"]
    assert document.extent(document.part("Ghost")).empty


def test_many_faint_layers_in_groups_are_composed_without_steps(tmp_path: Path) -> None:
    """Forty layers at one per cent: in whole levels of 255 none of them would be seen."""
    layers = [
        L(f"Haze {n}", flat(20, 20, (255, 255, 255)), 0, 0, {"opacity": "0.01"}) for n in range(40)
    ]
    inner = G("Inner", layers[:20], {"isolation": "isolate"})
    group = G("Outer", [inner, *layers[20:]], {"isolation": "isolate", "opacity": "0.9"})
    document = read(ora(tmp_path / "d.ora", 20, 20, [group, L("Ground", flat(20, 20, (0, 0, 0)))]))
    image = document.render(document.canvas, document.canvas_rect, 20)
    wanted = 255 * 0.9 * (1 - 0.99**40)
    assert abs(image(5, 5)[0] - wanted) <= 1

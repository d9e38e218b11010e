from __future__ import annotations

import gzip
import random
from pathlib import Path

import pytest

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.document import Document, Kind
from gefa.core.read.svg.elements import SVG
from gefa.core.read.svg.reach import Reaches
from gefa.core.read.xml import parse
from tests.make import svg

XLINK = 'xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:ink="urn:draw"'


def opened(tmp_path: Path, body: str, **size: int) -> Document:
    return read(svg(tmp_path / "drawing.svg", body, more=XLINK, **size))


def box(document: Document, path: str) -> Rect:
    return document.extent(document.part(path))


def test_a_part_is_named_by_title_then_label_then_id(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<g id="one" ink:label="two"><title>Three #icon</title><rect id="r" width="9" height="9"/></g>'
        '<circle id="c" ink:label="Moon" r="9"/><path id="plain" d="M0 0h9v9z"/><rect width="5" height="5"/>'
        '<text id="words">x</text><image id="photo"/><use id="again" href="#r"/>',
    )
    found = {part.path: part.kind for part in document.canvas.walk()}
    assert found == {
        "/": Kind.CANVAS,
        "Three": Kind.GROUP,
        "Three/r": Kind.SHAPE,
        "Moon": Kind.SHAPE,
        "plain": Kind.SHAPE,
        "words": Kind.TEXT,
        "photo": Kind.IMAGE,
        "again": Kind.USE,
    }
    assert document.part("Three").tags == ("icon",)


def test_the_last_drawn_part_comes_first_and_nameless_groups_are_seen_through(
    tmp_path: Path,
) -> None:
    body = (
        '<rect id="low"/><g><g><rect id="mid"/></g></g><rect id="top"/><defs><rect id="no"/></defs>'
    )
    document = opened(tmp_path, body)
    assert [part.path for part in document.canvas.children] == ["top", "mid", "low"]


def test_extents_count_strokes_transforms_and_what_hangs_over(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<rect id="stroked" x="50" y="40" width="20" height="10" stroke="#000" stroke-width="6"/>'
        '<g transform="translate(100 20) scale(2)"><rect id="scaled" x="5" y="5" width="10" height="10"/></g>'
        '<circle id="edge" cx="400" cy="150" r="30"/><rect id="left" x="-50" y="10" width="30" height="8"/>',
    )
    assert box(document, "stroked") == Rect(47, 37, 26, 16)
    assert box(document, "scaled") == Rect(110, 30, 20, 20)
    assert box(document, "edge") == Rect(370, 120, 60, 60)
    assert box(document, "left") == Rect(-50, 10, 30, 8)


def test_a_stray_object_far_off_the_canvas_is_found(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<g id="g"><rect width="9" height="9"/><rect x="4300" y="90" width="6" height="6"/></g>',
    )
    assert box(document, "g") == Rect(0, 0, 4306, 96)


def test_filters_gradients_and_clips_stay_with_their_part(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<defs><linearGradient id="g"><stop stop-color="#f00"/><stop offset="1" stop-color="#00f"/></linearGradient>'
        '<filter id="f" x="-1" y="-1" width="3" height="3"><feGaussianBlur stdDeviation="4"/></filter>'
        '<clipPath id="c"><rect x="0" y="0" width="50" height="300"/></clipPath></defs>'
        '<rect id="graded" width="100" height="20" fill="url(#g)"/>'
        '<rect id="blurred" x="100" y="100" width="40" height="40" filter="url(#f)"/>'
        '<rect id="clipped" y="200" width="100" height="20" clip-path="url(#c)"/>',
    )
    row = document.render(document.part("graded"), box(document, "graded"), 100).numpy()[10]
    assert row[2, 0] > 240
    assert row[97, 2] > 240
    blurred = box(document, "blurred")
    assert blurred.width > 55
    assert box(document, "clipped") == Rect(0, 200, 50, 20)


def test_a_part_that_uses_another_brings_it_along(tmp_path: Path) -> None:
    """The used shape stands in a group that is itself left out."""
    document = opened(
        tmp_path,
        '<g id="shelf"><circle id="ball" cx="20" cy="20" r="10" fill="#0a0"/></g>'
        '<use id="copy" xlink:href="#ball" x="100" y="50"/>',
    )
    assert box(document, "copy") == Rect(110, 60, 20, 20)
    image = document.render(document.part("copy"), Rect(0, 0, 400, 300), 400).numpy()
    assert image[70, 120].tolist() == [0, 170, 0, 255]
    assert image[20, 20, 3] == 0, "the original is not shown"


def test_hidden_parts_can_be_cut_and_hidden_children_stay_hidden(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<g id="off" display="none"><rect id="in" width="20" height="20"/>'
        '<rect id="hid" x="50" width="20" height="20" style="visibility:hidden"/></g>'
        '<rect id="styled" style="display:none" y="50" width="10" height="10"/>',
    )
    assert not document.part("off").visible
    assert box(document, "off") == Rect(0, 0, 20, 20)
    assert box(document, "off/in") == Rect(0, 0, 20, 20)
    assert box(document, "off/hid") == Rect(50, 0, 20, 20)
    assert box(document, "styled") == Rect(0, 50, 10, 10)


def test_own_opacity_counts_and_that_of_groups_above_does_not(tmp_path: Path) -> None:
    document = opened(
        tmp_path,
        '<g id="g" opacity=".5"><rect id="r" width="20" height="20" opacity=".8"/></g>',
    )
    alpha = document.render(document.part("g/r"), Rect(0, 0, 20, 20), 20).numpy()[5, 5, 3]
    assert alpha == pytest.approx(204, abs=1)
    alpha = document.render(document.part("g"), Rect(0, 0, 20, 20), 20).numpy()[5, 5, 3]
    assert alpha == pytest.approx(102, abs=1)


def test_shapes_are_drawn_at_the_size_asked_for(tmp_path: Path) -> None:
    """At ten times the size an edge is still one pixel wide: nothing was enlarged from pixels."""
    document = opened(tmp_path, '<path id="p" d="M10 10h40v40h-40z"/>')
    large = document.render(document.part("p"), Rect(0, 0, 60, 60), 600)
    assert (large.width, large.height) == (600, 600)
    row = large.numpy()[300, :, 3]
    assert row[99] == 0
    assert row[100] == 255
    assert row[499] == 255
    assert row[500] == 0


def test_a_part_with_a_bitmap_in_it_is_not_scalable(tmp_path: Path) -> None:
    body = (
        '<g id="with"><image href="data:image/png;base64,x"/></g><g id="without"><rect id="r"/></g>'
    )
    body += '<pattern id="pat"><image/></pattern><rect id="through" fill="url(#pat)"/>'
    document = opened(tmp_path, body)
    scalable = {part.path: part.scalable for part in document.canvas.walk()}
    assert scalable == {
        "/": False, "with": False, "without": True, "without/r": True, "through": False,
    }  # fmt: skip


@pytest.mark.parametrize(
    ("attributes", "size"),
    [
        ('width="4in" height="96pt"', (384, 128)),
        ('width="25.4mm" height="2.54cm"', (96, 96)),
        ('viewBox="0 0 640 480"', (640, 480)),
        ('width="320" viewBox="0 0 640 480"', (320, 240)),
        ('width="50%" height="50%" viewBox="0,0,640,480"', (320, 240)),
    ],
)
def test_canvas_sizes(tmp_path: Path, attributes: str, size: tuple[int, int]) -> None:
    file = tmp_path / "sized.svg"
    file.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" {attributes}><rect id="r" width="9" height="9"/></svg>'
    )
    document = read(file)
    assert (document.size.width, document.size.height) == size


def test_a_viewbox_scales_the_extent(tmp_path: Path) -> None:
    file = tmp_path / "scaled.svg"
    file.write_text(
        '<svg xmlns="http://www.w3.org/2000/svg" width="400" height="400" viewBox="0 0 100 100">'
        '<rect id="r" x="10" y="10" width="20" height="20"/></svg>'
    )
    assert box(read(file), "r") == Rect(40, 40, 80, 80)


def test_fingerprints_change_with_what_a_part_shows_and_not_with_others(tmp_path: Path) -> None:
    def prints(a: str, b: str, gradient: str = "#f00") -> tuple[str, str]:
        document = opened(
            tmp_path,
            f'<defs><linearGradient id="g"><stop stop-color="{gradient}"/></linearGradient></defs>'
            f'<rect id="a" width="20" height="20" fill="{a}"/><rect id="b" y="50" width="{b}" height="9"/>',
        )
        return tuple(document.fingerprint(document.part(p)) for p in ("a", "b"))  # type: ignore[return-value]

    first = prints("url(#g)", "20")
    assert prints("url(#g)", "20") == first
    assert prints("url(#g)", "30")[0] == first[0]
    assert prints("url(#g)", "30")[1] != first[1]
    changed = prints("url(#g)", "20", "#0f0")
    assert changed[0] != first[0], "the gradient it uses changed"
    assert changed[1] == first[1], "the gradient is nothing to the other part"


def test_nothing_outside_the_drawing_is_fetched(tmp_path: Path) -> None:
    secret = svg(tmp_path / "secret.svg", '<rect width="400" height="300"/>')
    document = opened(
        tmp_path, f'<image id="i" width="400" height="300" href="{secret.as_uri()}"/>'
    )
    assert document.extent(document.part("i")).empty


def test_a_huge_picture_inside_a_drawing_is_refused(tmp_path: Path) -> None:
    import base64
    import struct
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        )

    header = struct.pack(">IIBBBBB", 90_000, 90_000, 8, 2, 0, 0, 0)
    png = (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", header)
        + chunk(b"IDAT", zlib.compress(b""))
        + chunk(b"IEND", b"")
    )
    data = base64.b64encode(png).decode()
    with pytest.raises(SourceError, match="90,000"):
        opened(tmp_path, f'<image id="i" href="data:image/png;base64,{data}"/>')


def test_the_pennants_sheet_has_its_named_parts(pennants: Path) -> None:
    document = read(pennants)
    named = [part for part in document.canvas.walk() if part.tags]
    assert len(named) >= 9
    assert len(list(document.canvas.walk())) > 10
    assert document.part("Badges/Finder badge").tags == ("icon", "figure")
    assert not document.part("Badges/Lost kites badge").visible
    harbour = document.extent(document.part("Badges/Harbour badge"))
    assert (harbour.width, harbour.height) == (190, 190), "the clip cuts the waves off"


@pytest.mark.parametrize(
    ("body", "part", "told"),
    [
        ('<image id="i" href="photo.png"/>', "i", "links to 'photo.png'"),
        ('<image id="i" href="https://x.example/y.png"/>', "i", "links to"),
        ('<image id="i" href="data:image/png;base64,AAAA"/>', "i", "cannot be read"),
        ('<text id="t"><textPath href="#p">x</textPath></text><path id="p"/>', "t", "on a path"),
        ('<g id="g"><foreignObject width="9" height="9"/></g>', "g", "<foreignObject>: HTML"),
        ('<g id="g"><rect fill="url(#gone)"/></g>', "g", "refers to #gone"),
        ('<use id="u" href="#gone"/>', "u", "uses #gone"),
        ('<rect id="r" fill="var(--gone)"/>', "r", "var(--gone) cannot be worked out"),
        ('<rect id="r" fill="color-mix(in srgb, red, blue)"/>', "r", "cannot be worked out"),
        ('<text id="t" x="1 2 3">abc</text>', "t", "placed one by one (x)"),
        ('<text id="t" textLength="90">abc</text>', "t", "textLength"),
        ('<rect id="r" transform="scale(2)" transform-origin="center"/>', "r", "transform-origin"),
        (
            '<rect id="r" transform="scale(2)" style="transform-box:fill-box"/>',
            "r",
            "transform-box",
        ),
        ('<g id="g"><animate attributeName="x"/></g>', "g", "animations are not drawn"),
    ],
)
def test_what_cannot_be_drawn_is_told_with_its_element_and_place(
    tmp_path: Path, body: str, part: str, told: str
) -> None:
    notices = [n for n in opened(tmp_path, body).notices if "typeface" not in n.reason]
    assert [(n.part, told in n.reason) for n in notices] == [(part, True)], notices
    assert notices[0].reason.startswith("<")


def test_what_can_be_drawn_is_not_told(tmp_path: Path) -> None:
    body = (
        '<defs><linearGradient id="g"/><rect id="r" width="9" height="9"/></defs>'
        '<rect id="a" fill="url(#g)" stroke="#c20"/><use id="b" href="#r"/>'
        '<rect id="c" transform="scale(2)" transform-origin="0 0"/>'
    )
    assert opened(tmp_path, body).notices == []


def test_names_are_read_where_programs_write_them(tmp_path: Path) -> None:
    body = (
        '<rect id="layer_x5F_1_x20__x23_icon"/><rect data-name="Gull #figure" id="path12"/>'
        '<rect ink:id="Tide" id="path13"/><rect xml:id="no" id="plain"/>'
    )
    parts = opened(tmp_path, body).canvas.children
    assert [(p.name, p.tags) for p in parts] == [
        ("plain", ()), ("Tide", ()), ("Gull", ("figure",)), ("layer_1", ("icon",)),
    ]  # fmt: skip


def test_packed_drawings_and_plain_entities_are_read(tmp_path: Path) -> None:
    text = (
        "<!DOCTYPE svg [<!ENTITY ns \"http://www.w3.org/2000/svg\"><!ENTITY c '#00f'>]>"
        '<svg xmlns="&ns;" width="40" height="30"><rect id="r" fill="&c;" width="9" height="9"/></svg>'
    )
    file = tmp_path / "d.svgz"
    file.write_bytes(gzip.compress(text.encode()))
    document = read(file)
    pixel = document.render(document.part("r"), Rect(0, 0, 9, 9), 9).numpy()[4, 4]
    assert pixel.tolist() == [0, 0, 255, 255]
    file.write_bytes(gzip.compress(b"<svg" + b" " * 70_000_000))
    with pytest.raises(SourceError, match="the limit is"):
        read(file)


@pytest.mark.parametrize(
    ("root", "size"),
    [('width="9e8" height="9e8"', (10_000, 10_000)), ("", (300, 150)),
     ('width="20990" height="29700"', (8_406, 11_895))],
)  # fmt: skip
def test_a_canvas_without_a_usable_size_is_told(
    tmp_path: Path, root: str, size: tuple[int, int]
) -> None:
    file = tmp_path / "d.svg"
    file.write_text(f'<svg xmlns="http://www.w3.org/2000/svg" {root}><rect id="r"/></svg>')
    document = read(file)
    assert (document.size.width, document.size.height) == size
    assert "its canvas is" in document.notices[0].reason


def test_slices_of_a_drawing_are_drawn_at_the_width_asked_for(tmp_path: Path) -> None:
    plan = Plan.model_validate(
        {"slices": [{"rect": [10, 10, 91, 40], "recipe": "icon"}],
         "recipes": {"icon": {"formats": ["png"], "widths": [91, 1000]}}}
    )  # fmt: skip
    document = opened(tmp_path, '<circle id="c" cx="50" cy="30" r="30"/>')
    (job,) = prepare(survey_for(document, plan), plan).jobs
    assert [variant.width for variant in job.variants] == [91, 1000]
    drawn = document.render(document.canvas, Rect(10, 10, 91, 40), 1000)
    soft = (drawn.numpy()[..., 3] % 255 > 0).mean()
    assert drawn.width == 1000
    assert soft < 0.01, "edges are as sharp as if it had been drawn at that size"


def test_worst_texts_are_read_in_linear_time(tmp_path: Path) -> None:
    """Each took minutes, or for ever, while patterns were matched with backtracking."""
    many = "translate(1) " * 8_000
    digits = "1" * 100_000
    body = (
        f'<rect id="a" transform="{many}rotate(3)" width="9" height="9"/>'
        f'<rect id="b" width="{digits}!" height="9"/><rect id="c" style="{";" * 100_000}"/>'
        f'<rect id="d" fill="{"var(" * 2_000}"/><rect id="e" filter="{"blur(" * 20_000}"/>'
    )
    read(svg(tmp_path / "d.svg", body)).measure([])


def test_reach_follows_deviations_transforms_and_references(tmp_path: Path) -> None:
    rng = random.Random(3)
    for _ in range(20):
        deviation, scale = rng.uniform(0.5, 9), rng.uniform(0.5, 4)
        body = (
            f'<filter id="f"><feGaussianBlur stdDeviation="{deviation}"/><feOffset dx="5"/></filter>'
            f'<g transform="rotate({rng.randrange(360)}) scale({scale})">'
            '<rect id="a" filter="url(#f)"/></g><rect id="b"/><use id="c" href="#a"/>'
        )
        root = parse(f'<svg xmlns="{SVG}">{body}</svg>'.encode(), "d.svg", "the drawing")
        by_id = {e.get("id", ""): e for e in root.iter() if e.get("id")}
        reaches = Reaches(root, by_id, [], Size(400, 300))
        group = by_id["a"]
        holder = root[1]
        assert reaches.of((root, holder, group)) == pytest.approx((3 * deviation + 5) * scale)
        assert reaches.of((root, by_id["b"])) == 0
        assert reaches.of((root, by_id["c"])) == pytest.approx(3 * deviation + 5)

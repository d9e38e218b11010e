"""Pages, animations, HEIC, typefaces, strays, CSS and originals."""

from __future__ import annotations

import base64
from pathlib import Path

import numpy as np
import pillow_heif
import pytest
import pyvips
from PIL import Image
from PIL.TiffImagePlugin import ImageFileDirectory_v2

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect
from gefa.core.make.make_cut import carry_out
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.read.document import Kind
from gefa.core.read.strays import find_strays, in_words
from gefa.core.read.survey import survey
from gefa.core.treat.recipe import Recipe
from tests.make import BLUE, GREEN, RED, G, L, dot, flat, loaded, ora, photo, svg
from tests.shelves import MemoryShelf


def paged(path: Path, names: list[str]) -> Path:
    """A TIFF with a page of another colour and size for each name."""
    pages, infos = [], []
    for number, name in enumerate(names):
        pages.append(Image.fromarray(photo(40 + 10 * number, 30, number).numpy()))
        info = ImageFileDirectory_v2()
        if name:
            info[285] = name
        infos.append(info)
    for page, info in zip(pages, infos, strict=True):
        page.encoderinfo = {"tiffinfo": info}
    pages[0].save(path, save_all=True, append_images=pages[1:], tiffinfo=infos[0])
    return path


def test_pages_of_a_tiff_are_parts_by_their_names(tmp_path: Path) -> None:
    document = read(paged(tmp_path / "pages.tif", ["Cover #icon", "", "Cover"]))
    parts = [(p.path, p.kind, p.tags) for p in document.canvas.children]
    assert parts == [
        ("Cover", Kind.PAGE, ("icon",)),
        ("Page 2", Kind.PAGE, ()),
        ("Cover~2", Kind.PAGE, ()),
    ]
    third = document.part("Cover~2")
    assert document.extent(third) == Rect(0, 0, 60, 30)
    drawn = document.render(third, document.extent(third), 60).numpy()
    assert (drawn == photo(60, 30, 2).numpy()).all()
    assert document.fingerprint(third) != document.fingerprint(document.part("Page 2"))


def moving(path: Path, frames: int = 3) -> Path:
    """An animation whose frames are of different colours."""
    colours = [RED, GREEN, BLUE, (9, 9, 9)][:frames]
    strip = pyvips.Image.arrayjoin([flat(60, 40, colour) for colour in colours], across=1).copy()
    strip.set_type(pyvips.GValue.gint_type, "page-height", 40)
    strip.set_type(pyvips.GValue.array_int_type, "delay", [70, 80, 90, 100][:frames])
    strip.set_type(pyvips.GValue.gint_type, "loop", 2)
    strip.write_to_file(str(path))
    return path


@pytest.mark.parametrize("name", ["kite.gif", "kite.webp"])
def test_an_animation_stays_one_in_webp_and_is_a_still_elsewhere(tmp_path: Path, name: str) -> None:
    document = read(moving(tmp_path / name))
    recipe = Recipe(formats=("avif", "webp", "png"), widths=(30, 60), apart={"weight": 0})
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="/", recipe="r"),))
    prepared = prepare(survey_for(document, plan), plan)
    assert [r.reason for r in prepared.warnings] == [
        "has 3 frames; AVIF and PNG show only the first"
    ]
    shelf = MemoryShelf()
    report = carry_out(prepared.jobs[0], lambda: document, shelf)
    small = pyvips.Image.webpload_buffer(shelf.data["kite-30.webp"], n=-1)
    assert (small.width, small.height, small.get("page-height")) == (30, 60, 20)
    assert small.get("delay") == [70, 80, 90]
    middles = [small(15, 20 * frame + 10)[:3] for frame in range(3)]
    for found, wanted in zip(middles, (RED, GREEN, BLUE), strict=True):
        assert np.abs(np.array(found) - wanted).max() < 12
    still = loaded(shelf.data["kite-60.png"])
    assert (still.width, still.height) == (60, 40)
    assert "avif" not in report.record.markup
    assert "kite-60.webp" in report.record.markup


def test_a_moving_picture_is_cropped_frame_by_frame(tmp_path: Path) -> None:
    halves = np.zeros((40, 60, 3), np.uint8)
    strip = []
    for left, right in ((RED, GREEN), (GREEN, BLUE), (BLUE, RED)):
        frame = halves.copy()
        frame[:, :30], frame[:, 30:] = left, right
        strip.append(pyvips.Image.new_from_array(frame, interpretation="srgb"))
    joined = pyvips.Image.arrayjoin(strip, across=1).copy()
    joined.set_type(pyvips.GValue.gint_type, "page-height", 40)
    joined.webpsave(str(tmp_path / "kite.webp"), lossless=True)
    document = read(tmp_path / "kite.webp")
    recipe = Recipe(formats=("webp",), widths=(30,), fit="cover", ratio=0.75, focal=(1, 0.5))
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="/", recipe="r"),))
    shelf = MemoryShelf()
    carry_out(prepare(survey_for(document, plan), plan).jobs[0], lambda: document, shelf)
    small = pyvips.Image.webpload_buffer(shelf.data["kite-30.webp"], n=-1)
    assert (small.width, small.height, small.get("page-height")) == (30, 120, 40)
    middles = [small(15, 40 * frame + 20)[:3] for frame in range(3)]
    for found, wanted in zip(middles, (GREEN, BLUE, RED), strict=True):
        assert np.abs(np.array(found) - wanted).max() < 12, "the right half of each"


def test_a_tiff_of_200_megapixels_is_one_like_any_other(tmp_path: Path) -> None:
    large = pyvips.Image.black(20_000, 10_000)
    large.tiffsave(str(tmp_path / "large.tif"), bitdepth=1, compression="ccittfax4")
    assert read(tmp_path / "large.tif").size.megapixels == 200


def test_heic_is_read_with_its_size_and_colours(tmp_path: Path) -> None:
    original = photo(160, 120)
    file = tmp_path / "phone.heic"
    pillow_heif.from_bytes("RGB", (160, 120), original.numpy().tobytes()).save(file, quality=95)
    document = read(file)
    assert (document.format, document.size.width, document.size.height) == ("heic", 160, 120)
    drawn = document.render(document.canvas, document.canvas_rect, 160).numpy()
    assert np.abs(drawn.astype(int) - original.numpy()).mean() < 4
    file.write_bytes(file.read_bytes()[:400])
    with pytest.raises(SourceError, match=r"phone\.heic: cannot be read as HEIC"):
        read(file).render(document.canvas, document.canvas_rect, 160)


def test_a_typeface_that_is_not_here_is_named(tmp_path: Path) -> None:
    text = (
        '<text id="title" font-family="Quillmere Display, serif" y="40">Kites</text>'
        '<text id="plain" font-family="sans-serif" y="80">Sea</text>'
        '<g style="font-family: \'Dune Hand\'"><text y="90">Wind</text></g>'
    )
    notices = read(svg(tmp_path / "t.svg", text)).notices
    assert [(n.part, n.reason.split("'")[1]) for n in notices] == [
        ("title", "Quillmere Display"),
        ("/", "Dune Hand"),
    ]


def test_far_off_objects_are_found_named_and_can_be_left_out(tmp_path: Path) -> None:
    group = (
        '<g id="badge"><rect id="plate" x="50" y="50" width="100" height="80"/>'
        '<circle cx="90" cy="90" r="20" fill="red"/><circle cx="4210" cy="90" r="5"/></g>'
    )
    document = read(svg(tmp_path / "s.svg", group))
    facts = survey(document).part("badge")
    assert facts.extent is not None
    assert facts.extent.width > 4000
    assert facts.strays is not None
    assert facts.strays.words.startswith("one object 4,055 px to the right (“unnamed circle”)")
    assert "42 times larger" in facts.strays.words
    assert facts.strays.rest == Rect(50, 50, 100, 80)
    for strays, width in ((True, facts.extent.width), (False, 100)):
        plan = Plan(cuts=(CutEntry(part="badge", recipe="icon", strays=strays),))
        prepared = prepare(survey_for(document, plan), plan)
        assert prepared.jobs[0].extent.width == width
        assert bool(prepared.warnings) == strays
    shelf = MemoryShelf()
    report = carry_out(prepared.jobs[0], lambda: document, shelf)
    widest = loaded(shelf.data[report.files[-1].path])
    assert (widest.width, widest.height) == (192, 154)
    assert widest(96, 5)[:3] == [0, 0, 0]


def test_strays_of_a_layered_bitmap(tmp_path: Path) -> None:
    layers = [L("Main", dot(40, 40, (0, 0, 40, 40)), 10, 10), L("Lost", flat(9, 9), 5000, 20)]
    document = read(ora(tmp_path / "s.ora", 100, 100, [G("g", layers)]))
    strays = document.strays(document.part("g"))
    assert strays is not None
    assert (strays.names, strays.rest) == (("Lost",), Rect(10, 10, 40, 40))
    image = document.render(document.part("g"), strays.rest, 40, whole=False)
    assert (image.width, image.height) == (40, 40)


def test_what_hangs_over_the_edge_is_no_stray() -> None:
    canvas = Rect(0, 0, 100, 100)
    assert find_strays([Rect(10, 10, 50, 50), Rect(90, 90, 60, 60)], canvas) == []
    assert find_strays([Rect(500, 500, 10, 10)], canvas) == []
    far = Rect(10, -900, 5, 5)
    assert find_strays([Rect(10, 10, 50, 50), far], canvas) == [1]
    assert "905 px above" in in_words(["x"], [far], Rect(10, 10, 50, 50))


CSS_CASES = {
    "plain": ('<rect id="p" x="10" y="10" width="80" height="40" fill="#336699"/>',
              "background: #336699"),
    "round": ('<g id="p" fill="teal"><rect x="1" y="1" width="80" height="40" rx="8"/></g>',
              "background: teal; border-radius: 10.000% / 20.000%"),
    "gradient": ('<linearGradient id="g" x1="0" x2="0" y2="1"><stop stop-color="red"/>'
                 '<stop offset="1" stop-color="#00f" stop-opacity=".5"/></linearGradient>'
                 '<rect id="p" width="80" height="40" fill="url(#g)" opacity=".8"/>',
                 "background: linear-gradient(to bottom, red 0%, color-mix(in srgb, #00f 50%,"
                 " transparent) 100%); opacity: 0.8"),
    "stroked": ('<rect id="p" width="80" height="40" stroke="red"/>', ""),
    "turned": ('<rect id="p" width="80" height="40" transform="rotate(5)"/>', ""),
    "two": ('<g id="p"><rect width="8" height="4"/><rect width="4" height="8"/></g>', ""),
    "hostile": ('<rect id="p" width="8" height="4" fill="red;}body{display:none"/>', ""),
}  # fmt: skip


@pytest.mark.parametrize("case", sorted(CSS_CASES))
def test_plain_rectangles_are_css_and_make_no_file(tmp_path: Path, case: str) -> None:
    body, wanted = CSS_CASES[case]
    document = read(svg(tmp_path / "c.svg", body))
    css = document.css(document.part("p"))
    assert css.replace(".0000%", "%").replace("0.000%", "0%") == wanted.replace("0.000%", "0%")
    plan = Plan(cuts=(CutEntry(part="p", recipe="icon"),))
    (job,) = prepare(survey_for(document, plan), plan).jobs
    assert bool(job.variants) == (wanted == "")
    record = carry_out(job, lambda: document, MemoryShelf()).record
    assert record.css == (css or None)
    as_file = Plan(cuts=(CutEntry(part="p", recipe="icon", as_file=True),))
    assert prepare(survey_for(document, as_file), as_file).jobs[0].variants


def test_a_layer_of_one_colour_is_css(tmp_path: Path) -> None:
    plate = pyvips.Image.new_from_array(np.full((30, 40, 4), (8, 16, 255, 255), np.uint8))
    layers = [L("Plate", plate, 3, 4), L("Not quite", flat(9, 9))]
    facts = survey(read(ora(tmp_path / "o.ora", 50, 50, layers)))
    assert [part.css for part in facts.parts[1:]] == ["background: #0810ff", ""]


def test_originals_are_listed_and_given_byte_for_byte(tmp_path: Path) -> None:
    stored = photo(200, 100).jpegsave_buffer()
    url = f"data:image/jpeg;base64,{base64.b64encode(stored).decode()}"
    body = (
        f'<g id="Photos"><image id="Dune" x="10" y="10" width="50" height="25" href="{url}"/></g>'
        '<image href="https://example.org/x.png" width="5" height="5"/>'
    )
    document = read(svg(tmp_path / "o.svg", body))
    (original,) = document.originals()
    assert (original.part, original.name, original.media_type) == (
        "Photos/Dune",
        "Dune",
        "image/jpeg",
    )
    assert (original.size.width, original.shown) == (200, Rect(10, 10, 50, 25))
    assert document.original_bytes(original.key) == stored


def test_originals_of_layers_know_how_much_of_them_shows(tmp_path: Path) -> None:
    layers = [L("Wide", photo(300, 100).bandjoin(255), -100, 0), L("Low", flat(9, 9))]
    document = read(ora(tmp_path / "o.ora", 100, 100, layers))
    wide = document.originals()[0]
    assert (wide.size.width, wide.shown) == (300, Rect(0, 0, 100, 100))
    image = loaded(document.original_bytes(wide.key))
    assert (image.width, image.height) == (300, 100)

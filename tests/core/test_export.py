"""From a source to files: the one way that everything takes."""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np
import pytest
import pyvips

from gefa.core import FolderShelf, carry_out, prepare, survey_for
from gefa.core.errors import EncodeError
from gefa.core.make.prepare import Prepared
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import FORMATS, RASTER, Format
from gefa.core.treat.recipe import Recipe
from tests.make import BLUE, RED, G, L, dot, flat, loaded, ora, photo, svg, with_tag
from tests.shelves import remember

ALL = Recipe(
    formats=tuple(Format),
    widths=(40, 80, 500),
    quality={Format.AVIF: 80, Format.WEBP: 90, Format.JPEG: 90},
    every_format=True,
)


def run(source: Path, out: Path, plan: Plan) -> tuple[Prepared, list[JobReport]]:
    document = read(source)
    prepared = prepare(survey_for(document, plan), plan)
    shelf = FolderShelf(out)
    return prepared, [carry_out(job, lambda: document, shelf) for job in prepared.jobs]


def one(source: Path, out: Path, recipe: Recipe, part: str = "/") -> JobReport:
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part=part, recipe="r"),))
    prepared, reports = run(source, out, plan)
    assert not prepared.failed
    return reports[0]


def test_every_width_and_format_is_made_and_none_enlarged(tmp_path: Path) -> None:
    source = tmp_path / "sea.jpg"
    photo(200, 100).jpegsave(str(source), Q=95)
    report = one(source, tmp_path / "out", ALL)
    sizes = {(file.width, file.height) for file in report.files}
    assert sizes == {(40, 20), (80, 40), (200, 100)}
    assert len(report.files) == 12
    for file in report.files:
        data = (tmp_path / "out" / file.path).read_bytes()
        picture = loaded(data)
        assert (picture.width, picture.height) == (file.width, file.height)
        assert (len(data), hashlib.sha256(data).hexdigest()) == (file.bytes, file.sha256)
        assert not file.reused
    assert report.record.alpha == "none"
    assert report.record.baseline_bytes == source.stat().st_size


@pytest.mark.parametrize("format", RASTER)
def test_pixels_survive_their_encoder(format: Format) -> None:
    """A golden figure for each encoder at high quality: mean error in levels of 255."""
    image = photo(160, 120)
    made = loaded(encode(image, format, None if format is Format.PNG else 95))
    error = np.abs(made.numpy().astype(int) - image.numpy().astype(int)).mean()
    limit = {Format.PNG: 0.0, Format.JPEG: 4.0, Format.WEBP: 5.0, Format.AVIF: 4.0}[format]
    assert made.bands == 3
    assert error <= limit


def test_alpha_is_kept_where_it_can_be_and_laid_on_the_matte_where_not(tmp_path: Path) -> None:
    source = tmp_path / "dot.png"
    dot(100, 100, (25, 25, 50, 50), BLUE).pngsave(str(source))
    recipe = ALL.model_copy(update={"matte": "#ff8800"})
    for file in one(source, tmp_path / "out", recipe).files:
        picture = loaded((tmp_path / "out" / file.path).read_bytes())
        corner = picture.numpy()[1, 1].astype(int)
        if FORMATS[file.format].alpha:
            assert picture.bands == 4
            assert corner[3] <= 2
        else:
            assert picture.bands == 3
            assert np.abs(corner - np.array([255, 136, 0])).max() <= 6


def test_a_recipe_may_lay_everything_on_its_matte(tmp_path: Path) -> None:
    source = tmp_path / "dot.png"
    dot(100, 100, (25, 25, 50, 50)).pngsave(str(source))
    recipe = Recipe(formats=(Format.PNG,), widths=(100,), alpha="matte", matte="#00ff00")
    (file,) = one(source, tmp_path / "out", recipe).files
    picture = loaded((tmp_path / "out" / file.path).read_bytes())
    assert picture.bands == 3
    assert picture.numpy()[1, 1].tolist() == [0, 255, 0]


def test_alpha_that_says_nothing_is_dropped(tmp_path: Path) -> None:
    source = tmp_path / "opaque.png"
    photo(60, 60).bandjoin(255).copy(interpretation="srgb").pngsave(str(source))
    report = one(source, tmp_path / "out", ALL)
    assert report.record.alpha == "none"
    for file in report.files:
        assert loaded((tmp_path / "out" / file.path).read_bytes()).bands == 3


def test_orientation_is_applied_and_metadata_gone(tmp_path: Path) -> None:
    source = tmp_path / "phone.jpg"
    image = with_tag(photo(120, 60), "orientation", 6).copy()
    image.set_type(
        pyvips.GValue.gstr_type,
        "exif-ifd3-GPSLatitude",
        "51/1 30/1 0/1 (51, Rational, 3 components)",
    )
    image.set_type(pyvips.GValue.blob_type, "xmp-data", b"<x:xmpmeta/>")
    wide = image.icc_export(output_profile="p3")
    wide.jpegsave(str(source), Q=95)
    before = pyvips.Image.new_from_file(str(source)).get_fields()
    assert any("GPS" in field for field in before)
    for file in one(source, tmp_path / "out", ALL).files:
        picture = loaded((tmp_path / "out" / file.path).read_bytes())
        assert picture.width * 2 == picture.height
        kept = [
            f
            for f in picture.get_fields()
            if f.startswith(("exif", "xmp", "iptc", "icc-", "orientation"))
        ]
        assert not kept


def test_a_picture_in_another_colour_space_becomes_srgb(tmp_path: Path) -> None:
    ink = (
        (pyvips.Image.black(60, 60, bands=4) + [0, 255, 255, 0])
        .cast("uchar")
        .copy(interpretation="cmyk")
    )
    ink.tiffsave(str(tmp_path / "ink.tif"))
    deep = (
        (pyvips.Image.black(60, 60, bands=3) + [65535, 128 * 257, 0])
        .cast("ushort")
        .copy(interpretation="rgb16")
    )
    deep.pngsave(str(tmp_path / "deep.png"), bitdepth=16)
    for name, wanted, tolerance in (("ink.tif", (230, 30, 35), 35), ("deep.png", (255, 128, 0), 3)):
        for file in one(tmp_path / name, tmp_path / "out", ALL).files:
            picture = loaded((tmp_path / "out" / file.path).read_bytes())
            assert picture.bands == 3
            assert np.abs(picture.numpy()[20, 20].astype(int) - np.array(wanted)).max() <= tolerance


@pytest.mark.parametrize(
    ("format", "side", "word"),
    [
        (Format.WEBP, 16_384, "16,383"),
        (Format.AVIF, 16_385, "16,384"),
        (Format.JPEG, 65_501, "65,500"),
    ],
)
def test_a_formats_own_limit_is_told_plainly_and_costs_no_other_file(
    tmp_path: Path, format: Format, side: int, word: str
) -> None:
    source = tmp_path / "long.png"
    flat(side, 2).pngsave(str(source))
    widths = (200, min(side, 65_500))
    recipe = Recipe(formats=(format, Format.PNG), widths=widths, every_format=True)
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="/", recipe="r"),))
    if side > 65_500:
        with pytest.raises(EncodeError, match=word):
            encode(flat(side, 2), format, 50)
        return
    prepared, (report,) = run(source, tmp_path / "out", plan)
    (failed,) = prepared.failed
    assert word in failed.reason
    assert f"{side:,} × 2" in failed.reason
    assert len(report.files) == 3


def test_the_largest_side_a_format_takes_is_really_written(tmp_path: Path) -> None:
    for format in (Format.WEBP, Format.AVIF):
        side = FORMATS[format].max_side
        assert loaded(encode(flat(side, 1), format, 40)).width == side


def test_parts_are_trimmed_to_what_is_visible(tmp_path: Path) -> None:
    source = ora(tmp_path / "d.ora", 100, 100, [L("a #r", dot(90, 90, (30, 20, 40, 10)), 5, 6)])
    recipe = Recipe(formats=(Format.PNG,), widths=(40,))
    plan = Plan(recipes={"r": recipe})
    _, (report,) = run(source, tmp_path / "out", plan)
    record = report.record
    assert (record.x, record.y, record.width, record.height) == (35, 26, 40, 10)
    picture = loaded((tmp_path / "out" / report.files[0].path).read_bytes())
    assert (picture.width, picture.height, picture.bands) == (40, 10, 3)
    assert record.baseline_bytes == report.files[0].bytes


def test_a_part_with_nothing_visible_fails_alone(tmp_path: Path) -> None:
    layers = [L("empty #icon", flat(9, 9, (0, 0, 0, 0))), L("full #icon", flat(9, 9))]
    prepared, reports = run(ora(tmp_path / "d.ora", 9, 9, layers), tmp_path / "out", Plan())
    assert [remark.cut for remark in prepared.failed] == ["empty"]
    assert "no visible pixels" in prepared.failed[0].reason
    assert [report.record.name for report in reports] == ["full"]


def test_a_dropped_blend_mode_is_told(tmp_path: Path) -> None:
    layer = L("m #icon", flat(9, 9), 0, 0, {"composite-op": "svg:screen"})
    prepared, _ = run(ora(tmp_path / "d.ora", 9, 9, [layer]), tmp_path / "out", Plan())
    assert "screen" in prepared.warnings[0].reason


def test_shapes_are_made_at_every_width(tmp_path: Path) -> None:
    source = svg(tmp_path / "d.svg", '<circle id="c" cx="50" cy="50" r="20"/>')
    report = one(source, tmp_path / "out", Recipe(formats=(Format.PNG,), widths=(40, 400)), "c")
    assert [(file.width, file.height) for file in report.files] == [(40, 40), (400, 400)]
    large = loaded((tmp_path / "out" / report.files[1].path).read_bytes()).numpy()[..., 3]
    partly = ((large > 0) & (large < 255)).sum()
    assert partly < 4 * 400, "the edge is as sharp as a drawn one"


def test_the_same_again_is_reused_and_a_change_costs_only_what_shows_it(tmp_path: Path) -> None:
    def design(colour: tuple[int, int, int]) -> Path:
        layers = [
            G("Top #icon", [L("in #icon", flat(20, 20, colour))]),
            L("other #icon", flat(30, 30, RED)),
        ]
        return ora(tmp_path / "design.ora", 60, 60, layers)

    out = tmp_path / "out"

    def reused(source: Path) -> dict[str, set[bool]]:
        _, reports = run(source, out, Plan())
        remember(out, *reports)
        return {r.record.name: {f.reused for f in r.files} for r in reports}

    assert reused(design(BLUE)) == {"Top": {False}, "in": {False}, "other": {False}}
    assert reused(design(BLUE)) == {"Top": {True}, "in": {True}, "other": {True}}
    assert reused(design((1, 2, 3))) == {"Top": {False}, "in": {False}, "other": {True}}


def test_a_file_that_was_changed_or_lost_is_made_again(tmp_path: Path) -> None:
    source = tmp_path / "sea.jpg"
    photo(90, 60).jpegsave(str(source))
    out = tmp_path / "out"
    report = one(source, out, ALL)
    remember(out, report)
    (out / report.files[0].path).unlink()
    (out / report.files[1].path).write_bytes(b"scribble")
    again = one(source, out, ALL)
    assert [file.reused for file in again.files[:3]] == [False, False, True]
    assert [file.sha256 for file in again.files] == [file.sha256 for file in report.files]


def test_a_file_under_a_new_name_is_not_encoded_again(tmp_path: Path) -> None:
    source = tmp_path / "sea.jpg"
    photo(90, 60).jpegsave(str(source))
    out = tmp_path / "out"
    report = one(source, out, ALL)
    remember(out, report)
    renamed = one(source, out, ALL.model_copy(update={"name": "new/{cut}_{width}.{ext}"}))
    assert all(file.reused for file in renamed.files)
    assert all((out / file.path).is_file() for file in renamed.files)


def test_what_the_encoder_refuses_is_an_error_with_a_sentence() -> None:
    with pytest.raises(EncodeError, match="WebP holds at most 16,383 px a side"):
        encode(flat(20_000, 2), Format.WEBP, 50)

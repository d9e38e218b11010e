"""Recipes in full: what of them reaches the files."""

from __future__ import annotations

from pathlib import Path

import pytest
import pyvips
from pydantic import ValidationError

from gefa.core import FolderShelf, carry_out, prepare, survey_for
from gefa.core.errors import PlanError
from gefa.core.make.report import JobReport
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Aim, Chroma, Fit, Keep, Recipe
from tests.core.test_export import one
from tests.make import L, dot, loaded, ora, photo
from tests.shelves import remember


def jpeg(path: Path, width: int = 400, height: int = 260, **options: object) -> Path:
    photo(width, height, 3).jpegsave(str(path), Q=95, **options)
    return path


def data(report: JobReport, out: Path, format: Format) -> list[bytes]:
    return [(out / file.path).read_bytes() for file in report.files if file.format is format]


def test_a_look_reaches_manifest_and_files(tmp_path: Path) -> None:
    recipe = Recipe(formats=("avif", "webp", "jpeg"), widths=(160, 320), quality=Aim(look=70))
    report = one(jpeg(tmp_path / "a.jpg"), tmp_path / "out", recipe)
    for file in report.files:
        assert file.quality is not None
        assert file.score is not None
        assert file.score >= 69.99
        assert file.score <= 71.5 or file.limit


def test_a_budget_holds_for_each_variant_and_what_cannot_fit_is_left_out(tmp_path: Path) -> None:
    recipe = Recipe(formats=("webp", "jpeg"), widths=(100, 380), quality=Aim(max_bytes=1_500))
    report = one(jpeg(tmp_path / "a.jpg"), tmp_path / "out", recipe)
    assert report.files
    assert all(file.bytes <= 1_500 for file in report.files)
    assert [r for r in report.left_out if "the limit is 1.5 kB" in r.reason]
    again = one(tmp_path / "a.jpg", tmp_path / "out", recipe)
    assert {f.path for f in again.files} == {f.path for f in report.files}


def test_each_format_may_have_its_own_kind_of_quality(tmp_path: Path) -> None:
    recipe = parse_plan(
        '[recipes.r]\nformats = ["avif", "webp", "jpeg"]\nwidths = [200]\nevery_format = true\n'
        "quality = { avif = { look = 65 }, webp = { max_bytes = 9000 }, jpeg = 60 }\n",
        "p",
    ).recipe("r")
    report = one(jpeg(tmp_path / "a.jpg"), tmp_path / "out", recipe)
    by = {file.format: file for file in report.files}
    assert (by[Format.AVIF].score or 0) >= 65
    assert by[Format.WEBP].bytes <= 9000
    assert by[Format.JPEG].quality == 60
    assert by[Format.JPEG].score is None


def test_a_format_that_an_older_one_beats_everywhere_is_left_out_with_the_reason(
    tmp_path: Path,
) -> None:
    squares = pyvips.Image.xyz(320, 200)
    board = ((squares[0] / 8).floor() + (squares[1] / 8).floor()) % 2 * 200
    checked = board.cast("uchar").bandjoin([10, 90]).copy(interpretation="srgb")
    source = ora(tmp_path / "sign.ora", 320, 200, [L("Sign", checked)])
    recipe = Recipe(formats=("avif", "webp", "png"), widths=(320,))
    report = one(source, tmp_path / "out", recipe, "Sign")
    kept = {file.format for file in report.files}
    assert Format.PNG in kept
    assert Format.AVIF not in kept
    assert any("AVIF is left out" in r.reason and "lighter" in r.reason for r in report.left_out)
    assert not list((tmp_path / "out").glob("*.avif"))
    assert "avif" not in report.record.markup
    every = one(source, tmp_path / "all", recipe.model_copy(update={"every_format": True}), "Sign")
    assert len(every.files) == 3
    assert every.left_out == []


def test_cover_crops_round_the_focal_point_and_the_record_tells_where(tmp_path: Path) -> None:
    pixels = photo(400, 200, 1).draw_rect([255, 0, 0], 300, 80, 60, 60, fill=True)
    source = tmp_path / "a.png"
    pixels.pngsave(str(source))
    recipe = Recipe(
        formats=("png",), widths=(100,), fit=Fit.COVER, ratio="1:1", focal=(0.825, 0.55), zoom=2
    )
    assert recipe.ratio == 1.0
    report = one(source, tmp_path / "out", recipe)
    (file,) = report.files
    assert (file.width, file.height) == (100, 100)
    assert (report.record.x, report.record.y) == (280, 60)
    assert (report.record.width, report.record.height) == (100, 100)
    picture = loaded((tmp_path / "out" / file.path).read_bytes())
    assert picture(50, 50)[:3] == [255, 0, 0]
    assert 'width="100" height="100"' in report.record.markup


def test_fill_stretches_and_warns_enlarging_does_too(tmp_path: Path) -> None:
    from tests.core.test_export import run

    source = jpeg(tmp_path / "a.jpg", 200, 100)
    for recipe, size, said in (
        (Recipe(formats=("png",), widths=(90,), fit="fill", ratio=1.0), (90, 90), "stretched"),
        (Recipe(formats=("png",), widths=(400,), enlarge=True), (400, 200), "enlarged from 200"),
    ):
        plan = Plan(cuts=(CutEntry(part="/", recipe="r"),), recipes={"r": recipe})
        prepared, (report,) = run(source, tmp_path / said[:4], plan)
        assert [(f.width, f.height) for f in report.files] == [size]
        assert said in prepared.warnings[0].reason


def test_densities_are_told_by_density(tmp_path: Path) -> None:
    recipe = Recipe(
        formats=("jpeg",), shown=100, densities=(2, 1, 3), name="{cut}@{density}-{hash}.{ext}"
    )
    report = one(jpeg(tmp_path / "a.jpg"), tmp_path / "out", recipe)
    assert [file.width for file in report.files] == [100, 200, 300]
    assert " 1x, " in report.record.markup
    assert " 3x" in report.record.markup
    assert "sizes=" not in report.record.markup
    assert 'width="100" height="65"' in report.record.markup
    assert report.files[1].path.startswith("a-2x-")


def test_encoders_do_as_they_are_told(tmp_path: Path) -> None:
    source = jpeg(tmp_path / "a.jpg")
    plain = Recipe(formats=("jpeg",), widths=(300,), quality={Format.JPEG: 70})

    def made(name: str, **changes: object) -> bytes:
        recipe = Recipe.model_validate(plain.model_dump() | changes)
        return data(
            one(source, tmp_path / name, recipe), tmp_path / name, Format(recipe.formats[0])
        )[0]

    assert b"\xff\xc2" in made("progressive")
    assert b"\xff\xc0" in made("baseline", progressive=False)
    assert loaded(made("full", chroma=Chroma.FULL)).get("jpeg-chroma-subsample") == "4:4:4"
    assert loaded(made("half", chroma=Chroma.HALF)).get("jpeg-chroma-subsample") == "4:2:0"
    slow = made("slow", formats=("avif",), effort={"avif": 6})
    quick = made("quick", formats=("avif",), effort={"avif": 0})
    assert slow != quick
    few = loaded(made("few", formats=("png",), colours=16, dither=0))
    colours = {tuple(pixel) for row in few.numpy() for pixel in row}
    assert len(colours) <= 16


def test_copyright_stays_if_the_recipe_says_so_and_the_place_never(tmp_path: Path) -> None:
    image = photo(120, 80).copy()
    image.set_type(pyvips.GValue.gstr_type, "exif-ifd0-Copyright", "Quillmere Kite Days")
    image.set_type(pyvips.GValue.gstr_type, "exif-ifd3-GPSLatitude", "54/1 30/1 0/1")
    source = tmp_path / "a.jpg"
    image.jpegsave(str(source), keep="exif")
    for keep, there in ((Keep.COPYRIGHT, True), (Keep.NONE, False)):
        recipe = Recipe(formats=tuple(Format), widths=(60,), metadata=keep, every_format=True)
        report = one(source, tmp_path / keep.value, recipe)
        for file in report.files:
            made = loaded((tmp_path / keep.value / file.path).read_bytes())
            fields = made.get_fields()
            assert ("exif-ifd0-Copyright" in fields) is there, (keep, file.format)
            assert not [field for field in fields if "GPS" in field]


def test_lost_transparency_and_weight_above_the_baseline_are_warned_about(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    dot(60, 60, (10, 10, 40, 40)).pngsave(str(source), compression=9)
    recipe = Recipe(formats=("jpeg",), widths=(60,), quality={Format.JPEG: 95})
    report = one(source, tmp_path / "out", recipe)
    reasons = " ".join(remark.reason for remark in report.warnings)
    assert "its transparency is lost: JPEG cannot hold it" in reasons
    assert "heavier than" in reasons


@pytest.mark.parametrize(
    ("fields", "word"),
    [
        ({"widths": []}, "one of widths"),
        ({"widths": [100], "densities": [1], "shown": 50}, "one of widths"),
        ({"densities": [1, 2]}, "shown"),
        ({"widths": [100], "fit": "cover"}, "cover needs a ratio"),
        ({"widths": [100], "ratio": "wide"}, "is not a ratio"),
        ({"widths": [100], "quality": {"look": 75, "max_bytes": 900}}, "either a look"),
        ({"widths": [100], "effort": {"jpeg": 3}}, "0 to 1"),
        ({"widths": [100], "effort": "endless"}, "effort"),
        ({"widths": [100], "colours": 1}, "colours"),
        ({"widths": [100], "effort": {"webp": 9}}, "0 to 6"),
        ({"shown": 90, "densities": [1, 2], "name": "{cut}.{ext}"}, "needs {width}"),
    ],
)
def test_a_recipe_that_makes_no_sense_is_refused_with_the_reason(
    fields: dict[str, object], word: str
) -> None:
    with pytest.raises(ValidationError, match=word):
        Recipe.model_validate({"formats": ["jpeg"], **fields})
    with pytest.raises(PlanError):
        parse_plan('[recipes.r]\nformats = ["jpeg"]\nwidths = [9]\nquality = { look = 2 }\n', "p")


def test_what_moved_or_was_renamed_is_told_where_and_what_it_is_now(tmp_path: Path) -> None:
    """Files are reused by their pixels; place and names are those of the newer revision."""

    def exported(x: int, name: str, recipe: Recipe) -> JobReport:
        layers = [L(name, dot(90, 60, (0, 0, 90, 60)), x, 20)]
        source = ora(tmp_path / "sign.ora", 300, 200, layers)
        plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part=name, recipe="r"),))
        document = read(source)
        (job,) = prepare(survey_for(document, plan), plan).jobs
        report = carry_out(job, lambda: document, FolderShelf(tmp_path / "out"))
        remember(tmp_path / "out", report)
        return report

    whole = Recipe(formats=("webp", "png"), widths=(90,), quality=Aim(look=99))
    square = Recipe(formats=("png",), widths=(60,), fit=Fit.COVER, ratio=1.0, focal=(0.5, 0.5))
    for recipe, offset in ((whole, 0), (square, 15)):
        before = exported(10, "Sign", recipe)
        after = exported(70, "Board", recipe)
        assert before.record.x == 10 + offset
        assert after.record.x == 70 + offset
        assert all(file.reused for file in after.files)
        assert {remark.cut for remark in [*after.warnings, *after.left_out]} <= {"Board"}


def test_a_lost_fallback_does_not_cost_the_format_that_keeps_transparency(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    dot(80, 80, (10, 10, 60, 60)).pngsave(str(source))
    recipe = Recipe(formats=("avif", "jpeg"), widths=(80,), quality={Format.AVIF: 95})
    first = one(source, tmp_path / "out", recipe)
    remember(tmp_path / "out", first)
    (tmp_path / "out" / "a-80.jpg").unlink()
    again = one(source, tmp_path / "out", recipe)
    assert {file.format for file in again.files} == {Format.AVIF, Format.JPEG}

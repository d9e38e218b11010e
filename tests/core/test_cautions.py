"""What a developer is warned of, and what is told about looks, weights and names."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyvips

from gefa.core import prepare, survey_for
from gefa.core.make.report import JobReport
from gefa.core.pixels import outside_srgb
from gefa.core.plan.editor import PlanEditor
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import CutEntry, Plan, Rule
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Aim, Recipe
from tests.core.test_auto import letters
from tests.core.test_export import one
from tests.make import L, flat, ora, photo, svg


def glow(path: Path, colour: tuple[int, int, int]) -> Path:
    """A disc with a soft edge."""
    y, x = np.mgrid[0:120, 0:120]
    pixels = np.zeros((120, 120, 4), np.uint8)
    pixels[..., :3] = colour
    pixels[..., 3] = (255 * (50 - np.hypot(x - 60, y - 60)) / 14).clip(0, 255)
    image = pyvips.Image.new_from_array(pixels, interpretation="srgb")
    return ora(path, 140, 140, [L("Disc", image, 10, 10)])


def told(report: JobReport) -> str:
    return " ".join(remark.reason for remark in report.warnings)


def test_soft_edges_on_a_matte_of_another_colour_show_as_a_halo(tmp_path: Path) -> None:
    matte = Recipe(formats=("png",), widths=(100,), alpha="matte", matte="#ffffff")
    dark = one(glow(tmp_path / "dark.ora", (30, 40, 90)), tmp_path / "1", matte, "Disc")
    assert "show as a halo" in told(dark)
    like = matte.model_copy(update={"matte": "#202a5c"})
    assert "halo" not in told(one(tmp_path / "dark.ora", tmp_path / "2", like, "Disc"))
    keep = Recipe(formats=("png",), widths=(100,))
    assert "halo" not in told(one(tmp_path / "dark.ora", tmp_path / "3", keep, "Disc"))
    lost = Recipe(formats=("jpeg",), widths=(100,))
    assert "halo" in told(one(tmp_path / "dark.ora", tmp_path / "4", lost, "Disc"))


def test_text_in_lossy_files_only_is_warned_about(tmp_path: Path) -> None:
    source = tmp_path / "words.png"
    letters().pngsave(str(source))
    lossy = Recipe(formats=("webp", "jpeg"), widths=(480,), every_format=True)
    assert "it shows text, and WebP and JPEG may blur" in told(one(source, tmp_path / "1", lossy))
    fine = Recipe(formats=("jpeg",), widths=(480,), quality=Aim(look=88))
    assert "text" not in told(one(source, tmp_path / "2", fine))
    sharp = Recipe(formats=("webp", "png"), widths=(480,), every_format=True)
    assert "text" not in told(one(source, tmp_path / "3", sharp))
    # A drawing says itself where it has text, whatever it looks like.
    body = '<g id="sign"><rect width="90" height="50" fill="#a33"/><text id="t" x="9" y="30">Hi</text></g>'
    drawn = one(svg(tmp_path / "a.svg", body), tmp_path / "4", lossy, "sign")
    assert "it shows text" in told(drawn)


def test_a_variant_over_its_budget_is_a_warning_and_no_file(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(500, 330, 4).pngsave(str(source))
    recipe = Recipe(formats=("jpeg",), widths=(60, 400), quality=Aim(max_bytes=1_200))
    report = one(source, tmp_path / "out", recipe)
    assert [file.width for file in report.files] == [60]
    assert report.files[0].budget == 1_200
    assert "over budget at 400 px" in told(report)


def wide_gamut(path: Path, colour: tuple[int, int, int]) -> Path:
    """A PNG whose pixels are Display P3 values, with libvips' own profile of it."""
    image = flat(60, 40, colour)
    image.icc_transform("p3", input_profile="srgb").pngsave(str(path))
    p3 = pyvips.Image.new_from_file(str(path)).get("icc-profile-data")
    bare = image.copy()
    bare.set_type(pyvips.GValue.blob_type, "icc-profile-data", p3)
    bare.pngsave(str(path), keep="icc")
    return path


def test_colours_outside_srgb_are_told(tmp_path: Path) -> None:
    loud = wide_gamut(tmp_path / "loud.png", (255, 0, 0))
    assert outside_srgb(pyvips.Image.new_from_file(str(loud))) == 1.0
    reasons = [notice.reason for notice in survey(read(loud)).notices]
    assert reasons == [
        "has colours outside sRGB in 100 % of it; they become the nearest sRGB colours"
    ]
    calm = wide_gamut(tmp_path / "calm.png", (140, 130, 120))
    assert survey(read(calm)).notices == []
    plain = tmp_path / "plain.png"
    flat(60, 40, (255, 0, 0)).pngsave(str(plain))
    assert survey(read(plain)).notices == []


def test_names_without_a_cut_in_them_are_told_and_both_are_made(tmp_path: Path) -> None:
    source = ora(
        tmp_path / "a.ora", 90, 60, [L("One", photo(40, 40, 1)), L("Two", photo(40, 40, 2))]
    )
    plan = Plan(
        recipes={"r": Recipe(formats=("png",), widths=(40,), name="{source}-{width}.{ext}")},
        cuts=(CutEntry(part="One", recipe="r"), CutEntry(part="Two", recipe="r")),
    )
    prepared = prepare(survey_for(read(source), plan), plan)
    assert [job.variants[0].path for job in prepared.jobs] == ["a-40-One.png", "a-40-Two.png"]
    assert [warning.cut for warning in prepared.warnings] == ["One", "Two"]
    assert (
        "would give two files the same name, since it has no {cut}" in prepared.warnings[0].reason
    )


def test_the_default_recipe_of_a_plan_and_its_exceptions(tmp_path: Path) -> None:
    source = ora(
        tmp_path / "a.ora", 90, 60, [L("One", photo(40, 40, 1)), L("Two", photo(40, 40, 2))]
    )
    plan = parse_plan(
        'default = "plain"\n[recipes.plain]\nformats = ["avif", "jpeg"]\nwidths = [40]\n'
        'quality = { look = 70 }\n[[cuts]]\npart = "One"\n[[cuts]]\npart = "Two"\n'
        "quality = { jpeg = 91 }\n",
        "p",
    )
    one_job, two_job = prepare(survey_for(read(source), plan), plan).jobs
    assert one_job.cut.recipe == two_job.cut.recipe == "plain"
    assert one_job.recipe.quality == Aim(look=70)
    assert two_job.recipe.quality_for(Format.JPEG) == 91
    assert two_job.recipe.quality_for(Format.AVIF) == Aim(look=70)
    assert parse_plan(plan.to_toml(), "again") == plan
    lost = plan.model_copy(update={"default": "plane"})
    prepared = prepare(survey_for(read(source), lost), lost)
    assert "unknown default recipe 'plane'. Did you mean 'plain'?" in prepared.warnings[0].reason
    assert [job.cut.recipe for job in prepared.jobs] == ["figure", "figure"]


def test_an_exception_taken_back_leaves_what_tag_rule_or_default_say(tmp_path: Path) -> None:
    layers = [
        L("Tagged #icon", photo(40, 40, 1)),
        L("Ruled", photo(40, 40, 2)),
        L("Ticked", photo(9, 9, 3)),
    ]
    source = survey(read(ora(tmp_path / "a.ora", 90, 60, layers)))
    plan = Plan(default="backdrop", rules=(Rule(parts="Ruled", recipe="figure"),))
    plan = PlanEditor(plan, source).tick(["Ticked"], True)
    for part, recipe, entries in (
        ("Tagged", "icon", 0),
        ("Ruled", "figure", 0),
        ("Ticked", "backdrop", 1),
    ):
        excepted = PlanEditor(plan, source).judge(part, "", Aim(look=90))
        back = PlanEditor(excepted, source).follow_default([part])
        (job,) = (j for j in prepare(source, back).jobs if j.cut.part == part)
        assert (job.cut.recipe, job.cut.quality) == (recipe, None)
        assert sum(entry.part == part for entry in back.cuts) == entries
        other = PlanEditor(PlanEditor(plan, source).rename(part, "", "sign"), source)
        other = PlanEditor(other.choose([part], "icon", ""), source)
        kept = other.follow_default([part])
        (job,) = (j for j in prepare(source, kept).jobs if j.cut.part == part)
        assert (job.cut.name, job.cut.recipe) == ("sign", recipe), "its name stays"

"""Curves, references, and two runs beside each other."""

from __future__ import annotations

from pathlib import Path

import pytest

from gefa.core import carry_out, prepare, survey_for
from gefa.core.deliver.compare import ComparedFiles, Verdict, counted, paired
from gefa.core.deliver.manifest import File, Manifest
from gefa.core.geometry import Size
from gefa.core.look.proof import QUALITIES, curve_formats, measure_curve, rate_file, reference
from gefa.core.make.job import CutJob
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Aim, Fit, Recipe
from gefa.core.treat.recipe_sentence import ratio_words, sentence
from tests.make import dot, largest_difference, loaded, photo
from tests.shelves import MemoryShelf


def job_for(source: Path, recipe: Recipe) -> tuple[Document, CutJob]:
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part="/", recipe="r"),))
    document = read(source)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    return document, job


def test_the_reference_is_what_files_are_encoded_from(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(400, 300, 1).pngsave(str(source))
    recipe = Recipe(
        formats=("png", "jpeg"),
        widths=(120,),
        fit=Fit.COVER,
        ratio=1.0,
        tone=True,
        every_format=True,
    )
    document, job = job_for(source, recipe)
    shelf = MemoryShelf()
    report = carry_out(job, lambda: document, shelf)
    image = reference(job, document, Size(120, 120), shelf)
    png = next(file for file in report.files if file.format is Format.PNG)
    assert largest_difference(loaded(shelf.data[png.path]), image) == 0


def test_a_reference_keeps_transparency_only_if_the_recipe_does(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    dot(60, 60, (20, 20, 20, 20)).pngsave(str(source))
    for alpha, bands in (("keep", 4), ("matte", 3)):
        recipe = Recipe(formats=("webp", "png"), widths=(60,), alpha=alpha, matte="#102030")
        document, job = job_for(source, recipe)
        image = reference(job, document, Size(60, 60), MemoryShelf())
        assert image.bands == bands
    assert image(1, 1) == [16, 32, 48]


def test_a_curve_rises_and_its_points_are_the_files_of_a_later_run(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(260, 180, 4).gaussblur(0.6).cast("uchar").pngsave(str(source))
    document, job = job_for(
        source, Recipe(formats=("webp", "jpeg"), widths=(200,), quality=Aim(look=70))
    )
    assert curve_formats(job) == (Format.WEBP, Format.JPEG)
    shelf = MemoryShelf()
    size = Size(200, 138)
    image = reference(job, document, size, shelf)
    points = {p.quality: p for _, p in measure_curve(job, image, size, Format.JPEG, shelf)}
    assert set(points) == set(QUALITIES)
    ordered = [points[quality] for quality in sorted(QUALITIES)]
    assert [p.bytes for p in ordered] == sorted(p.bytes for p in ordered)
    assert [p.score for p in ordered] == sorted(p.score or 0 for p in ordered)
    fixed, again = job_for(
        source, Recipe(formats=("jpeg",), widths=(200,), quality={Format.JPEG: QUALITIES[0]})
    )
    shelf.begin()
    report = carry_out(again, lambda: fixed, shelf)
    assert [file.reused for file in report.files] == [True]
    assert report.files[0].score == points[QUALITIES[0]].score


def test_a_file_of_a_fixed_quality_is_rated_afterwards(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(120, 80, 4).pngsave(str(source))
    document, job = job_for(source, Recipe(formats=("jpeg",), widths=(100,)))
    shelf = MemoryShelf()
    (file,) = carry_out(job, lambda: document, shelf).files
    assert file.score is None
    key = job.variants[0].key
    image = reference(job, document, Size(file.width, file.height), shelf)
    rate_file(job, image, key, Format.JPEG, shelf)
    assert 30 < (shelf.known([key])[key].score or 0) < 100


def file(
    bytes: int, score: float | None, cut: str = "a", width: int = 100, source: str = "a"
) -> File:
    return File(
        source=source,
        cut=cut,
        path=f"{cut}-{width}.webp",
        format=Format.WEBP,
        width=width,
        height=50,
        bytes=bytes,
        sha256=f"{bytes} {score}",
        quality=70,
        score=score,
        reused=False,
    )


@pytest.mark.parametrize(
    ("before", "after", "verdict"),
    [
        (file(1000, 80), file(1000, 80), Verdict.SAME),
        (file(1000, 80), file(1003, 80.2), Verdict.SAME),
        (file(1000, 80), file(800, 79.8), Verdict.BETTER),
        (file(1000, 80), file(1001, 84), Verdict.BETTER),
        (file(1000, None), file(1400, None), Verdict.WORSE),
        (file(1000, 80), file(1000, 70), Verdict.WORSE),
        (file(1000, 80), file(600, 70), Verdict.TRADED),
        (file(1000, 80), file(1600, 90), Verdict.TRADED),
        (None, file(10, 1), Verdict.NEW),
        (file(10, 1), None, Verdict.GONE),
    ],
)
def test_two_files_are_judged_by_weight_and_look(
    before: File | None, after: File | None, verdict: Verdict
) -> None:
    assert ComparedFiles(before, after).verdict is verdict


def test_runs_are_paired_by_cut_format_and_width() -> None:
    same = file(7, 80, cut="same")
    before = [same, file(100, 80), file(50, 80, cut="gone"), file(9, 80, source="b", cut="b")]
    after = [same, file(90, 80), file(500, 80, width=200), file(9, 80, source="c", cut="c")]
    older = Manifest(sources=["a", "b"], files=before)
    newer = Manifest(sources=["a", "c"], files=after)
    pairs = paired(older, newer)
    assert [(pair.path, pair.verdict) for pair in pairs] == [
        ("a-100.webp", Verdict.BETTER),
        ("a-200.webp", Verdict.NEW),
        ("gone-100.webp", Verdict.GONE),
        ("same-100.webp", Verdict.SAME),
    ]
    assert counted(pairs) == {
        Verdict.BETTER: 1, Verdict.SAME: 1, Verdict.NEW: 1, Verdict.GONE: 1,
    }  # fmt: skip
    assert sum(pair.heavier for pair in pairs) == 440


def test_a_recipe_reads_as_a_sentence() -> None:
    recipe = Recipe(
        formats=("jpeg", "avif"), widths=(480, 960), quality=Aim(look=80), fit="cover", ratio="16:9",
        alpha="matte", tone=True,
    )  # fmt: skip
    assert sentence(recipe) == (
        "AVIF and JPEG 480 and 960 px wide, look 80; cropped to 16:9; transparency laid on #ffffff;"
        " flat tones lifted a little."
    )
    auto = Recipe(formats="auto", densities=(1, 2), shown=300)
    assert sentence(auto) == "The best formats for each cut for 300 px at 1x and 2x, look 75."
    assert [ratio_words(value) for value in (1.5, 4 / 3, 2.3719)] == ["3:2", "4:3", "2.372:1"]

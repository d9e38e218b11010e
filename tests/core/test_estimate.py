"""What files are expected to weigh, against what they weigh."""

from __future__ import annotations

from pathlib import Path

import pytest

from gefa.core.make.estimate import Estimate
from gefa.core.make.foresight import foresee
from gefa.core.make.job import CutJob
from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.make.sampling import look_at
from gefa.core.plan.load import parse_plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.treat.formats import Format
from gefa_demo.moments import MOMENTS
from gefa_demo.photographs import draw_scene
from tests.make import L, dot, flat, ora

PLAN = 'default = "t"\n[recipes.t]\n'
FIXED = (
    'formats = ["webp", "jpeg"]\nquality = { webp = 75, jpeg = 78 }\nwidths = [320, 640, 1200]\n'
)


@pytest.fixture(scope="module")
def photograph(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return draw_scene(MOMENTS[3], 73, tmp_path_factory.mktemp("photograph"))


def job_of(file: Path, recipe: str, rules: str = "") -> tuple[CutJob, Document]:
    plan = parse_plan(f"{PLAN}{recipe}{rules}", "p")
    document = read(file)
    return prepare(survey_for(document, plan), plan).jobs[0], document


@pytest.mark.parametrize(
    "recipe",
    [
        FIXED,
        'formats = ["webp"]\nwidths = [300, 900]\nquality = { max_bytes = 30000 }\n',
        'formats = ["jpeg"]\nwidths = [400, 800]\nquality = { look = 60 }\n',
        'formats = ["png"]\nwidths = [900]\n',
        'formats = ["png"]\nwidths = [900]\ncolours = "auto"\nquality = { look = 60 }\n',
    ],
)
def test_a_photograph_weighs_what_was_expected(photograph: Path, recipe: str) -> None:
    job, document = job_of(photograph, recipe)
    foretold = look_at(job, document, MemoryShelf())
    assert foretold.report is None
    seen = foresee(job, None, {}, foretold.estimate)
    report = carry_out(job, lambda: document, MemoryShelf())
    assert seen.estimated
    assert not seen.decided
    assert {v.path for v in seen.variants} == {file.path for file in report.files}
    assert seen.expected == pytest.approx(sum(file.bytes for file in report.files), rel=0.2)


def test_what_was_made_corrects_what_is_expected_of_its_neighbours(photograph: Path) -> None:
    job, document = job_of(photograph, FIXED)
    estimate = look_at(job, document, MemoryShelf()).estimate
    heavy = Estimate(
        points={f: tuple((w, 3 * b) for w, b in p) for f, p in estimate.points.items()},
        facts=estimate.facts,
    )
    report = carry_out(job, lambda: document, MemoryShelf())
    real = sum(file.bytes for file in report.files)
    assert foresee(job, None, {}, heavy).expected > 2 * real
    narrow = {v.key: report.made[v.key] for v in job.variants if v.width == 320}
    assert foresee(job, None, narrow, heavy).expected == pytest.approx(real, rel=0.2)


def test_flat_art_is_made_at_once_and_a_run_finds_it(tmp_path: Path) -> None:
    layers = [
        L("Badge", dot(200, 200, (20, 20, 160, 160), (200, 30, 30))),
        L("Paper", flat(300, 300, (250, 250, 240))),
    ]
    file = ora(tmp_path / "badge.ora", 300, 300, layers)
    recipe = 'formats = ["webp", "png"]\nwidths = [48, 96]\n'
    job, document = job_of(file, recipe, '[[rules]]\nparts = "Badge"\n')
    shelf = MemoryShelf()
    foretold = look_at(job, document, shelf)
    assert foretold.report is not None
    seen = foresee(job, foretold.report.facts[job.facts_key], foretold.report.made)
    assert seen.decided
    again = carry_out(job, lambda: pytest.fail("it is all made"), shelf)
    assert seen.expected == sum(file.bytes for file in again.files)


def test_formats_that_are_left_open_are_foretold(photograph: Path) -> None:
    recipe = 'formats = "auto"\nwidths = [240, 480]\nquality = { look = 60 }\n'
    job, document = job_of(photograph, recipe)
    foretold = look_at(job, document, MemoryShelf())
    seen = foresee(job, None, {}, foretold.estimate)
    formats = {variant.format for variant in seen.variants}
    assert Format.PNG not in formats, "nobody makes a PNG of a photograph"
    assert Format.AVIF in formats


def test_what_nobody_has_looked_at_is_guessed(photograph: Path) -> None:
    job, _ = job_of(photograph, FIXED)
    seen = foresee(job, None, {})
    assert not seen.estimated
    assert seen.expected > 0

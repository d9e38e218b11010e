"""Decisions: the same job has the same files, whatever is known already."""

from __future__ import annotations

from zlib import crc32

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.cut import Cut, Origin
from gefa.core.geometry import Rect, Size
from gefa.core.make import keys
from gefa.core.make.decide import Decisions, Known, Needs, decide
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.keys import treatment_key
from gefa.core.make.made import CutFacts, MadeVariant
from gefa.core.pixels import AlphaKind
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.nature import Nature
from gefa.core.treat.recipe import Aim, Recipe, Steps

CANVAS = Rect(0, 0, 4000, 3000)
FACTS = CutFacts(
    crop=None, alpha=AlphaKind.NONE, baseline_bytes=900_000, nature=Nature.PHOTOGRAPH, colours=9_000,
    edge="", growth=((100, 3_000), (1000, 120_000), (2000, 400_000)),
)  # fmt: skip


def job_by(recipe: Recipe) -> CutJob:
    """A job with the variants that ``prepare`` would plan."""
    widths = recipe.steps.candidates if recipe.steps else recipe.widths
    return CutJob(
        source="a.jpg",
        cut=Cut(part="/", name="a", recipe="r", origin=Origin.HAND),
        recipe=recipe,
        extent=CANVAS,
        fingerprint="f",
        variants=tuple(
            PlannedVariant(
                key=f"{format} {width}",
                path=f"a-{width}.{format}",
                format=format,
                width=width,
                height=width * 3 // 4,
                quality=recipe.quality_for(format),
            )
            for width in widths
            for format in recipe.candidates
        ),
    )


class World:
    """What encoders would give: made up, but the same each time it is asked for."""

    def __init__(self, seed: int, budget: int | None = None) -> None:
        self._seed, self._budget = seed, budget

    def _noise(self, variant: PlannedVariant) -> float:
        """0..1"""
        return crc32(f"{self._seed} {variant.format}".encode()) / 2**32

    def made(self, variant: PlannedVariant, *, look: bool = False) -> MadeVariant:
        weight = {Format.AVIF: 5, Format.WEBP: 7, Format.JPEG: 9, Format.PNG: 40}[variant.format]
        bytes = int(200 + variant.width**1.6 * weight / 20 * (0.4 + 1.2 * self._noise(variant)))
        knows = look or variant.look is not None
        score = round(70 + 25 * self._noise(variant), 2) if knows else None
        fits = self._budget is None or bytes <= self._budget
        return MadeVariant(
            sha256="x" if fits else "", bytes=bytes, score=score, fits=fits,
            limit="" if fits else "too heavy",
        )  # fmt: skip

    def decided(self, job: CutJob, known: dict[str, MadeVariant]) -> tuple[Decisions, set[str]]:
        """Ask and answer until it is decided; and which keys had to be made."""
        by_key, made = {v.key: v for v in job.variants}, dict(known)
        new: set[str] = set()
        for _ in range(500):
            step = decide(job, Known(FACTS, made))
            if isinstance(step, Decisions):
                return step, new
            assert isinstance(step, Needs)
            assert not step.facts
            assert step.variants or step.looks
            for variant in step.variants:
                assert variant.key not in made, "asked for twice"
                made[variant.key] = self.made(variant)
                new.add(variant.key)
            for variant in step.looks:
                assert made[variant.key].score is None, "looked at twice"
                made[variant.key] = self.made(by_key[variant.key], look=True)
        raise AssertionError("it is never decided")


RECIPES = st.sampled_from(
    [
        Recipe(formats=("avif", "webp", "jpeg", "png"), widths=(100, 400, 900)),
        Recipe(formats=("webp", "png"), widths=(100, 400), quality=Aim(look=80)),
        Recipe(formats="auto", widths=(200, 800, 1600)),
        Recipe(formats=("webp", "jpeg"), steps=Steps(narrowest=100, widest=1600, apart=9_000)),
        Recipe(formats="auto", steps=Steps(narrowest=100, widest=1600, apart=30_000)),
        Recipe(
            formats=("webp", "jpeg"),
            steps=Steps(narrowest=100, widest=1600, apart=9_000),
            quality=Aim(max_bytes=25_000),
        ),
    ]
)


@given(RECIPES, st.integers(0, 200), st.sampled_from([None, 300, 9_000, 25_000]), st.data())
def test_what_lies_on_the_shelf_changes_nothing(
    recipe: Recipe, seed: int, budget: int | None, data: st.DataObject
) -> None:
    """Any of all variants may be there already, of this run or another, looked at or not."""
    job, world = job_by(recipe), World(seed, budget)
    fresh, made = world.decided(job, {})
    there = data.draw(st.sets(st.sampled_from([v.key for v in job.variants])))
    looked = data.draw(st.booleans())
    shelf = {v.key: world.made(v, look=looked) for v in job.variants if v.key in there}
    again, new = world.decided(job, shelf)
    assert again == fresh
    assert not new & there
    assert new <= made, "and no more has to be made for it"


@given(st.integers(0, 200))
def test_widths_that_are_added_later_are_judged_with_those_of_before(seed: int) -> None:
    narrow = Recipe(formats=("webp", "png"), widths=(100, 400))
    wide = Recipe(formats=("webp", "png"), widths=(100, 400, 900))
    world = World(seed)
    _, made = world.decided(job_by(narrow), {})
    shelf = {v.key: world.made(v) for v in job_by(wide).variants if v.key in made}
    assert world.decided(job_by(wide), shelf)[0] == world.decided(job_by(wide), {})[0]


def test_a_budget_that_nothing_fits_is_told_and_ends() -> None:
    steps = Steps(narrowest=100, widest=1600, apart=9_000)
    job = job_by(Recipe(formats=("webp", "jpeg"), steps=steps, quality=Aim(max_bytes=100)))
    decided, _ = World(1, budget=100).decided(job, {})
    assert decided.kept == ()
    assert any("over budget" in warning for warning in decided.warnings)
    assert any("px are left out" in reason for reason in decided.left_out)


def test_a_budget_leaves_the_widest_that_fits() -> None:
    steps = Steps(narrowest=100, widest=1600, apart=4_000)
    recipe = Recipe(formats=("webp",), steps=steps, quality=Aim(max_bytes=12_000))
    job, world = job_by(recipe), World(3, budget=12_000)
    decided, _ = world.decided(job, {})
    fitting = [v.width for v in job.variants if world.made(v).fits]
    widths = [variant.width for variant in decided.kept]
    assert (min(widths), max(widths)) == (min(fitting), max(fitting))
    assert len(widths) > 2


def key(format: Format, **changes: object) -> str:
    recipe = Recipe.model_validate(
        {"formats": [f.value for f in Format], "widths": [90], **changes}
    )
    cut = Cut(part="/", name="a", recipe="r", origin=Origin.HAND)
    return treatment_key("c", cut, recipe, "", Size(90, 60), format, recipe.quality_for(format))


def test_a_key_changes_with_what_the_bytes_depend_on_and_nothing_else() -> None:
    settings: dict[str, tuple[object, set[str]]] = {
        "progressive": (False, {"jpeg"}),
        "chroma": ("full", {"avif", "webp", "jpeg"}),
        "colours": (16, {"png"}),
        "effort": ({"avif": 5}, {"avif"}),
        "matte": ("#102030", {"jpeg"}),
        "tone": (True, {"avif", "webp", "jpeg", "png"}),
        "every_format": (True, set()),
        "name": ("other/{cut}-{width}.{ext}", set()),
        "widths": ([90, 800], set()),
    }
    for setting, (value, formats) in settings.items():
        changed = {f.value for f in FORMATS if key(f) != key(f, **{setting: value})}
        assert changed == formats, setting


def test_a_setting_that_is_added_with_a_default_changes_no_key(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """What lies on shelves is found again by the next version: these keys stay as they are."""
    monkeypatch.setattr(keys, "ENCODER", "one")
    assert {f.value: key(f)[:12] for f in FORMATS} == KEYS


KEYS = {
    "avif": "957fd863ff9d",
    "webp": "589450c80fe6",
    "jpeg": "1e5c40770b17",
    "png": "47945e4b236e",
}

"""Decisions: the same job has the same files, whatever is known already."""

from __future__ import annotations

from itertools import pairwise
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
from gefa.core.pixels import AlphaKind
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.made import CutFacts, MadeVariant
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
            if format is not Format.SVG or width == max(widths)
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
        if variant.format is Format.SVG:
            return self._drawn(variant)
        weight = {Format.AVIF: 5, Format.WEBP: 7, Format.JPEG: 9, Format.PNG: 40}[variant.format]
        bytes = int(200 + variant.width**1.6 * weight / 20 * (0.4 + 1.2 * self._noise(variant)))
        knows = look or variant.look is not None
        score = round(70 + 25 * self._noise(variant), 2) if knows else None
        fits = self._budget is None or bytes <= self._budget
        return MadeVariant(
            sha256="x" if fits else "", bytes=bytes, score=score, fits=fits,
            limit="" if fits else "too heavy",
        )  # fmt: skip

    def _drawn(self, variant: PlannedVariant) -> MadeVariant:
        noise = self._noise(variant)
        if noise < 0.2:
            return MadeVariant(sha256="", bytes=0, fits=False, limit="it has text")
        packed = int(500 + 30_000 * noise**3)
        return MadeVariant(sha256="x", bytes=3 * packed, gzip=packed, score=100)

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
        Recipe(formats=("svg", "webp", "png"), widths=(48, 96)),
        Recipe(formats=("svg",), widths=(96,)),
        Recipe(formats="auto", widths=(200, 800), every_format=True),
        Recipe(
            formats=("webp", "jpeg"),
            steps=Steps(narrowest=100, widest=1600, apart=9_000),
            quality=Aim(max_bytes=25_000),
        ),
    ]
)


RECIPES_WITH_DRAWINGS = (
    Recipe(formats=("svg", "webp", "png"), widths=(48, 400)),
    Recipe(formats="auto", widths=(200, 800)),
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


@given(st.integers(0, 200), st.floats(0, 0.5), st.lists(st.integers(60, 2000), min_size=2))
def test_no_width_is_kept_that_spares_nobody_anything(
    seed: int, apart: float, widths: list[int]
) -> None:
    recipe = Recipe(
        formats=("webp", "jpeg"), widths=widths[:64], apart={"weight": apart}, every_format=True
    )
    job, world = job_by(recipe), World(seed)
    decided, _ = world.decided(job, {})
    kept = sorted({variant.width for variant in decided.kept}, reverse=True)
    bytes = {(v.width, v.format): world.made(v).bytes for v in job.variants}
    assert kept[0] == max(widths[:64])
    for wider, width in pairwise(kept):
        shares = [bytes[width, format] / bytes[wider, format] for format in recipe.candidates]
        assert apart == 0 or min(shares) <= 1 - apart
    gone = {v.width for v in job.variants} - set(kept)
    assert sum("px are left out" in reason for reason in decided.left_out) == len(gone)
    for width in gone:
        wider = min(other for other in kept if other > width)
        assert all(bytes[width, f] > (1 - apart) * bytes[wider, f] for f in recipe.candidates)


@given(st.integers(0, 300), st.sampled_from(RECIPES_WITH_DRAWINGS))
def test_a_drawing_stays_one_where_it_is_lighter_than_the_lightest_widest_picture(
    seed: int, recipe: Recipe
) -> None:
    job, world = job_by(recipe), World(seed)
    decided, made = world.decided(job, {})
    assert job.drawing is not None
    drawn = world.made(job.drawing)
    widest = [v for v in job.pixels if v.width == max(recipe.widths)]
    lightest = min(world.made(v).bytes for v in widest if v.key in made)
    if not drawn.fits:
        assert "SVG is left out: it has text" in decided.left_out
    elif drawn.sent > lightest:
        assert any("too intricate" in reason for reason in decided.left_out)
    else:
        assert decided.kept == (job.drawing,)
        assert "sent as" in decided.why
        assert made == {job.drawing.key, *(v.key for v in widest)} & made, "no other width is made"
        return
    assert job.drawing not in decided.kept
    assert decided.kept


def test_a_recipe_for_drawings_alone_says_where_there_is_no_file() -> None:
    recipe = Recipe(formats=("svg",), widths=(96,))
    ends = {World(seed).decided(job_by(recipe), {})[0] for seed in range(12)}
    assert {len(end.kept) for end in ends} == {0, 1}
    assert all(bool(end.kept) != bool(end.warnings) for end in ends)


def test_automatic_formats_try_no_png_of_a_photograph() -> None:
    decided, made = World(4).decided(job_by(Recipe(formats="auto", widths=(200, 800))), {})
    assert not any(key.startswith("png") for key in made)
    assert any("PNG is left out: it would make a photograph" in r for r in decided.left_out)


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
        "tone": (True, {"svg", "avif", "webp", "jpeg", "png"}),
        "text": ("keep", {"svg"}),
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
    "svg": "0290f7b602ee",
    "avif": "957fd863ff9d",
    "webp": "589450c80fe6",
    "jpeg": "9392d13bc6c3",
    "png": "47945e4b236e",
}

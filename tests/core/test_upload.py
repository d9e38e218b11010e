"""What a slot makes of a picture, worked out before anything is drawn."""

from __future__ import annotations

from datetime import date
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.crop import crop_round
from gefa.core.geometry import Rect, Size
from gefa.core.read.document import Kind
from gefa.core.read.survey import PartFacts, Survey
from gefa.core.slots.settings import SlotSettings, limits_in_words, settings_from
from gefa.core.slots.upload import (
    Expanded,
    Focus,
    cropped_by,
    expand,
    first_focus,
    place_of,
    treatment_of,
)
from gefa.core.treat.recipe import BUILT_IN, Fit, Recipe

DAY = date(2026, 11, 25)
PLAIN = Recipe(formats=("jpeg",), widths=(100, 400))


def surveyed(width: int, height: int) -> Survey:
    canvas = PartFacts(
        path="/",
        name="beach",
        kind=Kind.CANVAS,
        depth=0,
        extent=Rect(0, 0, width, height),
        fingerprint="f",
    )
    return Survey(
        name="beach.jpg",
        format="jpeg",
        width=width,
        height=height,
        transparent=False,
        stored_bytes=9,
        parts=[canvas],
    )


def expanded(
    size: tuple[int, int], recipe: Recipe = PLAIN, focus: Focus | None = None, **own: Any
) -> Expanded:
    return expand(surveyed(*size), settings_from(own), recipe, focus, DAY)


def sizes(found: Expanded) -> dict[str, list[tuple[int, int]]]:
    return {job.cut.name: [(v.width, v.height) for v in job.variants] for job in found.jobs}


def test_crops_have_their_own_ladders_names_and_folders() -> None:
    found = expanded(
        (600, 400),
        crops=[{"name": "whole"}, {"name": "card", "ratio": "3:1", "widths": [300]}, {"name": "box", "ratio": 1, "fit": "fill", "widths": [50]}],
    )  # fmt: skip
    assert sizes(found) == {
        "whole": [(100, 67), (400, 267)],
        "card": [(300, 100)],
        "box": [(50, 50)],
    }
    assert found.jobs[1].variants[0].path == "2026/11/beach-card-300.jpg"
    flat = expanded((600, 400), folders="flat", name="{cut}/{source}-{hash}.{ext}")
    assert flat.jobs[0].variants[0].path.startswith("whole/beach-")


@pytest.mark.parametrize(
    ("size", "limits", "made"),
    [
        ((600, 400), {"max_width": 300}, [(100, 67), (300, 200)]),
        ((600, 400), {"max_height": 100}, [(100, 67), (150, 100)]),
        ((4000, 1000), {"max_megapixels": 1}, [(100, 25), (400, 100)]),
        ((200, 200), {"max_megapixels": 0.01}, [(100, 100)]),
        ((300, 200), {}, [(100, 67), (300, 200)]),
    ],
)
def test_nothing_is_larger_than_the_slot_takes_or_the_picture_has(
    size: tuple[int, int], limits: dict[str, Any], made: list[tuple[int, int]]
) -> None:
    found = expanded(size, **limits)
    assert sizes(found) == {"whole": made}
    brought_down = any("brought down" in warning for warning in found.warnings)
    assert brought_down is (settings_from(limits).largest(Size(*size)) < 1)
    widest = made[-1][0]
    assert [left.width for left in found.left_out] == [w for w in (100, 400) if w > widest]


def test_a_recipe_by_densities_or_steps_is_brought_down_too() -> None:
    by_density = Recipe(formats=("jpeg",), densities=(1, 2, 3), shown=200)
    assert sizes(expanded((900, 600), by_density, max_width=450)) == {
        "whole": [(200, 133), (400, 267), (450, 300)]
    }
    by_steps = Recipe(formats=("jpeg",), steps={"narrowest": 100, "widest": 800, "apart": 5000})
    (job,) = expanded((900, 600), by_steps, max_width=450).jobs
    assert job.recipe.steps is not None
    assert (job.recipe.steps.narrowest, job.recipe.steps.widest) == (100, 450)
    (tiny,) = expanded((900, 600), by_steps, max_width=90).jobs
    assert [variant.width for variant in tiny.variants] == [90]


def test_a_crop_in_no_ratio_of_its_own_is_as_the_recipe_cuts_it() -> None:
    square = PLAIN.model_copy(update={"ratio": 1.0, "fit": Fit.COVER})
    (whole, wide) = cropped_by(
        settings_from({"crops": [{"name": "whole"}, {"name": "wide", "ratio": "3:1"}]}), square
    ).crops
    assert (whole.ratio, whole.follows_focal, wide.ratio) == (1.0, True, 3.0)
    assert place_of(whole, Size(600, 400), Focus(x=1, y=0.5)) == Rect(200, 0, 400, 400)


def test_a_recipe_that_enlarges_does_not_do_so_for_uploads() -> None:
    larger = PLAIN.model_copy(update={"enlarge": True})
    assert sizes(expanded((200, 100), larger)) == {"whole": [(100, 50), (200, 100)]}


@given(
    st.integers(1, 3000),
    st.integers(1, 3000),
    st.floats(0, 1),
    st.floats(0, 1),
    st.floats(1, 8),
    st.sampled_from(["1:1", "3:2", "1:4", "21:9"]),
)
def test_the_place_of_a_crop_is_what_its_files_show(
    width: int, height: int, x: float, y: float, zoom: float, ratio: str
) -> None:
    focus = Focus(x=x, y=y, zoom=zoom)
    settings = settings_from({"crops": [{"name": "c", "ratio": ratio, "widths": [64]}]})
    found = expand(surveyed(width, height), settings, PLAIN, focus, DAY)
    (crop,), (job,) = settings.crops, found.jobs
    place = place_of(crop, Size(width, height), focus)
    assert job.crop is not None
    assert job.crop.focal is not None
    assert crop.ratio is not None
    assert place == crop_round(Size(width, height), crop.ratio, (x, y), zoom)
    assert place == crop_round(Size(width, height), job.crop.ratio, job.crop.focal, job.crop.zoom)
    near = job.recipe.apart.width
    assert job.variants[0].width == (64 if (1 - near) * place.width >= 64 else place.width)


def test_only_what_decides_about_files_makes_another_treatment() -> None:
    plain = SlotSettings()

    def named(
        settings: SlotSettings = plain,
        recipe: Recipe = PLAIN,
        blob: str = "b",
        focus: Focus | None = None,
    ) -> str:
        return treatment_of(settings, recipe, blob, focus, {})

    for same in (
        {"review": True},
        {"sizes": "50vw"},
        {"mask": "circle"},
        {"max_bytes": 5000},
        {"recipe": "icon"},
    ):
        assert named(settings_from(same)) == named()
    others = [
        named(settings_from(o))
        for o in ({"max_width": 9}, {"folders": "flat"}, {"crops": [{"name": "a"}]})
    ]
    others += [
        named(recipe=BUILT_IN["icon"]),
        named(blob="c"),
        named(focus=Focus(x=0, y=0)),
        named(focus=Focus(x=0, y=0, zoom=2)),
    ]
    assert len({named(), *others}) == 1 + len(others)


def test_limits_read_as_a_sentence() -> None:
    settings = settings_from(
        {
            "accepts": ["jpeg", "png"],
            "max_bytes": 5_000_000,
            "min_width": 800,
            "min_height": 600,
            "max_megapixels": 24,
            "min_ratio": "1:2",
            "max_ratio": 3,
        }
    )
    assert limits_in_words(settings) == (
        "JPEG and PNG up to 5.00 MB, at least 800 × 600 px, brought down to 24 megapixels, from 0.5 : 1 to 3 : 1"
    )
    for size, said in (
        ((799, 700), "at least 800 px wide"),
        ((4000, 1000), "at most 3.00 : 1"),
        ((900, 650), ""),
    ):
        assert said in settings.refusal(Size(*size))


def test_crops_keep_what_the_recipe_says_until_somebody_chooses() -> None:
    assert first_focus(PLAIN, (0.3, 0.4)) == Focus(x=0.3, y=0.4)
    close = PLAIN.model_copy(update={"focal": (0.9, 0.1), "zoom": 12.0})
    assert first_focus(close, (0.3, 0.4)) == Focus(x=0.9, y=0.1, zoom=8), "as far as uploads go"

"""What answers a request that names no file."""

from __future__ import annotations

from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.deliver.negotiate import pick, preferences
from gefa.core.treat.formats import Format


@dataclass(frozen=True)
class Served:
    format: str
    width: int
    bytes: int
    moves: bool = False


CHROMIUM = "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8"
"""what Chromium sends for an <img>"""
LADDER = [
    Served(format, width, width * weight)
    for width in (320, 640, 960)
    for format, weight in (("avif", 2), ("webp", 3), ("jpeg", 5))
]


@pytest.mark.parametrize(
    ("accept", "format"),
    [
        (CHROMIUM, "avif"),
        ("image/webp,*/*", "webp"),
        ("*/*", "jpeg"),
        ("", "jpeg"),
        ("text/html", "jpeg"),
        ("image/*", "jpeg"),
        ("image/avif;q=0, image/webp", "webp"),
        ("image/avif;q=0.2, image/jpeg;q=0.9", "jpeg"),
        ("IMAGE/AVIF ; q=1.0", "avif"),
        ("image/avif;q=nonsense, */*", "jpeg"),
        ("image/avif;level=1;q=0.5", "avif"),
    ],
)
def test_the_format_is_one_that_the_client_names(accept: str, format: str) -> None:
    found = pick(LADDER, accept, 640)
    assert found is not None
    assert (found.format, found.width) == (format, 640)


@pytest.mark.parametrize(
    ("width", "served"), [(1, 320), (320, 320), (321, 640), (960, 960), (4000, 960), (None, 960)]
)
def test_the_width_is_the_next_that_exists(width: int | None, served: int) -> None:
    found = pick(LADDER, CHROMIUM, width)
    assert found is not None
    assert found.width == served


def test_the_lightest_of_equals_and_something_rather_than_nothing() -> None:
    odd = [Served("avif", 320, 900), Served("webp", 320, 500)]
    assert pick(odd, CHROMIUM, 100) == odd[1]
    assert pick(odd, "*/*", 100) == odd[1], "all there is, though nobody said they know it"
    assert pick([], CHROMIUM, 100) is None


def test_an_animation_is_sent_moving_however_light_a_still_is() -> None:
    files = [
        Served("avif", 320, 900),
        Served("webp", 320, 50_000, moves=True),
        Served("jpeg", 320, 3_000),
    ]
    assert pick(files, CHROMIUM, 100) == files[1]
    assert pick(files, "image/avif", 100) == files[0], "it knows nothing that moves"
    assert pick(files, "*/*", 100) == files[2]


@given(st.text(max_size=80), st.one_of(st.none(), st.floats(0.1, 1e5)))
def test_whatever_a_client_says_it_is_sent_a_file_that_exists(
    accept: str, width: float | None
) -> None:
    assert pick(LADDER, accept, width) in LADDER
    assert all(0 <= weight <= 1 for weight in preferences(accept).values())
    assert set(preferences(accept)) == set(Format)

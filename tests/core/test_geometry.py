from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.geometry import NOWHERE, Rect, Size, height_for, union_all
from gefa.core.treat.ladder import ladder

sides = st.integers(1, 5_000)
rects = st.builds(Rect, st.integers(-3_000, 3_000), st.integers(-3_000, 3_000), sides, sides)
sizes = st.builds(Size, st.integers(1, 30_000), st.integers(1, 30_000))
widths = st.lists(st.integers(1, 20_000), min_size=1, max_size=12)


@given(rects, rects)
def test_a_union_holds_both_and_no_smaller_rectangle_does(a: Rect, b: Rect) -> None:
    both = a.union(b)
    for one in (a, b):
        assert both.x <= one.x
        assert both.y <= one.y
        assert both.right >= one.right
        assert both.bottom >= one.bottom
    assert both.x in (a.x, b.x)
    assert both.right in (a.right, b.right)
    assert both.bottom in (a.bottom, b.bottom)


@given(rects, rects)
def test_an_intersection_lies_in_both_and_is_symmetric(a: Rect, b: Rect) -> None:
    shared = a.intersection(b)
    assert shared == b.intersection(a)
    if shared != NOWHERE:
        assert a.union(shared) == a
        assert b.union(shared) == b


@given(st.lists(rects))
def test_an_empty_rectangle_adds_nothing(several: list[Rect]) -> None:
    assert union_all([*several, NOWHERE]) == union_all(several)


@given(rects, st.integers(-50, 50), st.integers(-50, 50))
def test_moving_there_and_back_changes_nothing(rect: Rect, dx: int, dy: int) -> None:
    assert rect.moved(dx, dy).moved(-dx, -dy) == rect


@given(sizes, st.integers(1, 30_000))
def test_heights_keep_the_ratio_to_half_a_pixel(natural: Size, width: int) -> None:
    height = height_for(natural, width)
    assert height >= 1
    exact = natural.height * width / natural.width
    assert height == 1 or abs(height - exact) <= 0.5


@given(sizes, widths)
def test_a_ladder_never_enlarges(natural: Size, wanted: list[int]) -> None:
    made = ladder(natural, wanted)
    assert all(size.width <= natural.width for size in made)
    assert [size.width for size in made] == sorted({size.width for size in made})
    assert {w for w in wanted if w < natural.width} <= {size.width for size in made}


@given(sizes, widths)
def test_widths_beyond_the_natural_one_become_one_file_at_it(
    natural: Size, wanted: list[int]
) -> None:
    at_natural = [size for size in ladder(natural, wanted) if size.width == natural.width]
    assert len(at_natural) == (1 if max(wanted) >= natural.width else 0)
    assert at_natural in ([], [natural])


@given(sizes, widths, st.floats(0.01, 0.5))
def test_no_width_of_a_ladder_is_near_the_natural_one(
    natural: Size, wanted: list[int], apart: float
) -> None:
    made = ladder(natural, wanted, apart=apart)
    narrower = [size.width for size in made if size != natural]
    assert all(width <= (1 - apart) * natural.width for width in narrower)
    assert {w for w in wanted if w <= (1 - apart) * natural.width} == set(narrower)
    assert (natural in made) == (max(wanted) > (1 - apart) * natural.width)


@given(sizes, widths)
def test_what_is_drawn_from_shapes_comes_at_every_width(natural: Size, wanted: list[int]) -> None:
    made = ladder(natural, wanted, scalable=True)
    assert [size.width for size in made] == sorted(set(wanted))


@pytest.mark.parametrize(
    ("natural", "wanted", "expected"),
    [
        (Size(1000, 500), [480, 960, 1440, 1920], [(480, 240), (960, 480), (1000, 500)]),
        (Size(100, 1), [10], [(10, 1)]),
        (Size(3, 2), [1, 2, 3], [(1, 1), (2, 1), (3, 2)]),
        (Size(2560, 1708), [480, 1920], [(480, 320), (1920, 1281)]),
    ],
)
def test_ladders(natural: Size, wanted: list[int], expected: list[tuple[int, int]]) -> None:
    assert [(size.width, size.height) for size in ladder(natural, wanted)] == expected

"""Numbers and times as pages show them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from gefa.web.template_filters import moment, relative, with_units

NOW = datetime(2026, 11, 27, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    ("ago", "told"),
    [
        (timedelta(seconds=3), "just now"),
        (timedelta(seconds=-3), "in a moment"),
        (timedelta(minutes=5), "5 min ago"),
        (timedelta(minutes=-5), "in 5 min"),
        (timedelta(minutes=59, seconds=50), "59 min ago"),
        (timedelta(hours=3), "3 h ago"),
        (timedelta(hours=23, minutes=50), "23 h ago"),
        (timedelta(days=1), "1 day ago"),
        (timedelta(days=-6), "in 6 days"),
        (timedelta(days=15), "12 Nov"),
        (timedelta(days=400), "23 Oct 2025"),
    ],
)
def test_times_are_told_as_people_say_them(ago: timedelta, told: str) -> None:
    assert relative(NOW - ago, NOW) == told


def test_the_exact_time_is_at_hand() -> None:
    shown = moment(datetime(2020, 2, 3, 4, 5, 6))
    assert shown == (
        '<time datetime="2020-02-03T04:05:06Z" title="2020-02-03 04:05 UTC">3 Feb 2020</time>'
    )


@pytest.mark.parametrize(
    ("html", "shown"),
    [
        ("<p>1,600 px, 12.5 kB</p>", "<p>1,600\u202fpx, 12.5\u202fkB</p>"),
        ('<input value="30 kB" title="3 px">', '<input value="30 kB" title="3 px">'),
        ("<code>calc(5 px)</code> 5 px", "<code>calc(5 px)</code> 5\u202fpx"),
        ("<textarea>\n7 %</textarea>7 %", "<textarea>\n7 %</textarea>7\u202f%"),
        ("<p>3 slices, 4 minutes</p>", "<p>3 slices, 4 minutes</p>"),
    ],
)
def test_numbers_stay_with_their_units_but_nothing_is_changed_that_is_copied(
    html: str, shown: str
) -> None:
    assert with_units(html) == shown

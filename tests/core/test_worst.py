"""What people type and files bring is read in linear time, also at its worst."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from gefa.core.conditions import ConditionError, parse_media, parse_sizes
from gefa.core.cut.glob import covers
from gefa.core.errors import GefaError
from gefa.core.plan.load import parse_plan
from gefa.core.read import read
from gefa.core.read.part_names import PathBook, near_tags, split_tags, tidied
from gefa.core.read.survey import survey
from gefa.core.read.svg.css_values import in_srgb
from gefa.core.read.svg.transforms import functions
from gefa.core.slots.settings import is_web_address
from gefa.core.treat.recipe import fields_of, ratio_from_words
from gefa.web.delivery import is_range
from gefa.web.pages.recipe_form import _BUDGET, _LOOK
from tests.hostile import named, svg

N = 100_000
SECONDS = 3.0
"""of computing: what takes the square of its length would take minutes"""


def _books() -> None:
    book = PathBook()
    for _ in range(N // 5):
        book.path("", "same")


def _in_drawing(inner: str) -> Callable[[], object]:
    def read_it() -> object:
        with tempfile.NamedTemporaryFile(suffix=".svg") as file:
            file.write(svg(inner))
            file.flush()
            return survey(read(Path(file.name), "worst.svg"))

    return read_it


WORST: dict[str, Callable[[], object]] = {
    "glob of stars": lambda: covers("*a" * 500, "a" * 500 + "b"),
    "glob of double stars": lambda: covers("**/a" * 250, "a/" * 500 + "b"),
    "tags": lambda: split_tags(" #a" * (N // 3) + "!"),
    "near tags": lambda: near_tags("# " * (N // 2)),
    "tidied": lambda: tidied("(" * (N // 2) + ")" * (N // 2)),
    "same names": _books,
    "transforms": lambda: functions("translate(1) " * (N // 13) + "rotate(3)!"),
    "transform numbers": lambda: functions("translate(" + "1" * N + "!)"),
    "length": _in_drawing(f'<rect width="{"1" * N}!" height="9" id="a"/>'),
    "font": _in_drawing(f'<text id="a" font="{"1" * N}">a</text>'),
    "font with slash": _in_drawing(f'<text id="a" font="1px/{"a" * N}">a</text>'),
    "style": _in_drawing(f'<rect id="a" width="9" height="9" style="{";" * N}"/>'),
    "sheet": _in_drawing(f"<style>{'font-family' + ' ' * 50:s}{'font-family' * (N // 11)}</style>"),
    "filter functions": _in_drawing(
        f'<rect id="a" width="9" height="9" filter="blur({"(1)" * (N // 3)}"/>'
    ),
    "filter numbers": _in_drawing(
        f'<filter id="f"><feOffset dx="{"1" * N}!"/></filter>'
        '<rect id="a" width="9" height="9" filter="url(#f)"/>'
    ),
    "references": _in_drawing(f'<rect id="a" width="9" height="9" fill="{"url(" * (N // 4)}"/>'),
    "variables": _in_drawing(f'<rect id="a" width="9" height="9" fill="{"var(--a," * (N // 8)}"/>'),
    "colour": lambda: in_srgb("lab(" + "1" * N),
    "sizes": lambda: parse_sizes("calc(" * (N // 5)),
    "media": lambda: parse_media("(" * N),
    "media with and": lambda: parse_media("(width > 1px) and " * (N // 18)),
    "plan of lists": lambda: parse_plan("a = " + "[" * N, "plan"),
    "plan of digits": lambda: parse_plan("a = " + "9" * N, "plan"),
    "guides": lambda: parse_plan(f'[[slices]]\nguides = {{ x = ["{"9" * N} %"] }}', "plan"),
    "name template": lambda: fields_of("{" * N),
    "ratio": lambda: ratio_from_words("1" * N + "!"),
    "budget": lambda: _BUDGET.fullmatch("1" * N + "!"),
    "look": lambda: _LOOK.fullmatch("look" + " " * N + "!"),
    "webhook": lambda: is_web_address("http://" + "a." * (N // 2)),
    "range": lambda: is_range("bytes=" + "0-," * (N // 3)),
}


@pytest.mark.parametrize("what", WORST)
def test_the_worst_takes_linear_time(what: str) -> None:
    started = time.process_time()
    with suppress(GefaError, ConditionError, ValueError):
        WORST[what]()
    assert time.process_time() - started < SECONDS, what


CHEAP = [
    "turns.svg", "digits.svg", "blurs.svg", "noise.svg", "text.svg", "embedded-plain.svg",
    "embedded-twice.svg", "embedded-inside.svg", "embedded-capitals.svg", "embedded-charset.svg",
]  # fmt: skip


@pytest.mark.parametrize("hostile", list(named(*CHEAP)), ids=lambda hostile: str(hostile.name))
def test_what_costs_too_much_is_refused_with_the_limit(hostile: object, tmp_path: Path) -> None:
    from tests.hostile import Hostile

    assert isinstance(hostile, Hostile)
    path = tmp_path / hostile.name
    path.write_bytes(hostile.make())
    started = time.process_time()
    told = ""
    try:
        survey(read(path, hostile.name))
    except GefaError as error:
        told = str(error)
    assert time.process_time() - started < SECONDS
    if hostile.name not in ("turns.svg", "digits.svg"):
        assert "the limit is" in told
        assert told.startswith(f"{hostile.name}: ")


@pytest.mark.parametrize(
    "name", ["{cut:1000000000}-{width}.{ext}", "{cut!r}-{width}.{ext}", "{cut:d}-{width}.{ext}",
             "{cut:{source.__class__}}-{width}.{ext}"],
)  # fmt: skip
def test_a_name_template_has_names_only(name: str) -> None:
    with pytest.raises(ValueError, match="name template"):
        fields_of(name)


@pytest.mark.parametrize(
    ("url", "is_one"),
    [("http://a..b/", False), ("http://xn--/", False), ("http://cafe .example/", False),
     (f"http://{'a' * 300}.example/", False), ("http://a\r\nb/", False), ("http://[::1", False),
     ("http://a:99999999/", False), ("ftp://a/", False), ("http://café.example/x", True),
     ("https://hooks.example:8443/a?b", True), ("http://127.0.0.1:9/", True),
     ("http://[::1]/", True), ("http://site_one/told", True)],
)  # fmt: skip
def test_addresses_that_can_be_told(url: str, is_one: bool) -> None:
    assert is_web_address(url) is is_one

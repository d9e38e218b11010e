"""``sizes``, ``media`` and what a browser picks, on figures that can be worked out by hand; a real
browser is asked in tests/browser."""

from __future__ import annotations

import json
import re

import html5lib
import pytest
from jinja2 import Environment

from gefa.core.conditions import (
    ConditionError,
    Viewport,
    parse_media,
    parse_sizes,
    shown_width,
)
from gefa.core.deliver.browser import loaded, picked
from gefa.core.deliver.markup import (
    ImgBehaviour,
    MediaCase,
    Offer,
    directed,
    image_set,
    jinja_macro,
    preload,
)
from gefa.core.geometry import Size
from gefa.core.treat.formats import Format


def offers(*widths: int, formats: tuple[Format, ...] = (Format.AVIF, Format.JPEG)) -> list[Offer]:
    return [Offer(f"/m/{f}-{w}", f, w, w // 2) for f in formats for w in widths]


@pytest.mark.parametrize(
    ("sizes", "width", "shown"),
    [
        ("100vw", 640, 640),
        ("640px", 320, 640),
        ("(max-width: 600px) 100vw, 50vw", 600, 600),
        ("(max-width: 600px) 100vw, 50vw", 601, 300.5),
        ("(width <= 600px) 90vw, (600px < width < 900px) 50vw, 300px", 700, 350),
        ("(min-width: 40em) calc((100vw - 40px) / 3), calc(100vw - 2rem)", 640, 200),
        ("(min-width: 40em) calc((100vw - 40px) / 3), calc(100vw - 2rem)", 639, 607),
        ("(min-width: 500px) and (orientation: landscape) 10vw, 5vw", 1000, 100),
        ("not (min-width: 500px) 10vw, 5vw", 1000, 50),
        ("((max-width: 400px) or (min-width: 900px)) 10vw, 5vw", 1000, 100),
        ("min(50vw, 300px)", 1000, 300),
        ("clamp(200px, 10vw + 1in, 400px)", 2000, 296),
        ("max(10vh, 2cm)", 100, 80),
        ("(min-width: 9000px) 1px", 500, 500),
    ],
)
def test_sizes_are_worked_out(sizes: str, width: float, shown: float) -> None:
    assert shown_width(parse_sizes(sizes), Viewport(width)) == pytest.approx(shown)


@pytest.mark.parametrize(
    ("sizes", "said"),
    [
        ("", "empty"),
        ("50%", "not a length"),
        ("wide", "not a length"),
        ("640", "not a length"),
        ("(max-width: 600px) 100vw, , 50vw", "comma too many"),
        ("50vw, (max-width: 600px) 100vw", "never reached"),
        ("max-width: 600px 100vw, 50vw", "not a condition"),
        ("(min-wdith: 600px) 100vw, 50vw", "does not choose pictures"),
        ("(color) 100vw, 50vw", "nothing that|not a condition"),
        ("calc(100vw - ) 1px", "not a condition|not a length"),
        ('"><script>', "not a length|cannot be read"),
    ],
)
def test_sizes_that_a_browser_would_skip_are_told(sizes: str, said: str) -> None:
    with pytest.raises(ConditionError, match=said):
        parse_sizes(sizes)


@pytest.mark.parametrize(
    ("media", "width", "holds"),
    [("", 1, True), ("screen and (max-width: 9px)", 9, True), ("print", 9, False), ("(min-width: 9px), (height: 1px)", 8, False),
     ("only screen", 5, True), ("all and (width = 7px)", 7, True)],
)  # fmt: skip
def test_media_hold_or_not(media: str, width: float, holds: bool) -> None:
    assert parse_media(media)(Viewport(width)) is holds


def test_the_narrowest_with_enough_pixels_is_picked() -> None:
    files = offers(400, 800, 1600, formats=(Format.JPEG,))

    def width(shown: float, density: float) -> int:
        return picked(files, shown, density).width

    assert width(400, 1) == 400
    assert width(401, 1) == 800
    assert width(400, 2) == 800
    assert width(400, 2.1) == 1600
    assert width(5000, 3) == 1600


def test_art_direction_goes_by_the_first_that_holds_and_the_newest_format() -> None:
    tall = MediaCase(offers(200, 400), Size(400, 500), "100vw", "(max-width: 500px)")
    wide = MediaCase(offers(800, 1600), Size(1600, 400), "100vw")
    shown = [tall, wide]
    assert loaded(shown, Viewport(390)).url == "/m/avif-400"
    assert loaded(shown, Viewport(501)).url == "/m/avif-800"
    assert loaded(shown, Viewport(501), [Format.WEBP]).url == "/m/jpeg-800"
    html = directed(
        shown,
        'A "kite"',
        ImgBehaviour(lazy=False, colour="#aabbcc", tiny="data:x", mask="border-radius: 50%"),
    )
    assert re.findall(r'<source media="([^"]+)" type="([^"]+)"', html) == [
        ("(max-width: 500px)", "image/avif"),
        ("(max-width: 500px)", "image/jpeg"),
    ]
    assert 'width="400" height="500"' in html
    assert 'alt="A &quot;kite&quot;"' in html
    assert (
        'style="background: #aabbcc url(data:x) center / cover no-repeat; border-radius: 50%"'
        in html
    )
    assert 'loading="eager" fetchpriority="high"' in html
    middle = MediaCase(
        offers(600), Size(600, 300), "100vw", "(max-width: 900px) and (min-height: 9px)"
    )
    media = re.findall(r'media="([^"]+)"', preload([tall, middle, wide]))
    for width in (400, 700, 1000):
        holding = [at for at, one in enumerate(media) if parse_media(one)(Viewport(width))]
        assert len(holding) == 1, "one link each, and no file for nothing"
        assert (
            loaded([tall, middle, wide], Viewport(width)) in [tall, middle, wide][holding[0]].offers
        )
    by_medium = MediaCase(offers(9), Size(9, 9), "1px", "screen and (width: 9px)")
    assert preload([by_medium, wide]).count("<link") == 1
    links = preload(shown).splitlines()
    assert [
        'media="(max-width: 500px)"' in links[0],
        'media="(not ((max-width: 500px)))"' in links[1],
    ] == [True, True]


def test_a_jinja_macro_gives_the_same_and_takes_other_words() -> None:
    shown = [MediaCase(offers(200), Size(200, 100), "100vw")]
    alt = 'A {{ kite }} {% raw %} & "more" \\ ☀'
    macro = jinja_macro("beach", shown, alt, ImgBehaviour())
    render = (
        Environment(autoescape=True)
        .from_string(macro + "{{ beach() }}|{{ beach('a<b', 'eager') }}")
        .render()
    )
    first, second = render.split("|")
    (img,) = html5lib.parse(first, namespaceHTMLElements=False).iter("img")
    assert img.get("alt") == alt
    assert first.partition("alt=")[0] == directed(shown, alt, ImgBehaviour()).partition("alt=")[0]
    assert 'alt="a&lt;b" loading="eager"' in second
    assert json.dumps(alt) not in macro


def test_a_background_goes_by_format_and_density() -> None:
    css = image_set(offers(200, 400), 200)
    assert css.startswith('background-image: url("/m/jpeg-200");')
    assert re.findall(r'url\("([^"]+)"\) (\dx) type\("([^"]+)"\)', css) == [
        ("/m/avif-200", "1x", "image/avif"), ("/m/avif-400", "2x", "image/avif"),
        ("/m/jpeg-200", "1x", "image/jpeg"), ("/m/jpeg-400", "2x", "image/jpeg"),
    ]  # fmt: skip

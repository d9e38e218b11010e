"""Pages as a build made them: read, found in the out folder, and what is wrong with them."""

from __future__ import annotations

import random
import time
from pathlib import Path

import pytest

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import PlanError, SourceError
from gefa.core.plan.pages import AudienceRow, PageEntry, PictureEntry
from gefa.core.plan.plan import Plan
from gefa.core.weigh.addresses import Addresses, FoundFile
from gefa.core.weigh.audience import Audience, neutral
from gefa.core.weigh.css_images import css_images
from gefa.core.weigh.faults import faults_of
from gefa.core.weigh.html_page import HtmlStyle, read_markup, read_page
from gefa.core.weigh.page_weight import weigh_page
from gefa.core.weigh.shown import ShownPage
from gefa.core.weigh.shown_markup import shown_markup
from gefa.core.weigh.srcset import Candidate, parse_srcset
from gefa.folder.page_weights import Weighing, html_below
from tests.core.test_page_weight import site
from tests.make import photo


@pytest.mark.parametrize(
    ("text", "told", "problems"),
    [
        ("a.webp 400w, b.webp 800w", [("a.webp", 400, 1), ("b.webp", 800, 1)], 0),
        ("a 1x,b 2x", [("a", None, 1), ("b", None, 2)], 0),
        ("a,b.png", [("a,b.png", None, 1)], 0),
        ("a, b 1.5x", [("a", None, 1), ("b", None, 1.5)], 0),
        (" , a 2x (foo, bar), b 400w", [("b", 400, 1)], 1),
        ("a 400w 2x, b 0w, c 3q, d 400w 300h", [("d", 400, 1)], 3),
        ("a 400w, b 400w", [("a", 400, 1)], 0),
        ("data:image/png;base64,AAA= 1x", [("data:image/png;base64,AAA=", None, 1)], 0),
        ("", [], 0),
        (",,,", [], 0),
    ],
)
def test_candidates_are_read_as_html_has_it(
    text: str, told: list[tuple[str, int | None, float]], problems: int
) -> None:
    found, wrong = parse_srcset(text)
    assert found == [Candidate(*one) for one in told]
    assert len(wrong) == problems


def test_nothing_in_a_page_breaks_its_reading() -> None:
    chance = random.Random(3)
    parts = [
        "<img ", "srcset=", '"', "'", ">", "<picture>", "<source ", "</picture>", "<style>", "a{",
        "background:url(", ")", "image-set(", "<!--", "<template>", "</template>", "sizes=",
        "\0", "é", "100vw", "calc(", "<noscript>", "<base href=//x>", "</style>", " 400w,",
    ]  # fmt: skip
    for _ in range(300):
        text = "".join(chance.choices(parts, k=40))
        shown_markup(read_markup(text), lambda url: f"{url} is not there")


@pytest.mark.parametrize(
    "piece", ["<a ", "<!--", "<![", "<a b='x", "</a", "<script></scrip", "<template>"]
)
def test_a_hostile_page_takes_no_longer_than_it_is_long(piece: str) -> None:
    """The parser of the library took 68 s for 20,000 open tags; ten times as many take no second."""
    began = time.process_time()
    for text in (piece * 20_000, f'{piece * 20_000}">-->'):
        read_markup(f"<img src=a>{text}")
    assert time.process_time() - began < 4


def test_a_comment_that_is_never_closed_hides_the_rest() -> None:
    page = read_markup(
        "<script><!-- s('<img src=x>') </script><img src=a><![if x]><img src=b><!-- <img src=c>"
    )
    assert [one.src for one in page.pictures] == ["a", "b"]


def test_what_is_no_page_is_refused() -> None:
    with pytest.raises(SourceError, match="is not HTML"):
        read_page(b"\x89PNG\r\n\0\0", "a.html")
    with pytest.raises(SourceError, match="more than 10 MB"):
        read_page(b" " * 10_000_001, "a.html")


PAGE = """\
<!doctype html>
<img src="img/art/cut 0-640.jpeg" srcset="img/art/cut%200-320.webp 320w" width="9" height="9">
<img src="/img/art/cut%201-320.jpeg" alt="" width="900" height="500">
<picture>
  <source type="image/avif" srcset="img/art/cut%202-320.avif 320w" sizes="50vw,">
  <img src="img/art/cut%202-320.jpeg" alt="x" loading="lazy" width="320" height="180">
</picture>
<img src="img/lost.png" alt="" width="9" height="9">
<img src="https://example.com/a.png" alt="" width="9" height="9" loading="lazy">
<img src="plain.png" alt="" width="64" height="48" loading="lazy">
<img src="data:image/gif;base64,AA" alt="" width="9" height="9" loading="lazy">
<div style="background: url(img/art/cut%203-320.webp) no-repeat"></div>
<template><img src="img/art/cut%204-320.jpeg"></template>
"""


@pytest.fixture
def built(tmp_path: Path) -> Path:
    """A built site: a page in a folder, its pictures beside it, with a manifest."""
    out = tmp_path / "dist" / "img"
    manifest = site(6)
    for file in manifest.files:
        target = out / file.path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(b"\0" * file.bytes)
    (out / "manifest.json").write_text(manifest.to_json())
    (tmp_path / "dist" / "index.html").write_text(PAGE)
    photo(64, 48, 1).pngsave(str(tmp_path / "dist" / "plain.png"))
    return tmp_path


def weighing(built: Path, plan: Plan | None = None) -> Weighing:
    out = built / "dist" / "img"
    manifest = Manifest.model_validate_json((out / "manifest.json").read_text())
    return Weighing(plan or Plan(), manifest, neutral(), built, out)


def test_what_is_wrong_is_told_with_its_line(built: Path) -> None:
    found = weighing(built)
    page = found.html(built / "dist" / "index.html", built / "dist")
    told = {str(fault) for fault in found.faults}
    for line, words in (
        (2, "srcset has widths but no sizes"),
        (2, 'the <img> has no alt: write one, or alt=""'),
        (3, "is 320 px wide and shown on"),
        (5, "sizes is not valid: "),
        (8, "img/lost.png is not there"),
        (8, "a lazy picture stands above this one"),
        (9, "https://example.com/a.png is on another server"),
    ):
        assert any(one.startswith(f"index.html:{line}: ") and words in one for one in told), (
            line,
            words,
            told,
        )
    assert not any("data:" in one for one in told)
    names = [one.picture for one in page.pictures]
    assert names == [
        "art/cut 0", "art/cut 1", "x", "plain", "art/cut 3",
    ]  # fmt: skip
    found.tell_unused(built / "dist")
    assert any("no page refers to" in fault.reason for fault in found.faults)


def test_a_heavier_file_before_a_lighter_one_is_told() -> None:
    manifest = site(1)
    heavier = [
        f.model_copy(update={"bytes": f.bytes * 4}) if f.format.value == "avif" else f
        for f in manifest.files
    ]
    by_path = {f.path: FoundFile(f.path, f.format, f.width, f.height, f.bytes) for f in heavier}
    page = read_markup(manifest.cuts[0].markup)
    shown = shown_markup(page, lambda url: by_path[url.replace("%20", " ")])
    told = faults_of("p", page, shown.pictures, neutral())
    assert sum("is offered before the lighter" in fault.reason for fault in told) == 5


def test_pages_of_a_plan_are_read_from_their_html(built: Path) -> None:
    plan = Plan(pages=(PageEntry(html="dist/index.html"), PageEntry(html="dist/gone.html")))
    found = weighing(built, plan)
    page, gone = found.pages()
    assert page.name == "dist/index.html"
    assert page.mean > 0
    assert "Build the site first" in gone.problems[0]
    assert list(html_below(built / "dist")) == [built / "dist" / "index.html"]
    with pytest.raises(PlanError, match="holds no HTML"):
        html_below(built / "dist" / "img")


def test_addresses_never_leave_the_site(built: Path) -> None:
    (built / "secret.png").write_bytes(b"x" * 99)
    addresses = Addresses(built / "dist")
    for url in ("../secret.png", "/../secret.png", "%2e%2e/secret.png", "file:///etc/passwd",
                "//host/a.png", "http://[broken", "a\0b.png"):  # fmt: skip
        assert isinstance(addresses.find(url, "index.html"), str), url
    (built / "dist" / "link.png").symlink_to(built / "secret.png")
    assert isinstance(addresses.find("link.png", "index.html"), str)


def test_files_are_found_wherever_a_page_is_served_from(built: Path) -> None:
    manifest = site(2)
    addresses = Addresses(built, manifest)
    for url in ("/assets/img/art/cut%200-320.webp?v=3", "../x/art/cut%200-320.webp#a"):
        found = addresses.find(url, "deep/down/index.html")
        assert isinstance(found, FoundFile)
        assert (found.path, found.cut) == ("art/cut 0-320.webp", "art/cut 0")
    assert "art/cut 0-320.webp" not in {file.path for file in addresses.unused()}
    based = Addresses(built / "dist", manifest).find("art/cut%200-320.webp", "index.html", "/img/")
    assert isinstance(based, FoundFile)


def test_backgrounds_of_styles() -> None:
    style = HtmlStyle(
        5,
        "a { background-image: url(old.jpg);\n background-image: image-set(url('a.avif') 1x"
        " type('image/avif'), \"b.jpg\" 2x) }\n@media (width > 1px) { b { background: red url(c.png) } }"
        " c { color: url(no.png) }",
        declarations=False,
    )
    first, second = css_images(style)
    assert [(o.url, o.density, o.type) for o in first.options] == [
        ("a.avif", 1, "image/avif"), ("b.jpg", 2, ""),
    ]  # fmt: skip
    assert second.options[0].url == "c.png"
    assert first.line == 6


def test_a_picture_that_is_shown_smaller_than_its_file_wastes() -> None:
    manifest = site(1)
    by_path = {
        f.path: FoundFile(f.path, f.format, f.width, f.height, f.bytes) for f in manifest.files
    }
    page = read_markup('<img src="art/cut 0-1920.jpeg" alt="" width="480" height="270">')
    shown = shown_markup(page, lambda url: by_path[url])
    row = AudienceRow(viewport_width=1000, device_pixel_ratio=1, share=1)
    told = weigh_page(ShownPage("p", tuple(shown.pictures)), Audience("one", [row]))
    file = told.visits[0].files[0]
    assert (file.needed, file.sent) == (480, 1920)
    assert 0.7 * file.bytes < file.over < file.bytes


def test_a_picture_needs_a_use_for_everywhere() -> None:
    with pytest.raises(ValueError, match="give it no media"):
        PictureEntry.model_validate({"name": "a", "use": [{"cut": "x", "media": "(width < 9px)"}]})
    with pytest.raises(ValueError, match="is not a media condition"):
        PictureEntry.model_validate(
            {"name": "a", "use": [{"cut": "x", "media": "wide"}, {"cut": "y"}]}
        )
    with pytest.raises(ValueError, match="two are named 'a'"):
        one = {"name": "a", "pictures": ["x"]}
        Plan.model_validate({"pages": [one, one]})

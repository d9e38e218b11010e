"""What visitors are sent of pages, against counting by hand and against each other."""

from __future__ import annotations

import random
from urllib.parse import unquote

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gefa.core.deliver.browser import loaded
from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.deliver.markup import MediaCase, Offer, default_sizes, picture
from gefa.core.deliver.named_pictures import picture_records
from gefa.core.errors import PlanError
from gefa.core.geometry import Size
from gefa.core.plan.pages import AudienceRow, PageBudget, PageEntry, PagePicture, PictureEntry
from gefa.core.treat.formats import Format
from gefa.core.weigh.addresses import of_made
from gefa.core.weigh.audience import Audience, audience_rows, neutral, viewport_of
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.html_page import read_markup
from gefa.core.weigh.page_weight import weigh_page
from gefa.core.weigh.sent import sent
from gefa.core.weigh.shown import ShownFile, ShownPage, ShownPicture, ShownSource
from gefa.core.weigh.shown_markup import shown_markup
from gefa.core.weigh.site_pages import SitePages

FORMATS = (Format.AVIF, Format.WEBP, Format.JPEG)
WIDTHS = (320, 640, 960, 1280, 1920)


def site(cuts: int = 3, seed: int = 1) -> Manifest:
    """A manifest of cuts of 1920 × 1080 px in three formats."""
    chance = random.Random(seed)
    manifest = Manifest(sources=["a.png"])
    for number in range(cuts):
        name = f"art/cut {number}"
        files = [
            File(
                cut=name, path=f"{name}-{width}.{format.value}", format=format, width=width,
                height=width * 9 // 16, sha256="", quality=50, reused=False,
                bytes=round((1 + at) * width**1.7 / 9 * chance.uniform(0.9, 1.1)),
            )
            for at, format in enumerate(FORMATS)
            for width in WIDTHS
        ]  # fmt: skip
        offers = [Offer(f.path, f.format, f.width, f.height) for f in files]
        manifest.files += files
        manifest.cuts.append(
            CutRecord(
                name=name, source="a.png", part="/", recipe="r", origin="hand", x=0, y=0,
                width=1920, height=1080, alpha=None, baseline_bytes=None,
                markup=picture(offers, Size(1920, 1080), ""), shown=Size(1920, 1080),
            )
        )  # fmt: skip
    return manifest


def one_row(width: float, density: float = 1.0, formats: tuple[Format, ...] = FORMATS) -> Audience:
    row = AudienceRow(
        viewport_width=width, device_pixel_ratio=density, share=1, formats=formats[:2]
    )
    return Audience("one", [row])


def test_the_file_is_the_one_that_a_browser_takes() -> None:
    manifest, chance = site(), random.Random(4)
    pages = SitePages(manifest, [])
    files = [file for file in manifest.files if file.cut == "art/cut 0"]
    offers = [Offer(f.path, f.format, f.width, f.height) for f in files]
    for sizes in ("100vw", "(max-width: 600px) 50vw, 25vw", "calc(50vw - 20px)", "300px"):
        rows = [
            AudienceRow(
                viewport_width=chance.choice((320, 375, 599, 600, 601, 1024, 1440, 2560)),
                device_pixel_ratio=chance.choice((1, 1.25, 1.5, 2, 2.625, 3)),
                share=1,
                formats=chance.choice(((), (Format.WEBP,), (Format.AVIF, Format.WEBP))),
            )
            for _ in range(60)
        ]
        entry = PageEntry(name="p", pictures=[{"picture": "art/cut 0", "sizes": sizes}])
        found = sent(pages.page(entry).pictures[0], Audience("many", rows))
        case = MediaCase(offers, Size(1920, 1080), sizes)
        for at, row in enumerate(rows):
            known = (*row.formats, Format.JPEG, Format.PNG)
            expected = loaded([case], viewport_of(row), known)
            assert found.picture.files[found.file[at]].path == expected.url


def test_needed_sent_wasted_and_blurred() -> None:
    page = SitePages(site(), []).page(PageEntry(name="p", pictures=["art/cut 1"]))
    files = {f.width: f.bytes for f in page.pictures[0].files if f.format is Format.AVIF}
    told = weigh_page(page, one_row(320)).visits[0].files[0]
    assert (told.needed, told.sent, told.bytes, told.over) == (320, 320, files[320], 0)
    told = weigh_page(page, one_row(480)).visits[0].files[0]
    assert (told.needed, told.sent, told.bytes) == (480, 640, files[640])
    assert files[320] < files[640] - told.over < files[640]
    few = weigh_page(page, one_row(1800, 2)).visits[0].files[0]
    assert few.sent == 1920
    assert few.needed == 3600
    assert few.blurred
    assert weigh_page(page, one_row(1800, 2)).blurred == 1
    assert weigh_page(page, one_row(1000, 2)).blurred == 0, "0.96 of what is needed is enough"


def test_lazy_pictures_count_for_visits_that_reach_them() -> None:
    pages = SitePages(site(), [])
    entry = PageEntry(
        name="p",
        pictures=[
            {"picture": "art/cut 0", "loading": "eager"},
            {"picture": "art/cut 1", "seen": 0.5},
            {"picture": "art/cut 2", "seen": 0.2, "times": 3},
        ],
    )
    told = weigh_page(pages.page(entry), one_row(640))
    first, second, third = (file.bytes for file in told.visits[0].files)
    assert told.mean == pytest.approx(first + 0.5 * second + 0.6 * third, abs=1)
    assert told.visits[0].bytes == told.mean
    assert told.p50 == first
    assert told.p75 == first + second
    assert told.p95 == told.worst == first + second + 3 * third


def test_a_file_that_two_pictures_show_is_loaded_once() -> None:
    entry = PageEntry(name="p", pictures=["art/cut 0", {"picture": "art/cut 0", "sizes": "50vw"}])
    pages = SitePages(site(), [])
    same = weigh_page(pages.page(entry), one_row(320))
    assert [bool(file.bytes) for file in same.visits[0].files] == [True, False]
    other = weigh_page(pages.page(entry), one_row(1280))
    assert all(file.bytes for file in other.visits[0].files)


def test_art_direction_shows_another_cut() -> None:
    use = [{"cut": "art/cut 1", "media": "(max-width: 600px)"}, {"cut": "art/cut 0"}]
    hero = PictureEntry.model_validate({"name": "hero", "use": use, "sizes": "100vw"})
    page = SitePages(site(), [hero]).page(PageEntry(name="p", pictures=["hero"]))
    narrow, wide = (weigh_page(page, one_row(width)).visits[0].files[0] for width in (600, 601))
    assert narrow.path.startswith("art/cut 1-")
    assert wide.path.startswith("art/cut 0-")
    nothing = SitePages(site(), []).page(PageEntry(name="p", pictures=["art/cat 2"]))
    assert nothing.problems == ("there is no picture 'art/cat 2'. The closest is 'art/cut 2'.",)


def test_sums_over_an_audience() -> None:
    page = SitePages(site(), []).page(PageEntry(name="p", pictures=["art/cut 0", "art/cut 2"]))
    budget = PageBudget(bytes=100_000, at="worst")
    told = weigh_page(page, neutral(), budget)
    assert sum(visit.share for visit in told.visits) == pytest.approx(1)
    assert told.mean == pytest.approx(sum(v.share * v.bytes for v in told.visits), abs=2)
    assert told.p50 <= told.p75 <= told.p95 <= told.worst == max(v.bytes for v in told.visits)
    assert told.mean == pytest.approx(sum(one.bytes for one in told.pictures), abs=2)
    assert told.kept is (told.worst <= 100_000)


@given(
    st.lists(st.tuples(st.integers(1, 4000), st.integers(1, 10_000_000)), min_size=1, max_size=6),
    st.lists(st.floats(1, 6000), min_size=1, max_size=9),
)
def test_a_curve_goes_through_its_files_and_never_beyond_the_widest(
    points: list[tuple[int, int]], widths: list[float]
) -> None:
    files = [ShownFile("f", Format.WEBP, w, w, w, size) for w, size in points]
    curve = WeightCurve.of(files)
    lightest = {w: min(size for width, size in points if width == w) for w, _ in points}
    for width, size in lightest.items():
        assert curve.at(np.array([float(width)]))[0] == pytest.approx(size, rel=1e-6)
    found = curve.at(np.array(widths))
    assert (found <= max(lightest.values()) * 1.000001).all()
    assert (found > 0).all()


@given(st.lists(st.floats(0, 1), min_size=1, max_size=5), st.integers(0, 99))
@settings(max_examples=40)
def test_percentiles_rise_and_the_mean_lies_within(seen: list[float], seed: int) -> None:
    chance = random.Random(seed)
    pictures = tuple(
        ShownPicture(
            str(at),
            (
                ShownSource(
                    tuple(
                        ShownFile(f"{at} {w}", Format.JPEG, w, w, w, chance.randint(1, 99_999))
                        for w in (300, 900)
                    ),
                    "100vw",
                ),
            ),
            eager=False,
            seen=share,
        )
        for at, share in enumerate(seen)
    )
    told = weigh_page(ShownPage("p", pictures), neutral())
    assert 0 <= told.p50 <= told.p75 <= told.p95 <= told.worst
    assert 0 <= told.mean <= told.worst
    assert told.waste <= told.mean + len(seen)


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("", "line 1: there is no viewport_width."),
        ("viewport_width,device_pixel_ratio\n1,1\n", "line 1: there is no share."),
        ("viewport_width,device_pixel_ratio,share\n", "has no rows."),
        ("viewport_width,device_pixel_ratio,share\n360,2,5\nwide,2,5\n", "line 3: viewport_width"),
        ("viewport_width,device_pixel_ratio,share\n360,2,0\n", "line 2: share"),
        ("viewport_width,device_pixel_ratio,share\n360,nan,1\n", "line 2: device_pixel_ratio"),
        ("viewport_width,device_pixel_ratio,share\n1,1,1,1\n", "line 2: it has one cell too many."),
        (
            "viewport_width,device_pixel_ratio,share,formats\n360,2,1,jxl\n",
            "line 2: formats",
        ),
        ('[{"viewport_width": 360}]', "row 1: device_pixel_ratio"),
        ("[3]", "row 1: it is not an object."),
        ("[" * 100_000, "is nested too deeply"),
    ],
)
def test_rows_of_an_audience_are_checked(text: str, reason: str) -> None:
    with pytest.raises(PlanError) as told:
        audience_rows(text.encode(), "visitors.csv")
    assert str(told.value).startswith(f"visitors.csv: {reason}")


def test_an_audience_is_read_from_a_table() -> None:
    text = (
        "\ufeffShare, Viewport_Width ,device_pixel_ratio,formats,who\r\n"
        "3,360,2,avif webp,a\n\n1,1280,1,none,b\n1,1280,1,,c\n"
    )
    rows = audience_rows(text.encode(), "v.csv")
    assert [row.formats for row in rows] == [
        (Format.AVIF, Format.WEBP), (), (Format.AVIF, Format.WEBP),
    ]  # fmt: skip
    assert Audience("v", rows).shares.tolist() == pytest.approx([0.6, 0.2, 0.2])
    listed = b'[{"viewport_width": 360, "device_pixel_ratio": 2, "share": 1, "formats": ["webp"]}]'
    assert audience_rows(listed, "v.json")[0].formats == (Format.WEBP,)


def test_default_sizes_of_a_cut_are_those_of_its_markup() -> None:
    shown = SitePages(site(), []).page(PageEntry(name="p", pictures=["art/cut 0"])).pictures[0]
    assert {source.sizes for source in shown.sources} == {default_sizes(Size(1920, 1080))}


def test_a_picture_is_weighed_as_its_markup_is_read() -> None:
    use = [{"cut": "art/cut 1", "media": "(max-width: 600px)"}, {"cut": "art/cut 0"}]
    hero = PictureEntry.model_validate({"name": "hero", "alt": "x", "use": use})
    manifest = site()
    files = {file.path: of_made(file) for file in manifest.files}
    pages = SitePages(manifest, [hero])
    for name, sizes in (("hero", ""), ("hero", "50vw"), ("art/cut 2", ""), ("art/cut 2", "9em")):
        one = PagePicture(picture=name, sizes=sizes)
        markup = pages.named.markup(name, sizes=sizes)
        (read,) = shown_markup(read_markup(markup), lambda url: files[unquote(url)]).pictures
        assert pages.picture(one).sources == read.sources


def test_pictures_that_cuts_name_say_which_is_shown_everywhere() -> None:
    manifest = site(3)
    own = {"art/cut 0": "(width < 9px)", "art/cut 1": "", "art/cut 2": ""}
    manifest.cuts = [
        cut.model_copy(update={"picture": "hero", "media": own[cut.name]}) for cut in manifest.cuts
    ]
    (record,), (told,) = picture_records(manifest, [])
    assert "art/cut 1 and art/cut 2 have no media" in told
    assert [use.cut for use in record.entry.use] == ["art/cut 0", "art/cut 2"]
    with pytest.raises(PlanError, match="Use lazy or eager"):
        SitePages(manifest, []).named.markup("art/cut 0", loading="late")

"""Formats chosen by what a picture is and what its candidates weigh."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips
from pydantic import ValidationError

from gefa.core import carry_out, prepare, survey_for
from gefa.core.pixels import AlphaKind
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.treat.auto_formats import Candidate, choose
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.nature import Nature, PictureNature, nature_of
from gefa.core.treat.recipe import Aim, Recipe, Settings
from gefa.core.treat.score import AlphaReference
from tests.core.test_export import one
from tests.make import L, loaded, ora, photo
from tests.shelves import MemoryShelf

AUTO = Recipe(formats="auto", widths=(200, 400))


def letters(width: int = 480, height: int = 200) -> pyvips.Image:
    """Dark strokes on a light ground, as lines of writing are: upright, 3 px wide."""
    rng = np.random.default_rng(3)
    pixels = np.full((height, width, 3), 244, np.uint8)
    for line in range(10, height - 20, 26):
        for x in range(10, width - 10, 9):
            tall = int(rng.integers(8, 16))
            pixels[line + 16 - tall : line + 16, x : x + 3] = (24, 22, 30)
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def badge(side: int = 300) -> pyvips.Image:
    """Flat art with hard edges on nothing."""
    y, x = np.mgrid[0:side, 0:side]
    far = np.hypot(x - side / 2, y - side / 2)
    pixels = np.zeros((side, side, 4), np.uint8)
    pixels[far < side * 0.45] = (190, 60, 40, 255)
    pixels[far < side * 0.3] = (240, 230, 205, 255)
    pixels[(abs(x - side / 2) < side * 0.06) & (far < side * 0.25)] = (30, 70, 90, 255)
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def test_photographs_flat_art_and_text_are_told_apart() -> None:
    assert nature_of(photo(500, 300, 4)).nature is Nature.PHOTOGRAPH
    assert nature_of(badge()).nature is Nature.FLAT
    assert nature_of(letters()).nature is Nature.TEXT
    # Large pictures are judged by pieces of them.
    assert nature_of(photo(1800, 1400, 4)).nature is Nature.PHOTOGRAPH
    assert nature_of(letters(1800, 1400)).nature is Nature.TEXT
    nothing = pyvips.Image.black(40, 40, bands=4).copy(interpretation="srgb")
    assert nature_of(nothing) == PictureNature(Nature.FLAT, 0)


def chosen(tried: dict[str, Candidate], alpha: AlphaKind = AlphaKind.NONE) -> tuple[str, str]:
    by_format = {Format(name): candidate for name, candidate in tried.items()}
    choice = choose(by_format, Nature.PHOTOGRAPH, 9_000, alpha, 75, 800)
    assert set(choice.against) == set(by_format) - set(choice.formats)
    return " ".join(choice.formats), choice.why


def test_the_lightest_is_made_with_what_every_browser_shows() -> None:
    sizes = {"avif": 30_000, "webp": 50_000, "jpeg": 80_000, "png": 400_000}
    weighed = {name: Candidate(bytes) for name, bytes in sizes.items()}
    made, why = chosen(weighed)
    assert made == "avif webp jpeg"
    assert "AVIF weighs 30.0 kB" in why
    assert "JPEG for browsers without them" in why
    # WebP hardly lighter than JPEG is not worth a second file.
    assert chosen(weighed | {"webp": Candidate(76_000)})[0] == "avif jpeg"
    # Every browser that knows AVIF knows WebP.
    assert chosen(weighed | {"webp": Candidate(20_000)})[0] == "webp jpeg"
    # Small flat art: PNG beats them all.
    assert chosen(weighed | {"png": Candidate(9_000)})[0] == "png"


def test_what_is_left_out_is_told_with_both_weights() -> None:
    tried = {Format.PNG: Candidate(480), Format.WEBP: Candidate(830), Format.AVIF: Candidate(510)}
    against = choose(tried, Nature.FLAT, 3, AlphaKind.NONE, 85, 96).against
    assert against[Format.WEBP].endswith("left out: it weighs 0.8 kB, PNG 0.5 kB")
    assert against[Format.AVIF].endswith("left out: it weighs as much as PNG: 0.5 kB")


def test_what_loses_something_is_not_chosen() -> None:
    tried = {
        "avif": Candidate(30_000),
        "webp": Candidate(20_000, "does not look as good"),
        "jpeg": Candidate(10_000, "loses the transparency"),
        "png": Candidate(90_000),
    }
    made, why = chosen(tried, AlphaKind.SOFT)
    assert made == "avif png"
    assert "soft transparency" in why
    assert "JPEG weighs 10.0 kB and loses the transparency" in why
    # Where nothing is good the fallback is there all the same.
    poor = {name: Candidate(9_000, "does not look as good") for name in ("webp", "jpeg")}
    assert "jpeg" in chosen(poor)[0]


def test_a_photograph_gets_modern_formats_and_jpeg_and_a_sentence_why(tmp_path: Path) -> None:
    source = tmp_path / "a.jpg"
    photo(500, 340, 8).gaussblur(0.9).cast("uchar").jpegsave(str(source), Q=95)
    report = one(source, tmp_path / "out", AUTO)
    formats = {file.format for file in report.files}
    assert Format.JPEG in formats
    assert Format.PNG not in formats
    assert formats & {Format.AVIF, Format.WEBP}
    assert all((file.score or 0) >= 74.99 for file in report.files)
    assert report.record.why.startswith("It is a photograph with")
    assert {file.path for file in report.files} == {
        path.name for path in (tmp_path / "out").iterdir() if path.is_file()
    }
    assert any("PNG is left out" in remark.reason for remark in report.left_out)


def test_a_cut_out_badge_keeps_its_transparency(tmp_path: Path) -> None:
    source = ora(tmp_path / "a.ora", 320, 320, [L("Badge", badge(), 10, 10)])
    report = one(source, tmp_path / "out", AUTO, "Badge")
    assert report.files
    assert all(FORMATS[file.format].alpha for file in report.files)
    assert Format.PNG in {file.format for file in report.files}
    assert "flat art" in report.record.why


def test_what_was_chosen_is_remembered_and_nothing_is_drawn_again(tmp_path: Path) -> None:
    source = tmp_path / "a.png"
    photo(450, 300, 2).pngsave(str(source))
    plan = Plan(recipes={"r": AUTO}, cuts=(CutEntry(part="/", recipe="r"),))
    document = read(source)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    shelf = MemoryShelf()
    first = carry_out(job, lambda: document, shelf)

    def never() -> Document:
        raise AssertionError("opened again")

    shelf.begin()
    again = carry_out(job, never, shelf)
    assert again.record == first.record
    assert [f.path for f in again.files] == [f.path for f in first.files]
    assert all(file.reused for file in again.files)


def test_webp_without_loss_serves_flat_art_where_it_is_lighter() -> None:
    found = find(
        EncodeSource(badge(400), nature=Nature.FLAT),
        EncodeRequest(Format.WEBP, Aim(look=80), Settings()),
    )
    assert found.quality is None
    assert found.score == 100
    assert "without loss" in found.limit
    assert found.encodes <= 6
    decoded = loaded(found.data)
    assert AlphaReference(badge(400)).score(decoded) == 100
    photograph = find(
        EncodeSource(photo(300, 200, 1)), EncodeRequest(Format.WEBP, Aim(look=70), Settings())
    )
    assert photograph.quality is not None


def test_auto_needs_a_look_to_compare_at() -> None:
    assert AUTO.quality_for(Format.JPEG) == Aim(look=75)
    with pytest.raises(ValidationError, match="at a look"):
        Recipe(formats="auto", widths=(100,), quality={Format.JPEG: 70})
    with pytest.raises(ValidationError, match="at a look"):
        Recipe(formats="auto", widths=(100,), quality=Aim(max_bytes=9_000))

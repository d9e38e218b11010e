"""Colour profiles that cannot be used are told, whatever the format that holds them."""

from __future__ import annotations

from pathlib import Path

import pytest

from gefa.core.read import read
from gefa.core.read.colour_profile import trouble_with
from gefa.core.read.document import Document
from tests.make import broken_profiles, photo, standard_profile, with_profile

KINDS = ["jpeg", "png", "tiff", "webp", "avif", "heif"]


def opened(folder: Path, kind: str, profile: bytes) -> Document:
    path = folder / f"picture.{kind}"
    path.write_bytes(with_profile(photo(60, 40), kind, profile))
    return read(path)


@pytest.mark.parametrize("kind", KINDS)
def test_a_profile_that_cannot_be_used_is_told_and_the_picture_still_read(
    tmp_path: Path, kind: str
) -> None:
    for profile in broken_profiles():
        document = opened(tmp_path, kind, profile)
        assert document.profile_trouble(), len(profile)
        document.measure([document.canvas])
        (notice,) = document.notices
        assert "colour profile is not used" in notice.reason
        assert document.render(document.canvas, document.canvas_rect, 60).avg() > 0


@pytest.mark.parametrize("kind", KINDS)
def test_a_good_profile_is_no_trouble_and_neither_is_none(tmp_path: Path, kind: str) -> None:
    for profile in (standard_profile("srgb"), standard_profile("p3"), b""):
        assert opened(tmp_path, kind, profile).profile_trouble() == ""


def test_a_profile_fits_the_colours_or_says_which_it_is_for() -> None:
    srgb, cmyk = standard_profile("srgb"), standard_profile("cmyk")
    assert trouble_with(cmyk, "cmyk") == ""
    assert trouble_with(srgb, "b-w") == "", "what a colour picture leaves behind"
    assert trouble_with(cmyk, "srgb") == "it is for CMYK pictures; this one is RGB"
    assert trouble_with(srgb, "cmyk") == "it is for RGB pictures; this one is CMYK"
    assert trouble_with(None, "srgb") == "it is damaged"
    assert trouble_with(b"whatever", "lab") == "", "not judged"

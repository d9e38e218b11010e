"""The score against a second implementation, and what it must hold by itself."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips
from PIL import Image
from ssimulacra2 import compute_ssimulacra2

import gefa.core.treat.score as module
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.score import AlphaReference, Bytes, Reference
from gefa.core.treat.shown import shown
from tests.make import dot, flat, photo


def pairs() -> list[tuple[str, Bytes, Bytes]]:
    """Fifty pictures and worse ones: encoded, noisy, blurred, shifted in colour; odd sizes too."""
    found = []
    sizes = [(64, 48), (97, 61), (150, 150), (211, 130), (33, 300)]
    for number, (width, height) in enumerate(sizes):
        picture = photo(width, height, number)
        worse = {
            **{
                f"{format} {quality}": shown(encode(picture, format, quality), format)
                for format in (Format.AVIF, Format.WEBP, Format.JPEG)
                for quality in (25, 70)
            },
            "noise": noisy(picture, 5),
            "blur": picture.gaussblur(1.2).cast("uchar"),
            "darker": (picture * 0.96).cast("uchar"),
            "redder": (picture + [4, 0, 0]).cast("uchar"),
        }
        found += [(f"{width}x{height} {name}", rows(picture), rows(w)) for name, w in worse.items()]
    return found


def rows(image: pyvips.Image) -> Bytes:
    return np.ascontiguousarray(image.numpy())


def noisy(image: pyvips.Image, sigma: float) -> pyvips.Image:
    noise = np.random.default_rng(3).normal(0, sigma, image.numpy().shape)
    pixels = (image.numpy() + noise).clip(0, 255).astype(np.uint8)
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def theirs(folder: Path, one: Bytes, other: Bytes) -> float:
    for name, pixels in (("one", one), ("other", other)):
        Image.fromarray(pixels).save(folder / f"{name}.png")
    return float(compute_ssimulacra2(folder / "one.png", folder / "other.png"))


def test_fifty_pairs_agree_with_the_package_within_half_a_point(tmp_path: Path) -> None:
    compared = [
        (name, Reference(one).score(other), theirs(tmp_path, one, other))
        for name, one, other in pairs()
    ]
    assert len(compared) == 50
    assert max(abs(ours - package) for _, ours, package in compared) < 0.5, compared
    scores = [ours for _, ours, _ in compared]
    assert min(scores) < 40, "the pairs are of all kinds"
    assert max(scores) > 80


def test_the_same_is_perfect_and_worse_is_less() -> None:
    picture = photo(200, 140, 2)
    reference = Reference(rows(picture))
    assert reference.score(rows(picture)) == 100
    scores = [reference.score(rows(noisy(picture, sigma))) for sigma in (1, 3, 9, 27)]
    assert scores == sorted(scores, reverse=True)
    with pytest.raises(ValueError, match="cannot be scored"):
        reference.score(rows(photo(100, 140)))


def test_a_very_large_picture_is_scored_in_bands_to_the_same(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    picture = photo(301, 1900, 4)
    worse = rows(noisy(picture, 8))
    whole = Reference(rows(picture)).score(worse)
    monkeypatch.setattr(module, "KEPT_PIXELS", 301 * 700)
    assert Reference(rows(picture)).score(worse) == pytest.approx(whole, abs=0.05)


def test_alpha_counts_on_the_ground_where_it_looks_worse() -> None:
    piece = dot(90, 90, (20, 20, 50, 50), (250, 250, 250))
    fringed = piece.numpy().copy()
    fringed[18:72, 18:72, 3] = 255
    fringed[18:72, 18:72, :3] = 252
    damaged = pyvips.Image.new_from_array(fringed, interpretation="srgb")
    reference = AlphaReference(piece)
    assert reference.score(piece) == 100
    light, dark = (
        Reference(rows(piece.flatten(background=ground).cast("uchar"))).score(
            rows(damaged.flatten(background=ground).cast("uchar"))
        )
        for ground in ([230] * 3, [26] * 3)
    )
    assert dark < light - 5, "a light fringe shows on a dark ground"
    assert reference.score(damaged) == pytest.approx(dark, abs=0.01)


def test_pictures_too_small_for_any_scale_are_not_told_apart() -> None:
    assert Reference(rows(flat(5, 5))).score(rows(photo(5, 5))) == 100

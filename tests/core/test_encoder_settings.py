"""Golden figures of what encoders make of one drawn photograph: bytes and looks, so that another
setting, or another version of a library, does not change them unseen."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeSource
from gefa.core.treat.formats import Effort, Format
from gefa.core.treat.recipe import Recipe
from tests.make import photo

PICTURE = photo(320, 220, 4)
GOLDEN = [
    (Format.JPEG, 75, Effort.QUICK, 6574, 85.9),
    (Format.JPEG, 75, Effort.USUAL, 4807, 85.0),
    (Format.WEBP, 75, Effort.USUAL, 5866, 72.5),
    (Format.WEBP, 75, Effort.THOROUGH, 4056, 76.5),
    (Format.AVIF, 55, Effort.QUICK, 4872, 83.3),
    (Format.AVIF, 55, Effort.USUAL, 4426, 83.0),
    (Format.AVIF, 55, Effort.THOROUGH, 4108, 82.9),
    (Format.PNG, None, Effort.QUICK, 108_500, 100.0),
    (Format.PNG, None, Effort.USUAL, 107_205, 100.0),
]


@pytest.mark.parametrize(("format", "quality", "effort", "size", "look"), GOLDEN)
def test_an_encoder_makes_what_it_made(
    format: Format, quality: int | None, effort: Effort, size: int, look: float
) -> None:
    recipe = Recipe(formats=(format,), widths=(320,), effort=effort)
    data = encode(PICTURE, format, quality, recipe.settings_for(format))
    assert len(data) == pytest.approx(size, rel=0.03)
    assert EncodeSource(PICTURE).score(data, format) == pytest.approx(look, abs=0.5)


def test_the_same_bytes_are_made_however_many_threads_there_may_be() -> None:
    code = (
        "import hashlib; from tests.core.test_encoder_settings import PICTURE;"
        "from gefa.core.treat.encode import encode; from gefa.core.treat.formats import Format;"
        "print(hashlib.sha256(encode(PICTURE, Format.AVIF, 55)).hexdigest())"
    )
    made = {
        subprocess.run(
            [sys.executable, "-c", code],
            env=os.environ | {"VIPS_CONCURRENCY": threads},
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        for threads in ("1", "2")
    }
    assert len(made) == 1


def test_settings_save_bytes_at_no_worse_a_look() -> None:
    """Against the encoders as they come."""
    source = EncodeSource(PICTURE)
    plain = bytes(PICTURE.jpegsave_buffer(Q=75, optimize_coding=True, interlace=True, keep="none"))
    ours = encode(PICTURE, Format.JPEG, 75)
    assert len(ours) < 0.75 * len(plain)
    assert source.score(ours, Format.JPEG) > source.score(plain, Format.JPEG) - 0.5
    png = PICTURE.pngsave_buffer(compression=9, keep="none")
    assert len(encode(PICTURE, Format.PNG, None)) < 0.6 * len(png)

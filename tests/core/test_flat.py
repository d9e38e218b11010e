from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import pyvips

from gefa.core.errors import SourceError, UnsupportedSource
from gefa.core.read import read
from tests.make import dot, flat, largest_difference, photo, with_tag


@pytest.mark.parametrize(
    ("suffix", "options", "tolerance"),
    [
        (".png", {}, 0),
        (".webp", {"lossless": True}, 0),
        (".tif", {}, 0),
        (".jpg", {"Q": 98, "subsample_mode": "off"}, 40),
        (".avif", {"Q": 95, "effort": 1, "subsample_mode": "off"}, 40),
    ],
)
def test_each_kind_of_picture_is_read(
    tmp_path: Path, suffix: str, options: dict[str, object], tolerance: int
) -> None:
    original = photo(120, 90)
    file = tmp_path / f"odd [name] ünï{suffix}"
    data = original.write_to_buffer(suffix, **options)
    file.write_bytes(data)
    document = read(file)
    assert (document.size.width, document.size.height) == (120, 90)
    assert [part.path for part in document.canvas.walk()] == ["/"]
    assert document.stored_bytes == len(data)
    rendered = document.render(document.canvas, document.canvas_rect, 120)
    assert largest_difference(rendered, original) <= tolerance


def test_a_gif_is_read_with_its_number_of_frames(tmp_path: Path) -> None:
    frames = pyvips.Image.arrayjoin([flat(20, 10), flat(20, 10, (0, 0, 255))], across=1)
    animated = with_tag(frames, "page-height", 10)
    file = tmp_path / "two.gif"
    animated.gifsave(str(file))
    document = read(file)
    assert (document.size.width, document.size.height) == (20, 10)
    assert document.frames == 2


@pytest.mark.parametrize("orientation", range(1, 9))
def test_orientation_is_applied(tmp_path: Path, orientation: int) -> None:
    """All eight, against libvips' own turning of the whole picture; also when reduced."""
    file = tmp_path / "turned.jpg"
    with_tag(photo(160, 90), "orientation", orientation).jpegsave(str(file), Q=95)
    upright = pyvips.Image.new_from_file(str(file)).autorot()
    document = read(file)
    assert (document.size.width, document.size.height) == (upright.width, upright.height)
    whole = document.render(document.canvas, document.canvas_rect, document.size.width)
    assert largest_difference(whole, upright) == 0
    reduced = document.render(document.canvas, document.canvas_rect, document.size.width // 4)
    wanted = upright.resize(reduced.width / upright.width, vscale=reduced.height / upright.height)
    assert np.abs(reduced.numpy().astype(int) - wanted.numpy().astype(int)).mean() < 6


def test_a_turned_webp_is_told_since_browsers_do_not_turn_it(tmp_path: Path) -> None:
    for suffix, told in ((".webp", ["turned as its EXIF orientation says"]), (".jpg", [])):
        file = tmp_path / f"turned{suffix}"
        with_tag(photo(64, 40), "orientation", 6).write_to_file(str(file))
        document = read(file)
        assert (document.size.width, document.size.height) == (40, 64)
        assert len(document.notices) == len(told)
        assert all(
            words in notice.reason for words, notice in zip(told, document.notices, strict=True)
        )


def test_a_picture_is_reduced_while_it_is_read_but_leaves_room_for_a_resize(tmp_path: Path) -> None:
    file = tmp_path / "large.jpg"
    photo(3000, 2000).jpegsave(str(file), Q=90)
    document = read(file)
    for width in (200, 320, 750, 1499):
        base = document.render(document.canvas, document.canvas_rect, width)
        assert base.width == 2 * width
    assert document.render(document.canvas, document.canvas_rect, 1600).width == 3000


@pytest.mark.parametrize("suffix", [".png", ".jpg", ".webp", ".avif", ".tif", ".gif"])
@pytest.mark.parametrize("keep", [0.02, 0.5, 0.9])
def test_a_truncated_picture_is_named_with_a_reason(
    tmp_path: Path, suffix: str, keep: float
) -> None:
    data = photo(300, 200).write_to_buffer(suffix)
    file = tmp_path / f"cut{suffix}"
    file.write_bytes(data[: max(24, int(len(data) * keep))])
    with pytest.raises(SourceError) as caught:
        document = read(file)
        document.render(document.canvas, document.canvas_rect, 300)
    assert caught.value.file == file.name
    assert caught.value.reason
    assert caught.value.advice


def test_a_picture_that_lies_about_what_it_is_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "really-text.png"
    file.write_text("not a picture")
    with pytest.raises(UnsupportedSource, match=r"really-text\.png.*It reads SVG"):
        read(file)
    file.write_bytes(b"")
    with pytest.raises(UnsupportedSource, match="empty"):
        read(file)
    with pytest.raises(SourceError, match="cannot be opened"):
        read(tmp_path / "missing.png")


def test_the_extension_is_not_believed(tmp_path: Path) -> None:
    file = tmp_path / "really-a.png"
    file.write_bytes(photo(30, 20).write_to_buffer(".jpg"))
    assert read(file).format == "jpeg"


def test_a_picture_that_claims_too_many_pixels_is_refused_unread(tmp_path: Path) -> None:
    data = bytearray(flat(8, 8).write_to_buffer(".png"))
    data[16:24] = (60_000).to_bytes(4, "big") * 2
    import zlib

    data[29:33] = zlib.crc32(bytes(data[12:29])).to_bytes(4, "big")
    file = tmp_path / "bomb.png"
    file.write_bytes(data)
    with pytest.raises(SourceError, match="60,000 × 60,000"):
        read(file)


def test_the_fingerprint_is_of_the_bytes(tmp_path: Path) -> None:
    one, two, three = (tmp_path / name for name in ("1.png", "2.png", "3.png"))
    one.write_bytes(dot(9, 9, (1, 1, 3, 3)).write_to_buffer(".png"))
    two.write_bytes(one.read_bytes())
    three.write_bytes(dot(9, 9, (1, 1, 3, 4)).write_to_buffer(".png"))
    prints = [read(path).fingerprint(read(path).canvas) for path in (one, two, three)]
    assert prints[0] == prints[1] != prints[2]
    assert read(one).transparent

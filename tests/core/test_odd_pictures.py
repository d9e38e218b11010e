"""Flat pictures whose samples, colours or frames are told in ways that decoders pass over."""

from __future__ import annotations

import io
import random
import struct
import zlib
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import pyvips
import tifffile
from numpy.typing import NDArray
from PIL import Image, ImageCms

from gefa.core.errors import SourceError
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.survey import survey
from tests.make import flat, photo, standard_profile

WIDTH, HEIGHT = 60, 40
ACROSS = np.tile(np.linspace(0, 1, WIDTH), (HEIGHT, 1))
COLOURS = np.dstack([ACROSS, np.linspace(0, 1, HEIGHT)[:, None].repeat(WIDTH, 1), 1 - ACROSS])


def pixels(document: Document) -> NDArray[np.float64]:
    image = document.render(document.canvas, document.canvas_rect, document.size.width)
    return np.asarray(image.numpy(), np.float64)


def told(document: Document) -> str:
    return " | ".join(notice.reason for notice in survey(document).notices)


# -- samples -----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("samples", "words"),
    [
        (ACROSS.astype("f4"), "floats, read as 0 to 1"),
        ((ACROSS * 255).astype("f4"), "floats, read as 0 to 255"),
        (ACROSS.astype("f8"), "floats, read as 0 to 1"),
        ((ACROSS * 32_767).astype("i2"), "0 to 32,767"),
        ((ACROSS * 65_535 - 32_768).astype("i2"), "-32,768 to 32,767"),
        ((ACROSS * (2**32 - 1)).astype("u4"), "0 to 4,294,967,295"),
        ((COLOURS * (2**32 - 1)).astype("u4"), "0 to 4,294,967,295"),
        ((COLOURS * (2**31 - 1)).astype("i4"), "0 to 2,147,483,647"),
    ],
)
def test_unusual_samples_are_read_and_told(tmp_path: Path, samples: Any, words: str) -> None:
    file = tmp_path / "p.tif"
    tifffile.imwrite(file, samples, photometric="rgb" if samples.ndim == 3 else "minisblack")
    document = read(file)
    wanted = (COLOURS if samples.ndim == 3 else np.dstack([ACROSS] * 3)) * 255
    assert np.abs(pixels(document) - wanted).max() < 1.01
    assert words in told(document)


@pytest.mark.parametrize("compression", [None, "tiff_lzw", "tiff_deflate"])
def test_lab_pictures_are_seen_in_the_light_they_are_meant_for(
    tmp_path: Path, compression: str | None
) -> None:
    colours = Image.fromarray((COLOURS * 255).astype(np.uint8))
    srgb, lab = ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB")
    stored = ImageCms.profileToProfile(colours, srgb, lab, outputMode="LAB")
    assert stored is not None
    file = tmp_path / "lab.tif"
    stored.save(file, compression=compression)
    apart = np.abs(pixels(read(file)) - from_lab(np.asarray(stored)))
    assert apart.max() < 1.5


def from_lab(stored: NDArray[np.uint8]) -> NDArray[np.float64]:
    """CSS Color 4, section 9.3 and 10: from Lab in D50 light to sRGB, by the sample code there."""
    light = stored[..., 0] * 100.0 / 255
    green, blue = (stored[..., band].astype(np.int8).astype(float) for band in (1, 2))
    middle = (light + 16) / 116
    cubes = np.stack([middle + green / 500, middle, middle - blue / 200], -1)
    xyz = np.where(cubes > 6 / 29, cubes**3, 3 * (6 / 29) ** 2 * (cubes - 4 / 29))
    xyz = xyz * (0.9642, 1.0, 0.8249)
    to_linear = np.array(
        [[3.1341359, -1.6173863, -0.4906619], [-0.9787955, 1.9162544, 0.0334427],
         [0.0719554, -0.2289768, 1.4053860]]
    )  # fmt: skip
    return srgb_of((xyz @ to_linear.T).clip(0, 1))


def test_reduced_pages_and_masks_are_neither_parts_nor_the_canvas(tmp_path: Path) -> None:
    file = tmp_path / "pages.tif"
    big = (COLOURS * 255).astype(np.uint8)
    with tifffile.TiffWriter(file) as tiff:
        tiff.write(big[::4, ::4].copy(), photometric="rgb", subfiletype=1)
        tiff.write(big, photometric="rgb", extratags=[(285, "s", 0, "Dunes #icon", True)])
        tiff.write(big[::2, ::2].copy(), photometric="rgb", subfiletype=1)
    document = read(file)
    assert (document.size.width, document.size.height) == (WIDTH, HEIGHT)
    assert not document.layered
    with tifffile.TiffWriter(file, append=True) as tiff:
        tiff.write(ACROSS.astype("f4"), photometric="minisblack")
    document = read(file)
    assert [part.path for part in document.canvas.children] == ["Dunes", "Page 2"]
    assert np.abs(pixels(document) - big).max() <= 1


@pytest.mark.parametrize(("number", "name"), [(50_000, "ZSTD"), (34_925, "LZMA"), (34_887, "LERC")])
def test_a_compression_that_is_not_read_is_named(tmp_path: Path, number: int, name: str) -> None:
    data = bytearray(flat(30, 20).tiffsave_buffer(compression="deflate"))
    at = data.index(struct.pack("<HHIH", 259, 3, 1, 8)) + 8
    data[at : at + 2] = struct.pack("<H", number)
    file = tmp_path / "p.tif"
    file.write_bytes(data)
    with pytest.raises(SourceError, match=f"compressed with {name}") as caught:
        read(file)
    assert "LZW" in caught.value.advice


# -- damage ------------------------------------------------------------------------------------


def damaged(data: bytes) -> bytes:
    rng = random.Random(2)
    middle = len(data) // 2
    return data[:middle] + rng.randbytes(60) + data[middle + 60 :]


@pytest.mark.parametrize("compression", ["deflate", "lzw"])
def test_a_damaged_tiff_is_refused(tmp_path: Path, compression: str) -> None:
    file = tmp_path / "p.tif"
    file.write_bytes(damaged(photo(300, 200).tiffsave_buffer(compression=compression)))
    with pytest.raises(SourceError, match="cannot be read as TIFF: it is damaged"):
        pixels(read(file))


@pytest.mark.parametrize("ending", [".jpg[Q=90]", ".tif[compression=deflate,tile]"])
def test_damage_that_decoders_only_warn_of_is_told(tmp_path: Path, ending: str) -> None:
    file = tmp_path / "p"
    file.write_bytes(damaged(photo(300, 200).write_to_buffer(ending)))
    assert "is damaged" in told(read(file))


@pytest.mark.parametrize("interlace", [False, True])
def test_zeros_in_a_jpeg_are_told_at_any_size(tmp_path: Path, interlace: bool) -> None:
    """Of 40 zeros, half or less leave a trace: the decoder finds its way again, as browsers do."""
    whole = photo(1600, 1200).jpegsave_buffer(Q=80, interlace=interlace)
    rng, found = random.Random(1), 0
    for number in range(12):
        data, at = bytearray(whole), rng.randrange(len(whole) // 4, len(whole) * 3 // 4)
        data[at : at + 40] = bytes(40)
        file = tmp_path / f"{number}.jpg"
        file.write_bytes(data)
        found += "is damaged" in told(read(file))
        assert pixels(read(file)).shape[:2] == (1200, 1600)
    assert found >= 2
    (tmp_path / "whole.jpg").write_bytes(whole)
    assert told(read(tmp_path / "whole.jpg")) == ""


def test_a_jpeg_without_its_end_marker_is_read_and_told(tmp_path: Path) -> None:
    whole = photo(300, 200).jpegsave_buffer(Q=90)
    for keep in (len(whole), len(whole) - 2):
        (tmp_path / f"{keep}.jpg").write_bytes(whole[:keep])
    complete, cut = (read(tmp_path / f"{len(whole) - lost}.jpg") for lost in (0, 2))
    assert (pixels(complete) == pixels(cut)).all()
    assert told(complete) == ""
    assert "lacks its end marker" in told(cut)
    (tmp_path / "less.jpg").write_bytes(whole[: len(whole) * 4 // 5])
    with pytest.raises(SourceError, match="ends early"):
        pixels(read(tmp_path / "less.jpg"))


# -- colour ------------------------------------------------------------------------------------


def png_with(chunks: dict[bytes, bytes], rgb: NDArray[np.uint8], profile: bytes = b"") -> bytes:
    """A PNG with more chunks before its pixels."""
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, "png", icc_profile=profile or None)
    data = out.getvalue()
    told = b"".join(
        struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))
        for name, body in chunks.items()
    )
    return data[:33] + told + data[33:]


PATCHES = np.repeat(
    np.repeat(
        np.array(
            [[[128, 128, 128], [200, 60, 40], [40, 180, 90]],
             [[60, 90, 200], [220, 200, 60], [30, 30, 30]]], np.uint8,
        ), 10, axis=0,
    ), 10, axis=1,
)  # fmt: skip


def through(profile: bytes, rgb: NDArray[np.uint8]) -> NDArray[np.float64]:
    """LittleCMS' answer."""
    opened = ImageCms.ImageCmsProfile(io.BytesIO(profile))
    made = ImageCms.profileToProfile(
        Image.fromarray(rgb), opened, ImageCms.createProfile("sRGB"),
        renderingIntent=ImageCms.Intent.RELATIVE_COLORIMETRIC, outputMode="RGB",
    )  # fmt: skip
    assert made is not None
    return np.asarray(made, np.float64)


def srgb_of(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    low = linear <= 0.0031308
    return 255 * np.where(low, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055)


CHRM_P3 = struct.pack(">8I", 31270, 32900, 68000, 32000, 26500, 69000, 15000, 6000)


def test_png_colour_is_followed_in_the_order_that_png_gives(tmp_path: Path) -> None:
    file = tmp_path / "p.png"
    p3 = through(standard_profile("p3"), PATCHES)

    def shown(profile: bytes = b"", **chunks: bytes) -> NDArray[np.float64]:
        named = {name.encode(): body for name, body in chunks.items()}
        file.write_bytes(png_with(named, PATCHES, profile))
        return pixels(read(file))

    assert np.abs(shown(cICP=bytes([12, 13, 0, 1])) - p3).max() <= 2
    assert np.abs(shown(standard_profile("srgb"), cICP=bytes([12, 13, 0, 1])) - p3).max() <= 2
    linear = srgb_of(PATCHES / 255.0)
    assert np.abs(shown(gAMA=struct.pack(">I", 100_000)) - linear).max() <= 1
    squared = srgb_of((PATCHES / 255.0) ** 2)
    assert np.abs(shown(gAMA=struct.pack(">I", 50_000)) - squared).max() <= 1
    assert (shown(gAMA=struct.pack(">I", 45_455)) == PATCHES).all(), "as sRGB tells it"
    near = shown(gAMA=struct.pack(">I", 45_455), cHRM=CHRM_P3)
    assert np.abs(near - p3).mean() < 4, "primaries of P3 with nearly its curve"
    assert (shown(sRGB=b"\0", gAMA=struct.pack(">I", 100_000)) == PATCHES).all()
    assert (shown() == PATCHES).all()


def test_high_dynamic_range_is_told(tmp_path: Path) -> None:
    file = tmp_path / "p.png"
    file.write_bytes(png_with({b"cICP": bytes([9, 16, 0, 1])}, PATCHES))
    assert "high dynamic range (PQ)" in told(read(file))


@pytest.mark.parametrize("ending", ["avif", "heic"])
def test_coded_colour_without_a_profile_is_followed(tmp_path: Path, ending: str) -> None:
    out = io.BytesIO()
    kind = {"heic": "heif"}.get(ending, ending)
    Image.fromarray(PATCHES).save(out, kind, quality=100, subsampling="4:4:4")
    data = bytearray(out.getvalue())
    at = data.index(b"colrnclx") + 8
    plain, told_p3 = tmp_path / f"plain.{ending}", tmp_path / f"p3.{ending}"
    data[at : at + 4] = struct.pack(">HH", 1, 13)
    plain.write_bytes(data)
    data[at : at + 4] = struct.pack(">HH", 12, 13)
    told_p3.write_bytes(data)
    stored = pixels(read(plain)).astype(np.uint8)
    assert np.abs(stored.astype(float) - PATCHES).max() < 12, "nearly as it was saved"
    assert np.abs(pixels(read(told_p3)) - through(standard_profile("p3"), stored)).max() <= 3


def test_a_grey_picture_goes_through_the_profile_of_a_colour_picture(tmp_path: Path) -> None:
    grey = (ACROSS * 255).astype(np.uint8)
    file = tmp_path / "grey.jpg"
    p3 = standard_profile("p3")
    Image.fromarray(grey).save(file, quality=100, icc_profile=p3)
    stored = np.asarray(Image.open(file))
    wanted = through(p3, np.dstack([stored] * 3))
    assert np.abs(pixels(read(file)) - wanted).max() <= 1


def test_cmyk_without_a_profile_says_so(tmp_path: Path) -> None:
    file = tmp_path / "c.jpg"
    Image.fromarray(np.full((30, 40, 4), 90, np.uint8), "CMYK").save(file)
    assert "CMYK without a colour profile" in told(read(file))


@pytest.mark.parametrize("ending", ["jpg", "png", "webp", "avif", "tif", "heic"])
def test_copyright_is_read_from_every_format(tmp_path: Path, ending: str) -> None:
    file = tmp_path / f"p.{ending}"
    exif = Image.Exif()
    exif[0x8298] = "Tern Press, 2026"
    options: dict[str, Any] = {"exif": exif}
    if ending == "tif":
        options = {"tiffinfo": {0x8298: "Tern Press, 2026"}}
    Image.fromarray(PATCHES).save(file, **options)
    assert read(file).copyright == "Tern Press, 2026"


# -- animation ---------------------------------------------------------------------------------

PALETTE = [(0, 0, 0), (200, 0, 0), (0, 200, 0), (0, 0, 200), (200, 200, 0), (0, 200, 200),
           (200, 0, 200), (255, 255, 255)]  # fmt: skip


def gif(width: int, height: int, frames: list[tuple[Any, int, int, int, int | None]]) -> bytes:
    """Frames are (indices, x, y, disposal, transparent index)."""
    data = b"GIF89a" + struct.pack("<HHBBB", width, height, 0xF2, 0, 0)
    data += b"".join(map(bytes, PALETTE)) + b"\x21\xff\x0bNETSCAPE2.0\x03\x01\2\0\0"
    for indices, x, y, disposal, transparent in frames:
        flags = disposal << 2 | (transparent is not None)
        data += b"\x21\xf9\x04" + struct.pack("<BHBB", flags, 5, transparent or 0, 0)
        data += b"," + struct.pack("<HHHHB", x, y, *indices.shape[::-1], 0) + lzw(indices.ravel())
    return data + b";"


def lzw(indices: NDArray[np.uint8]) -> bytes:
    """Codes of four bits, cleared before they would need a fifth."""
    codes = [8]
    for count, index in enumerate(indices, start=1):
        codes += [int(index), 8] if count % 6 == 0 else [int(index)]
    codes += [9] + [0] * (len(codes) % 2 == 0)
    packed = bytes(low | high << 4 for low, high in zip(codes[::2], codes[1::2], strict=True))
    blocks = [packed[i : i + 255] for i in range(0, len(packed), 255)]
    return b"\x03" + b"".join(bytes([len(block)]) + block for block in blocks) + b"\0"


def of(width: int, height: int, index: int) -> NDArray[np.uint8]:
    return np.full((height, width), index, np.uint8)


MOVING: dict[str, list[tuple[Any, int, int, int, int | None]]] = {
    "plain": [(of(20, 10, 1), 0, 0, 0, None), (of(20, 10, 2), 0, 0, 0, None)],
    "cleared": [(of(20, 10, 1), 0, 0, 2, None), (of(8, 6, 2), 2, 2, 2, None),
                (of(6, 6, 3), 10, 2, 1, None)],
    "restored": [(of(20, 10, 1), 0, 0, 1, None), (of(8, 6, 2), 2, 2, 3, None),
                 (of(6, 6, 3), 10, 2, 3, None), (of(3, 3, 4), 0, 0, 0, None)],
    "seen through": [(of(20, 10, 1), 0, 0, 1, None), (of(8, 6, 7), 2, 2, 2, 7),
                     (of(6, 6, 3), 10, 2, 1, 7)],
    "partial first": [(of(8, 6, 1), 4, 2, 1, None), (of(6, 6, 3), 10, 2, 1, None)],
}  # fmt: skip


def frames_of(document: Document) -> NDArray[np.uint8]:
    """Frames × rows × columns × RGBA."""
    strip = document.moving(document.canvas_rect, document.size)
    rgba = strip if strip.hasalpha() else strip.bandjoin(255)
    return np.asarray(rgba.numpy()).reshape(document.frames, document.size.height, -1, 4)


@pytest.mark.parametrize("name", MOVING)
def test_gif_frames_show_what_a_canvas_shows(tmp_path: Path, name: str) -> None:
    """Worked out here by the letter of GIF89a, as browsers do; see also the test in Chromium."""
    file = tmp_path / "g.gif"
    file.write_bytes(gif(20, 10, MOVING[name]))
    document = read(file)
    canvas = np.zeros((10, 20, 4), np.uint8)
    wanted = []
    for indices, x, y, disposal, transparent in MOVING[name]:
        before = canvas.copy()
        for (row, column), index in np.ndenumerate(indices):
            if index != transparent:
                canvas[y + row, x + column] = (*PALETTE[index], 255)
        wanted.append(canvas.copy())
        if disposal == 2:
            canvas[y : y + indices.shape[0], x : x + indices.shape[1]] = 0
        elif disposal == 3:
            canvas = before
    assert (frames_of(document) == np.stack(wanted)).all()
    strip = document.moving(document.canvas_rect, document.size)
    assert strip.get("delay") == [50] * len(wanted)
    assert strip.get("loop") == 3
    still = pixels(document)
    assert (still[..., :3] == wanted[0][..., :3]).all()


@pytest.mark.parametrize("ending", ["png", "avif"])
def test_moving_png_and_avif_keep_moving(tmp_path: Path, ending: str) -> None:
    file = tmp_path / f"p.{ending}"
    colours = [(200, 30, 30), (30, 200, 30), (30, 30, 200)]
    first, *more = (Image.new("RGB", (48, 32), colour) for colour in colours)
    first.save(file, save_all=True, append_images=more, duration=[120, 60, 5], quality=95)
    document = read(file)
    assert document.frames == 3
    middles = frames_of(document)[:, 16, 24, :3].astype(int)
    assert np.abs(middles - np.array(colours)).max() < 6
    strip = document.moving(document.canvas_rect, document.size)
    assert strip.get("delay") == [120, 60, 100], "nothing is shown for less than browsers show it"


def test_a_still_before_the_animation_of_a_png_is_no_frame(tmp_path: Path) -> None:
    file = tmp_path / "p.png"
    first, *more = (Image.new("RGB", (20, 10), c) for c in ("#888888", "#ff0000", "#0000ff"))
    first.save(file, save_all=True, append_images=more, default_image=True, duration=90)
    document = read(file)
    assert document.frames == 2
    assert frames_of(document)[:, 0, 0, :3].tolist() == [[255, 0, 0], [0, 0, 255]]


def test_an_error_is_about_its_own_file_and_said_once(tmp_path: Path) -> None:
    rgb = pyvips.Image.gaussnoise(200, 200).cast("uchar").bandjoin([100, 50])
    (tmp_path / "cut.jpg").write_bytes(rgb.jpegsave_buffer(Q=90)[:9000])
    (tmp_path / "heif.heic").write_bytes(b"\0\0\0\x18ftypheic" + bytes(200))
    for name in ("heif.heic", "cut.jpg"):
        # It leaves its text with libvips, as a failure does that nobody raised.
        pyvips.vips_lib.vips_foreign_find_load(b"/somebody/secret.png")
        with pytest.raises(SourceError) as caught:
            document = read(tmp_path / name, name)
            document.measure([document.part("/")])
            assert "could be read" not in told(document)
            document.render(document.part("/"), document.canvas_rect, 100)
        assert "secret" not in str(caught.value)
        assert str(caught.value).count("the decoder says") <= 1
        assert "VipsJpeg" not in str(caught.value)

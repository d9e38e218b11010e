"""Pictures beside Chromium: what files look like there, which frames it shows, which colours."""

from __future__ import annotations

import base64
import io
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import pyvips
from numpy.typing import NDArray
from PIL import Image
from playwright.sync_api import Browser, Page

from gefa.core.read import read
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeSource
from gefa.core.treat.formats import FORMATS, LOSSY
from gefa.core.treat.score import AlphaReference
from tests.core.test_odd_pictures import CHRM_P3, MOVING, PATCHES, frames_of, gif, pixels, png_with
from tests.make import photo, standard_profile

AS_CHROMIUM = 0.2
"""points of SSIMULACRA2 that a look may be off by"""
FRAMES = """async ([data, type]) => {
  const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
  const decoder = new ImageDecoder({ data: bytes, type });
  await decoder.tracks.ready;
  await decoder.completed;
  const found = [];
  for (let index = 0; index < decoder.tracks.selectedTrack.frameCount; index++) {
    const { image } = await decoder.decode({ frameIndex: index });
    const canvas = new OffscreenCanvas(image.displayWidth, image.displayHeight);
    const context = canvas.getContext("2d");
    context.drawImage(image, 0, 0);
    const { data } = context.getImageData(0, 0, canvas.width, canvas.height);
    let text = "";
    for (let at = 0; at < data.length; at += 32768)
      text += String.fromCharCode(...data.subarray(at, at + 32768));
    found.push([canvas.width, canvas.height, btoa(text)]);
  }
  return found;
}"""

STILL = """async ([data, type]) => {
  const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
  const image = new Image();
  image.src = URL.createObjectURL(new Blob([bytes], { type }));
  await image.decode();
  const canvas = new OffscreenCanvas(image.naturalWidth, image.naturalHeight);
  const context = canvas.getContext("2d");
  context.drawImage(image, 0, 0);
  const { data: raw } = context.getImageData(0, 0, canvas.width, canvas.height);
  let text = "";
  for (let at = 0; at < raw.length; at += 32768)
    text += String.fromCharCode(...raw.subarray(at, at + 32768));
  return [canvas.width, canvas.height, btoa(text)];
}"""


@pytest.fixture(scope="module")
def chromium(browser: Browser) -> Any:
    """A page of a secure context, which decoders are for."""
    context = browser.new_context()
    page = context.new_page()
    page.route("https://localhost/", lambda route: route.fulfill(body="<!doctype html>"))
    page.goto("https://localhost/")
    yield page
    context.close()


def frames(page: Page, data: bytes, media_type: str) -> NDArray[np.uint8]:
    """Frames × rows × columns × RGBA, as Chromium decodes them."""
    found = page.evaluate(FRAMES, [base64.b64encode(data).decode(), media_type])
    return np.stack(
        [
            np.frombuffer(base64.b64decode(raw), np.uint8).reshape(height, width, 4)
            for width, height, raw in found
        ]
    )


def still(page: Page, data: bytes, media_type: str) -> NDArray[np.uint8]:
    """Rows × columns × RGBA, as an ``<img>`` shows them."""
    width, height, raw = page.evaluate(STILL, [base64.b64encode(data).decode(), media_type])
    return np.frombuffer(base64.b64decode(raw), np.uint8).reshape(height, width, 4)


def test_a_look_is_what_chromium_shows(chromium: Page) -> None:
    """Twelve files: four pictures in three formats, from coarse to fine."""
    pictures = [photo(160, 120, 1), photo(200, 90, 2).gaussblur(1.2), _signs(), photo(121, 97, 3)]
    off = {}
    for number, (picture, quality) in enumerate(zip(pictures, (30, 55, 75, 92), strict=True)):
        image = picture.cast("uchar").copy(interpretation="srgb").copy_memory()
        reference = AlphaReference(image)
        for format in LOSSY:
            data = encode(image, format, quality)
            shown = still(chromium, data, FORMATS[format].media_type)
            theirs = pyvips.Image.new_from_array(
                np.ascontiguousarray(shown[..., :3]), interpretation="srgb"
            )
            ours = EncodeSource(image).score(data, format)
            off[number, format.value] = ours - reference.score(theirs)
    assert len(off) == 12
    assert max(map(abs, off.values())) <= AS_CHROMIUM, off


def _signs() -> pyvips.Image:
    """Saturated shapes with hard edges: what coarse colour is worst for."""
    y, x = np.mgrid[0:100, 0:140]
    rgb = np.full((100, 140, 3), (250, 240, 220), np.uint8)
    rgb[(x // 14 + y // 10) % 3 == 0] = (220, 20, 40)
    rgb[np.hypot(x - 70, y - 50) < 25] = (20, 60, 200)
    return pyvips.Image.new_from_array(rgb, interpretation="srgb")


@pytest.mark.parametrize("name", MOVING)
def test_frames_of_a_gif_are_those_of_chromium(chromium: Page, tmp_path: Path, name: str) -> None:
    file = tmp_path / "g.gif"
    file.write_bytes(gif(20, 10, MOVING[name]))
    ours, theirs = frames_of(read(file)), frames(chromium, file.read_bytes(), "image/gif")
    assert ours.shape == theirs.shape
    # What cannot be seen has no colour worth comparing.
    seen = theirs[..., 3:] > 0
    assert (ours[..., 3] == theirs[..., 3]).all()
    assert (np.where(seen, ours, 0) == np.where(seen, theirs, 0)).all()


@pytest.mark.parametrize("ending", ["png", "avif"])
def test_frames_of_moving_png_and_avif_are_those_of_chromium(
    chromium: Page, tmp_path: Path, ending: str
) -> None:
    file = tmp_path / f"p.{ending}"
    steps = [Image.fromarray(np.roll(PATCHES, 6 * n, axis=1)) for n in range(3)]
    # Chromium takes the full range of sequences by Pillow for a narrow one, unlike that of stills.
    more = {"range": "limited"} if ending == "avif" else {}
    steps[0].save(file, save_all=True, append_images=steps[1:], duration=80, quality=90, **more)
    ours = frames_of(read(file)).astype(int)
    theirs = frames(chromium, file.read_bytes(), f"image/{ending}").astype(int)
    assert ours.shape == theirs.shape
    if ending == "png":
        assert (ours == theirs).all()
        return
    # Decoders of moving pictures hand video over, whose colours are not those of an <img>.
    first = still(chromium, file.read_bytes(), "image/avif").astype(int)
    assert np.abs(ours[0] - first).mean() < 0.6
    for mine, other in zip(ours, theirs, strict=True):
        nearest = min(range(3), key=lambda at: float(np.abs(ours[at] - other).mean()))
        assert (ours[nearest] == mine).all(), "frames are in the same order"


@pytest.mark.parametrize(
    "chunks",
    [
        {b"cICP": bytes([12, 13, 0, 1])},
        {b"cICP": bytes([1, 1, 0, 1])},
        {b"cICP": bytes([9, 1, 0, 1])},
        {b"cICP": bytes([1, 8, 0, 1])},
        {b"gAMA": (50_000).to_bytes(4, "big")},
        {b"gAMA": (45_455).to_bytes(4, "big")},
        {b"gAMA": (100_000).to_bytes(4, "big")},
        {b"gAMA": (45_455).to_bytes(4, "big"), b"cHRM": CHRM_P3},
        {b"sRGB": b"\0", b"gAMA": (100_000).to_bytes(4, "big")},
    ],
    ids=str,
)
def test_told_colours_are_those_of_chromium(
    chromium: Page, tmp_path: Path, chunks: dict[bytes, bytes]
) -> None:
    file = tmp_path / "p.png"
    file.write_bytes(png_with(chunks, PATCHES))
    theirs = still(chromium, file.read_bytes(), "image/png")
    off = np.abs(pixels(read(file))[..., :3] - theirs[..., :3])
    assert off.max() <= 3, off.max(axis=(0, 1))


def test_a_profile_of_the_display_is_followed_as_chromium_does(
    chromium: Page, tmp_path: Path
) -> None:
    out = io.BytesIO()
    Image.fromarray(PATCHES).save(out, "png", icc_profile=standard_profile("p3"))
    file = tmp_path / "p.png"
    file.write_bytes(out.getvalue())
    theirs = still(chromium, file.read_bytes(), "image/png")
    assert np.abs(pixels(read(file))[..., :3] - theirs[..., :3]).max() <= 2


@pytest.mark.parametrize("transfer", [1, 4, 6, 8, 13])
def test_coded_colours_of_avif_are_those_of_chromium(
    chromium: Page, tmp_path: Path, transfer: int
) -> None:
    out = io.BytesIO()
    Image.fromarray(PATCHES).save(out, "avif", quality=100, subsampling="4:4:4")
    data = bytearray(out.getvalue())
    at = data.index(b"colrnclx") + 8
    data[at : at + 4] = struct.pack(">HH", 1, transfer)
    file = tmp_path / "p.avif"
    file.write_bytes(data)
    theirs = still(chromium, bytes(data), "image/avif")
    assert np.abs(pixels(read(file))[..., :3] - theirs[..., :3]).max() <= 4

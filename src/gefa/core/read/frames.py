"""The frames of pictures that move, as browsers show them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyvips
from numpy.typing import NDArray
from PIL import AvifImagePlugin, Image, ImageFile, PngImagePlugin

from gefa.core.read.broken import decoder_error
from gefa.core.read.gif import HIDDEN_DELAY, USUAL_DELAY, Gif, composed, take_apart
from gefa.core.read.sniff import FileKind

_BROKEN = (OSError, SyntaxError, ValueError, EOFError)
_OPENERS: dict[FileKind, type[ImageFile.ImageFile]] = {
    FileKind.PNG: PngImagePlugin.PngImageFile,
    FileKind.AVIF: AvifImagePlugin.AvifImageFile,
}
"""kinds whose frames Pillow composes; libvips reads only their first frame"""


@dataclass(frozen=True, slots=True)
class Movement:
    """The timing of an animation: ``delays`` in ms for each frame, ``loop`` is how often it plays,
    0 for ever."""

    delays: tuple[int, ...]
    loop: int


def frame_count(path: Path, kind: FileKind) -> int:
    """The number of frames of a PNG, AVIF or GIF, without decoding; 1 for a still, and for a broken
    file, which its decoder will report."""
    try:
        if kind is FileKind.GIF:
            return len(take_apart(path).frames)
        with _OPENERS[kind](str(path)) as image:
            return _shown_frames(image)
    except (*_BROKEN, pyvips.Error):
        return 1


def _shown_frames(image: Image.Image) -> int:
    count = int(getattr(image, "n_frames", 1))
    return count - 1 if _has_still(image) else count


def _has_still(image: Image.Image) -> bool:
    """Whether the first picture of a PNG is for programs that do not know animation, and not a
    frame (PNG 3, section 11.3.6.1)."""
    return bool(getattr(image, "default_image", False))


def frames_of(path: Path, kind: FileKind) -> tuple[Movement, Iterator[NDArray[np.uint8]]]:
    """The timing, and the frames as rows of RGBA one after another, each valid until the next.
    pyvips.Error if they cannot be decoded."""
    if kind is FileKind.GIF:
        gif = take_apart(path)
        return _gif_movement(gif), composed(gif)
    delays: list[int] = []
    loop = 0
    try:
        with _OPENERS[kind](str(path)) as image:
            loop = int(image.info.get("loop", 0))
            for number in _numbers(image):
                image.seek(number)
                image.load()
                delays.append(round(float(image.info.get("duration") or 0)))
    except _BROKEN as error:
        raise decoder_error(str(error) or "a frame cannot be decoded") from error
    told = tuple(USUAL_DELAY if delay <= HIDDEN_DELAY else delay for delay in delays)
    return Movement(told, loop), _pillow_frames(path, kind)


def _numbers(image: Image.Image) -> range:
    return range(int(_has_still(image)), int(getattr(image, "n_frames", 1)))


def _pillow_frames(path: Path, kind: FileKind) -> Iterator[NDArray[np.uint8]]:
    try:
        with _OPENERS[kind](str(path)) as image:
            for number in _numbers(image):
                image.seek(number)
                yield np.asarray(image.convert("RGBA"))
    except _BROKEN as error:
        raise decoder_error(str(error) or "a frame cannot be decoded") from error


def _gif_movement(gif: Gif) -> Movement:
    return Movement(tuple(frame.delay for frame in gif.frames), gif.loop)

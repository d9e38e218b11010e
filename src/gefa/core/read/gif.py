"""GIF frames as browsers show them.

libnsgif paints what a frame does not cover in opaque black, and clears to it. Browsers show through
there, whatever the file says of a background colour. So frames are decoded one by one and laid over
each other here. GIF89a specification, sections 18 to 24.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import with_alpha
from gefa.core.read.broken import decoder_error

HIDDEN_DELAY = 10
"""ms up to which browsers ignore a delay"""
USUAL_DELAY = 100
"""ms for which browsers show such a frame"""
_TO_BACKGROUND, _TO_PREVIOUS = 2, 3
_EXTENSION, _IMAGE, _END = 0x21, 0x2C, 0x3B
_CONTROL, _APPLICATION = 0xF9, 0xFF

Pixels = NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class GifFrame:
    """A frame in the file: its position, ``delay`` in ms, its disposal before the next one, its
    transparent colour (-1 for none), and its bytes from the image descriptor on."""

    place: Rect
    delay: int
    disposal: int
    transparent: int
    data: bytes


@dataclass(frozen=True, slots=True)
class Gif:
    """The frames of a GIF; ``loop`` is how often it plays, 0 for ever."""

    size: Size
    colours: bytes
    frames: tuple[GifFrame, ...]
    loop: int


class _Bytes:
    """Reads forwards; pyvips.Error if the file ends too early."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        taken = self.data[self.at : self.at + count]
        if len(taken) < count:
            raise decoder_error("Unexpected end of GIF source data")
        self.at += count
        return taken

    def blocks(self) -> list[bytes]:
        """Sub-blocks, up to the empty one at their end."""
        found = []
        while size := self.take(1)[0]:
            found.append(self.take(size))
        return found


def take_apart(path: Path) -> Gif:
    """The frames of a GIF, undecoded. pyvips.Error if the file is damaged."""
    source = _Bytes(path.read_bytes())
    header = source.take(13)
    size = Size(int.from_bytes(header[6:8], "little"), int.from_bytes(header[8:10], "little"))
    colours = source.take(_table_bytes(header[10]))
    frames: list[GifFrame] = []
    control, loop = b"\0\0\0\0", 1
    while source.at < len(source.data):
        kind = source.take(1)[0]
        if kind == _END:
            break
        if kind == _EXTENSION:
            label = source.take(1)[0]
            blocks = source.blocks()
            if label == _CONTROL and blocks and len(blocks[0]) >= 4:
                control = blocks[0]
            elif label == _APPLICATION:
                loop = _loop_of(blocks, loop)
        elif kind == _IMAGE:
            frames.append(_frame(source, control))
            control = b"\0\0\0\0"
        else:
            raise decoder_error("Invalid frame data")
    if not frames:
        raise decoder_error("it holds no picture")
    return Gif(_screen(size, frames), colours, tuple(frames), loop)


def _table_bytes(flags: int) -> int:
    return 3 << ((flags & 7) + 1) if flags & 0x80 else 0


def _loop_of(blocks: list[bytes], loop: int) -> int:
    """The repetitions after the first of the looping extension, counted as plays."""
    if not blocks or blocks[0] not in (b"NETSCAPE2.0", b"ANIMEXTS1.0") or len(blocks) < 2:
        return loop
    told = blocks[1]
    if len(told) < 3 or told[0] & 7 != 1:
        return loop
    times = int.from_bytes(told[1:3], "little")
    return times + 1 if times else 0


def _frame(source: _Bytes, control: bytes) -> GifFrame:
    start = source.at
    descriptor = source.take(9)
    left, top, width, height = (
        int.from_bytes(descriptor[i : i + 2], "little") for i in (0, 2, 4, 6)
    )
    source.take(_table_bytes(descriptor[8]))
    source.take(1)
    source.blocks()
    delay = int.from_bytes(control[1:3], "little") * 10
    return GifFrame(
        Rect(left, top, width, height),
        USUAL_DELAY if delay <= HIDDEN_DELAY else delay,
        (control[0] >> 2) & 7,
        control[3] if control[0] & 1 else -1,
        source.data[start : source.at],
    )


def _screen(size: Size, frames: list[GifFrame]) -> Size:
    """Browsers enlarge a screen that is smaller than the first frame."""
    first = frames[0].place
    if size.width and size.height and first.width <= size.width and first.height <= size.height:
        return size
    return Size(max(size.width, first.right), max(size.height, first.bottom))


def composed(gif: Gif) -> Iterator[Pixels]:
    """Each frame over those before it, as rows of RGBA. The array is reused for the next."""
    canvas = np.zeros((gif.size.height, gif.size.width, 4), np.uint8)
    screen = Rect(0, 0, gif.size.width, gif.size.height)
    for frame in gif.frames:
        shown = frame.place.intersection(screen)
        place = np.s_[shown.y : shown.bottom, shown.x : shown.right]
        before = canvas[place].copy() if frame.disposal == _TO_PREVIOUS else None
        if not shown.empty:
            own = _decoded(gif, frame)[: shown.height, : shown.width]
            opaque = own[..., 3] > 0
            canvas[place][opaque] = own[opaque]
        yield canvas
        if frame.disposal == _TO_BACKGROUND:
            canvas[place] = 0
        elif before is not None:
            canvas[place] = before


def _decoded(gif: Gif, frame: GifFrame) -> Pixels:
    """The pixels of one frame, decoded as a GIF that the frame fills."""
    sides = frame.place.width.to_bytes(2, "little") + frame.place.height.to_bytes(2, "little")
    flags = 0x80 | 0x70 | (len(gif.colours) // 3).bit_length() - 2 if gif.colours else 0x70
    transparent = max(0, frame.transparent)
    alone = b"".join(
        [
            b"GIF89a", sides, bytes([flags, 0, 0]), gif.colours,
            b"\x21\xf9\x04", bytes([frame.transparent >= 0, 0, 0, transparent, 0]),
            b",\0\0\0\0", frame.data[4:], b";",
        ]
    )  # fmt: skip
    image = pyvips.Image.gifload_buffer(alone, fail_on="error")
    if image.bands < 3:
        grey = image[0]
        colour = grey.bandjoin([grey, grey])
        image = colour.bandjoin(image[1]) if image.bands == 2 else colour
    pixels: Pixels = with_alpha(image.copy(interpretation="srgb")).numpy()
    return pixels

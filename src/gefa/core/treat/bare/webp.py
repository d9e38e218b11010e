"""WebP, with the bitstream that it has (RFC 9649)."""

from __future__ import annotations

import struct
from collections.abc import Iterator

import pyvips

from gefa.core.treat.bare.unfit import Unfit
from gefa.core.treat.formats import Format
from gefa.core.treat.shown import shown

_LOSSY, _LOSSLESS, _ALPHA, _EXTENDED = b"VP8 ", b"VP8L", b"ALPH", b"VP8X"
_HAS_ALPHA = 0x10
"""the only flag of a still WebP's extended header that stays (section 2.7)"""
_PADDING = 3
"""bytes at the end of a bitstream that libwebp may write and no decoder needs"""
_KEY_FRAME_HEADER = 10
"""bytes before the first partition (RFC 6386, section 9.1)"""


def bare_webp(data: bytes) -> bytes:
    """Unfit for animations, damaged files, and files with bytes that no decoder needs: a second
    picture, or more than padding behind a bitstream."""
    found = dict(_chunks(data))
    pictures = [kind for kind in (_LOSSY, _LOSSLESS) if kind in found]
    if len(pictures) != 1:
        raise Unfit
    kept = {pictures[0]: found[pictures[0]]}
    if pictures == [_LOSSY] and _ALPHA in found and _EXTENDED in found:
        size = found[_EXTENDED][4:10]
        extended = bytes([_HAS_ALPHA, 0, 0, 0]) + size
        kept = {_EXTENDED: extended, _ALPHA: found[_ALPHA], **kept}
    whole = _pixels(_file(kept))
    if whole is None:
        raise Unfit
    for kind, ends in _ends_of(kept):
        for end in ends:
            _clear_padding(kept, kind, end, whole)
    return _file(kept)


def _chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    if data[:4] != b"RIFF" or data[8:12] != b"WEBP":
        raise Unfit
    at, end = 12, min(len(data), 8 + struct.unpack_from("<I", data, 4)[0])
    seen = set()
    while at + 8 <= end:
        kind, length = struct.unpack_from("<4sI", data, at)
        body = data[at + 8 : at + 8 + length]
        if kind in (b"ANIM", b"ANMF") or len(body) < length:
            raise Unfit
        if kind in seen and kind in (_LOSSY, _LOSSLESS, _ALPHA, _EXTENDED):
            raise Unfit
        seen.add(kind)
        yield kind, body
        at += 8 + length + length % 2


def _file(kept: dict[bytes, bytes]) -> bytes:
    body = b"".join(
        kind + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)
        for kind, data in kept.items()
    )
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WEBP" + body


def _ends_of(kept: dict[bytes, bytes]) -> Iterator[tuple[bytes, list[int]]]:
    """The ends of all bitstreams, by chunk."""
    for kind, data in kept.items():
        if kind == _LOSSY:
            # RFC 6386, section 9.1: the size of the first partition is in the upper 19 bits.
            first = _KEY_FRAME_HEADER + (int.from_bytes(data[:3], "little") >> 5)
            yield kind, [first, len(data)]
        elif kind != _EXTENDED:
            yield kind, [len(data)]


def _clear_padding(kept: dict[bytes, bytes], kind: bytes, end: int, whole: bytes) -> None:
    """Zero the bytes before ``end`` that no decoder needs. Unfit if there are more than padding."""
    for count in range(_PADDING + 1, 0, -1):
        data = kept[kind]
        cleared = data[: end - count] + bytes(count) + data[end:]
        if cleared == data:
            return
        if _pixels(_file({**kept, kind: cleared})) == whole:
            if count > _PADDING:
                raise Unfit
            kept[kind] = cleared
            return


def _pixels(data: bytes) -> bytes | None:
    """None if the file cannot be decoded."""
    try:
        return bytes(shown(data, Format.WEBP).write_to_memory())
    except pyvips.Error:
        return None

"""Says what is wrong with a picture that its decoder refuses."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyvips

from gefa.core.errors import SourceError
from gefa.core.read.completeness import looks_whole
from gefa.core.read.sniff import LABELS, FileKind

_SAVE_AGAIN = "Open it in the program that made it, save it again, and bring it in anew."
_ENDINGS = (
    "premature end", "unexpected end", "ends early", "truncated", "end of file", "not enough data",
    "unable to parse image", "unable to open source",
)  # fmt: skip
"""messages of decoders about truncated files"""
_SAYS_NOTHING = ("unable to", "libvips error", "out of order read", "system error")
"""how messages begin that tell people no more than that it failed"""


def decoder_error(reason: str) -> pyvips.Error:
    """An error like those of libvips. With a detail of its own: it would be given whatever text
    libvips still holds otherwise, which may be about another file."""
    return pyvips.Error(reason, detail=reason)


def forget_errors() -> None:
    """Drop texts that libvips kept of other files: it puts them before those of the next one."""
    pyvips.vips_lib.vips_error_clear()


@contextmanager
def decoder_warnings() -> Iterator[list[str]]:
    """What the JPEG decoder says of damage that does not stop it, in the order it says it; pictures
    must be read to their end, and let go, in the block.

    It never fails on a warning while it reduces a picture: libvips logs how many there were when
    the file is closed. A cached operation would keep it open.
    """
    said: list[str] = []
    logger, listener, kept = logging.getLogger("pyvips"), _Listener(said), pyvips.cache_get_max()
    pyvips.cache_set_max(0)
    logger.addHandler(listener)
    try:
        yield said
    finally:
        logger.removeHandler(listener)
        pyvips.cache_set_max(kept)


class _Listener(logging.Handler):
    def __init__(self, said: list[str]) -> None:
        super().__init__(logging.WARNING)
        self._said = said

    def emit(self, record: logging.LogRecord) -> None:
        # "VIPS: read gave 2 warnings", then often, but not always, the last of them:
        # "VIPS: VipsJpeg: Corrupt JPEG data: premature end of data segment"
        message = record.getMessage().strip()
        if "read gave" in message:
            self._said.append("its data does not fit together")
        elif "VipsJpeg" in message:
            self._said.append(message.rpartition(": ")[2])


def broken_picture(path: Path, kind: FileKind, file: str, decoder: str) -> SourceError:
    """The error for a picture whose decoder said ``decoder``: in our words first, since decoders
    write for programmers."""
    cut_off = not looks_whole(path, kind) or any(end in decoder.lower() for end in _ENDINGS)
    reason = "the file ends early, so part of it is missing" if cut_off else "it is damaged"
    if "support" in decoder.lower() or "unsupported" in decoder.lower():
        reason = "Gefa does not read this way of storing it"
    plain = decoder.rpartition(": ")[2] if ": " in decoder else decoder
    empty = len(plain) <= 8 or plain.lower().startswith(_SAYS_NOTHING)
    told = "" if empty else f" (the decoder says: {plain[:160]})"
    return SourceError(
        f"cannot be read as {LABELS[kind]}: {reason}{told}.", file=file, advice=_SAVE_AGAIN
    )

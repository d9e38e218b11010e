"""Says what is wrong with a picture that its decoder refuses."""

from __future__ import annotations

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

"""Says what is wrong with a picture that its decoder refuses."""

from __future__ import annotations

from pathlib import Path

from gefa.core.errors import SourceError
from gefa.core.read.completeness import looks_whole
from gefa.core.read.sniff import LABELS, FileKind

_SAVE_AGAIN = "Open it in the program that made it, save it again, and bring it in anew."
_ENDINGS = (
    "premature end", "unexpected end", "ends early", "truncated", "end of file", "not enough data",
    "unable to parse image", "unable to open source",
)  # fmt: skip
"""messages of decoders about truncated files"""


def broken_picture(path: Path, kind: FileKind, file: str, decoder: str) -> SourceError:
    """The error for a picture whose decoder said ``decoder``: in our words first, since decoders
    write for programmers."""
    cut_off = not looks_whole(path, kind) or any(end in decoder.lower() for end in _ENDINGS)
    reason = "the file ends early, so part of it is missing" if cut_off else "it is damaged"
    if "support" in decoder.lower() or "unsupported" in decoder.lower():
        reason = "Gefa does not read this way of storing it"
    told = f" (the decoder says: {decoder[:160]})" if len(decoder) > 8 else ""
    return SourceError(
        f"cannot be read as {LABELS[kind]}: {reason}{told}.", file=file, advice=_SAVE_AGAIN
    )

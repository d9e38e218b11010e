"""Whether a file has been saved to its end, from its last bytes."""

from __future__ import annotations

import zipfile
from pathlib import Path

from gefa.core.read.sniff import FileKind

_TAIL = 1024
"""bytes searched for an end marker: some programs add padding"""


def looks_whole(path: Path, kind: FileKind) -> bool:
    """False if the file lacks the end that its kind must have; True if its kind has none to look
    for."""
    if kind is FileKind.OPENRASTER:
        return zipfile.is_zipfile(path)
    with path.open("rb") as file:
        head = file.read(12)
        size = file.seek(0, 2)
        file.seek(max(0, size - _TAIL))
        tail = file.read()
    if kind is FileKind.WEBP:
        return size >= int.from_bytes(head[4:8], "little") + 8
    ends = {
        FileKind.SVG: b"svg>",
        FileKind.PNG: b"IEND",
        FileKind.JPEG: b"\xff\xd9",
        FileKind.GIF: b"\x3b",
    }
    return ends.get(kind, b"") in tail

"""Files on their way in: their names, and their bytes a piece at a time."""

from __future__ import annotations

from collections.abc import AsyncIterator
from pathlib import PurePosixPath

from starlette.datastructures import UploadFile

from gefa.core.read.part_names import one_line

CHUNK = 1 << 20


async def chunks(file: UploadFile) -> AsyncIterator[bytes]:
    """The file's bytes from where it is read to now."""
    while chunk := await file.read(CHUNK):
        yield chunk


def clean_name(raw: str) -> str:
    """The last part of a file name, on one line, never empty."""
    last = PurePosixPath(raw.replace("\\", "/")).name
    return one_line(last) or "unnamed"

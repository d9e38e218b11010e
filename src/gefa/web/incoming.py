"""The names of files that arrive."""

from __future__ import annotations

from pathlib import PurePosixPath

from gefa.core.read.part_names import one_line


def clean_name(raw: str) -> str:
    """The last segment of a file name, on one line, never empty."""
    last = PurePosixPath(raw.replace("\\", "/")).name
    return one_line(last) or "unnamed"

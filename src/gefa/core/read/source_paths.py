"""What sources are called: by their paths within the site."""

from __future__ import annotations

from gefa.core.read.part_names import one_line

MAX_LEVELS = 12
"""of folders; nobody keeps deeper ones on purpose"""


def clean_path(raw: str) -> str:
    """A clean path of a sent file: folders and name, each on one line, without segments that are
    empty or lead outside."""
    levels = (one_line(level) for level in raw.replace("\\", "/").split("/"))
    plain = [level for level in levels if level.strip(". ") and not level.endswith(":")]
    kept = [level[:200] for level in plain[-MAX_LEVELS:]]
    return "/".join(kept)[-390:].lstrip("/") or "unnamed"

"""What sources are called: by their paths within the site."""

from __future__ import annotations

from gefa.core.read.part_names import one_line

MAX_LEVELS = 12
"""of folders: deeper ones are nobody's order"""


def clean_path(raw: str) -> str:
    """A path of a file as it was sent: its folders and its name, each on one line; what leads out
    of its place, or says nothing, is left out."""
    levels = (one_line(level) for level in raw.replace("\\", "/").split("/"))
    plain = [level for level in levels if level.strip(". ") and not level.endswith(":")]
    kept = [level[:200] for level in plain[-MAX_LEVELS:]]
    return "/".join(kept)[-390:].lstrip("/") or "unnamed"

"""Patterns over part paths."""

from __future__ import annotations

import re
from functools import lru_cache


def covers(glob: str, path: str) -> bool:
    """Whether ``glob`` covers the whole ``path``: ``*`` stays within one level, ``**`` crosses
    levels, ``?`` is one character."""
    return bool(_pattern(glob).fullmatch(path))


@lru_cache(maxsize=512)
def _pattern(glob: str) -> re.Pattern[str]:
    pieces = re.split(r"(\*\*|\*|\?)", glob)
    wild = {"**": ".*", "*": "[^/]*", "?": "[^/]"}
    return re.compile("".join(wild.get(piece, re.escape(piece)) for piece in pieces))

"""Patterns over part paths."""

from __future__ import annotations

import re
from functools import lru_cache


def covers(glob: str, path: str) -> bool:
    """Whether ``glob`` covers the whole ``path``: ``*`` stays within one level, ``**`` crosses
    levels, ``?`` is one character, a backslash takes the meaning of
    the next one away."""
    return bool(_pattern(glob).fullmatch(path))


def escaped(path: str) -> str:
    """A glob that covers just this path."""
    return re.sub(r"([*?\\])", r"\\\1", path)


@lru_cache(maxsize=512)
def _pattern(glob: str) -> re.Pattern[str]:
    pieces = re.split(r"(\\.|\*\*|\*|\?)", glob)
    wild = {"**": ".*", "*": "[^/]*", "?": "[^/]"}
    return re.compile("".join(wild.get(piece) or re.escape(_plain(piece)) for piece in pieces))


def _plain(piece: str) -> str:
    return piece[1:] if len(piece) == 2 and piece.startswith("\\") else piece

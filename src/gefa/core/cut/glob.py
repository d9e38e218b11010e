"""Patterns over the paths of parts and of sources."""

from __future__ import annotations

import re
from functools import lru_cache

_LEVELS, _ANY, _WITHIN, _ONE = "**/", "**", "*", "?"
_STARS = (_LEVELS, _ANY, _WITHIN)
Token = tuple[str, bool]
"""a character or wildcard, and whether it is a wildcard"""


def covers(glob: str, path: str) -> bool:
    """Whether ``glob`` matches the whole ``path``.

    ``*`` stays within one level, ``**`` crosses levels, ``**/`` is any number of levels, also none;
    ``?`` is one character, and a backslash makes the next character literal. Takes at most time in
    proportion to both lengths, since patterns come from people and paths from files.
    """
    reached = {0}
    tokens = _tokens(glob)
    reached = _skipping(tokens, reached)
    for character in path:
        following, inside = set(), set()
        for at in reached:
            if at == len(tokens):
                continue
            token, wild = tokens[at]
            if wild and token == _LEVELS:
                inside.add(at)  # the middle of a level: nothing but a slash ends it
                if character == "/":
                    following.add(at + 1)
            elif wild and token in (_ANY, _WITHIN):
                if token == _ANY or character != "/":
                    following.add(at)
            elif (wild and character != "/") or (not wild and token == character):
                following.add(at + 1)
        reached = _skipping(tokens, following) | inside
        if not reached:
            return False
    return len(tokens) in reached


def _skipping(tokens: tuple[Token, ...], reached: set[int]) -> set[int]:
    """Places in the pattern, including those reached by letting stars match nothing."""
    found = set()
    for start in reached:
        at = start
        found.add(at)
        while at < len(tokens) and tokens[at][1] and tokens[at][0] in _STARS:
            at += 1
            found.add(at)
    return found


def escaped(path: str) -> str:
    """A glob that matches this path only."""
    return re.sub(r"([*?\\])", r"\\\1", path)


def literal(glob: str) -> str | None:
    """The one path that ``glob`` matches; None if it has wildcards."""
    tokens = _tokens(glob)
    return None if any(wild for _, wild in tokens) else "".join(token for token, _ in tokens)


@lru_cache(maxsize=4096)
def _tokens(glob: str) -> tuple[Token, ...]:
    found: list[Token] = []
    at = 0
    while at < len(glob):
        if glob[at] == "\\" and at + 1 < len(glob):
            found.append((glob[at + 1], False))
            at += 2
        elif glob.startswith(_LEVELS, at) and glob[at - 1 : at] in ("", "/"):
            found.append((_LEVELS, True))
            at += 3
        elif glob.startswith(_ANY, at):
            # More stars in a row say no more than two.
            if not found or found[-1] != (_ANY, True):
                found.append((_ANY, True))
            at += 2
        else:
            found.append((glob[at], glob[at] in (_WITHIN, _ONE)))
            at += 1
    return tuple(found)

"""The candidates of a ``srcset`` attribute. WHATWG HTML, 4.8.4.2.1."""

from __future__ import annotations

import re
from dataclasses import dataclass

MOST_CANDIDATES = 1_000
_SPACE = " \t\n\f\r"
_WIDTH = re.compile(r"[0-9]{1,9}")
_NUMBER = re.compile(r"[0-9]{0,9}(?:\.[0-9]{1,9})?(?:[eE][+-]?[0-9]{1,2})?")


@dataclass(frozen=True, slots=True)
class Candidate:
    """An address with its ``width`` descriptor in px, or its ``density``; 1 without either."""

    url: str
    width: int | None = None
    density: float = 1.0


def parse_srcset(text: str) -> tuple[list[Candidate], list[str]]:
    """The candidates that a browser uses, and what is wrong with those it ignores."""
    found: list[Candidate] = []
    problems: list[str] = []
    at = 0
    while at < len(text) and len(found) < MOST_CANDIDATES:
        while at < len(text) and text[at] in _SPACE + ",":
            at += 1
        start = at
        while at < len(text) and text[at] not in _SPACE:
            at += 1
        url = text[start:at]
        words: list[str] = []
        if not url:
            break
        if url.endswith(","):
            url = url.rstrip(",")
        else:
            words, at = _descriptors(text, at)
        candidate = _candidate(url, words)
        if isinstance(candidate, str):
            problems.append(candidate)
        else:
            found.append(candidate)
    return _without_twins(found), problems


def _descriptors(text: str, at: int) -> tuple[list[str], int]:
    """The words up to the next comma outside brackets, and its position."""
    start, depth = at, 0
    while at < len(text) and (depth or text[at] != ","):
        depth += (text[at] == "(") - (text[at] == ")" and depth > 0)
        at += 1
    return text[start:at].split(), at + 1


def _candidate(url: str, words: list[str]) -> Candidate | str:
    width: int | None = None
    density: float | None = None
    for word in words:
        number, unit = word[:-1], word[-1]
        if unit == "w" and _WIDTH.fullmatch(number) and int(number) and width is None:
            width = int(number)
        elif unit == "x" and number and _NUMBER.fullmatch(number) and density is None:
            density = float(number)
        elif not (unit == "h" and _WIDTH.fullmatch(number)):
            return f"{url}: {word!r} is neither a width as 400w nor a density as 2x"
    if width is not None and density is not None:
        return f"{url}: it has both a width and a density"
    return Candidate(url, width, 1.0 if density is None else density)


def _without_twins(found: list[Candidate]) -> list[Candidate]:
    """The first of candidates with equal descriptors."""
    seen: dict[tuple[int | None, float], Candidate] = {}
    for one in found:
        seen.setdefault((one.width, one.density), one)
    return list(seen.values())

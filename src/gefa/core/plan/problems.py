"""What is wrong with a plan or a recipe, in words, with the place."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from difflib import get_close_matches
from typing import Any

from pydantic import ValidationError

_HEADER = re.compile(r"\s*+(\[\[?)([^\[\]]+)\]")
_KEY = re.compile(
    r"""\s*+((?:[\w-]++|"[^"]*"|'[^']*')(?:\s*+\.\s*+(?:[\w-]++|"[^"]*"|'[^']*'))*+)\s*+="""
)
_STEP = re.compile(r"""[\w-]++|"[^"]*"|'[^']*'""")
Place = tuple[int | str, ...]


def problems_in_words(
    error: ValidationError, text: str = "", keys: Collection[str] = ()
) -> list[str]:
    """What is wrong, each with its place. If something can be written in several ways, the text is
    about the last, which most people use. ``text`` is the TOML, for line numbers; ``keys`` are the
    known keys, for the closest one."""
    problems = error.errors()
    told = [p for p in problems if not any(str(step).startswith("literal[") for step in p["loc"])]
    return [_in_words(problem, text, keys) for problem in told or problems]


def _in_words(problem: Any, text: str, keys: Collection[str]) -> str:
    steps = [step for step in problem["loc"] if "[" not in str(step) and step != "Aim"]
    place = ".".join(str(step) for step in steps)
    line = line_of(text, tuple(steps)) if text else None
    where = f"line {line}: {place}" if line else place
    if problem["type"] == "extra_forbidden":
        near = get_close_matches(str(steps[-1]), keys, n=1, cutoff=0.6)
        hint = f"; did you mean {near[0]!r}?" if near else ""
        return f"{where} is not something a plan holds{hint}"
    told = problem["msg"].removeprefix("Value error, ")
    return f"{where}: {told}" if where else str(told)


def line_of(text: str, place: Place) -> int | None:
    """The line number, from 1, of a place in a TOML text, or of the nearest enclosing one; None if
    unclear. Reads only headers and keys: a multi-line string that looks like one can mislead it."""
    best, best_line = 0, None
    counts: dict[Place, int] = {}
    table: Place = ()
    for number, line in enumerate(text.splitlines(), 1):
        header = _HEADER.match(line)
        if header is not None:
            table = _table(_steps(header[2]), header[1] == "[[", counts)
            found = table
        else:
            key = _KEY.match(line)
            if key is None:
                continue
            found = (*table, *_steps(key[1]))
        shared = _shared(found, place)
        if shared == len(found) and shared > best:
            best, best_line = shared, number
    return best_line


def _steps(text: str) -> list[str]:
    return [step.strip("\"'") for step in _STEP.findall(text)]


def _table(steps: Sequence[str], repeated: bool, counts: dict[Place, int]) -> Place:
    """The table that a header opens: the last entry of each list on the way."""
    place: Place = ()
    for at, step in enumerate(steps):
        place = (*place, step)
        if repeated and at == len(steps) - 1:
            counts[place] = counts.get(place, -1) + 1
        if place in counts:
            place = (*place, counts[place])
    return place


def _shared(found: Place, place: Place) -> int:
    pairs = zip(found, place, strict=False)
    return next((at for at, (a, b) in enumerate(pairs) if a != b), min(len(found), len(place)))

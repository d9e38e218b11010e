"""What is wrong with a plan or a recipe, in words, with the place."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from difflib import get_close_matches
from typing import Any

from pydantic import ValidationError

from gefa.core.errors import PlanError

_HEADER = re.compile(r"\s*+(\[\[?)([^\[\]]+)\]")
_KEY = re.compile(
    r"""\s*+((?:[\w-]++|"[^"]*"|'[^']*')(?:\s*+\.\s*+(?:[\w-]++|"[^"]*"|'[^']*'))*+)\s*+="""
)
_STEP = re.compile(r"""[\w-]++|"[^"]*"|'[^']*'""")
Place = tuple[int | str, ...]
MOST_TOLD = 20
"""problems; the rest is only counted: a generated file may have the same one thousands of times"""
_TEXT, _WHOLE, _NUMBER = "give a text in quotes", "give a whole number", "give a number"
_LIST, _TABLE = "give a list, such as [1, 2]", "give a table, such as { key = 1 }"
_YES_OR_NO, _DATE = "give true or false", "give a date such as 2026-01-31"
_IN_WORDS = {
    "missing": "is missing",
    "string_type": _TEXT,
    "int_type": _WHOLE,
    "int_parsing": _WHOLE,
    "int_from_float": _WHOLE,
    "int_parsing_size": "is too large a number",
    "float_type": _NUMBER,
    "float_parsing": _NUMBER,
    "finite_number": "give a finite number",
    "bool_type": _YES_OR_NO,
    "bool_parsing": _YES_OR_NO,
    "tuple_type": _LIST,
    "list_type": _LIST,
    "dict_type": _TABLE,
    "model_type": _TABLE,
    "model_attributes_type": _TABLE,
    "date_parsing": _DATE,
    "date_from_datetime_parsing": _DATE,
    "datetime_parsing": _DATE,
    "datetime_from_date_parsing": _DATE,
    "string_pattern_mismatch": "is not written as it has to be",
    "json_invalid": "is not JSON",
}
"""what pydantic's kinds of errors say here; the text of any other would be the library's own"""
_WITH_LIMIT = {
    "greater_than_equal": "give {ge} or more",
    "greater_than": "give more than {gt}",
    "less_than_equal": "give {le} or less",
    "less_than": "give less than {lt}",
    "string_too_short": "give at least {min_length} characters",
    "string_too_long": "give at most {max_length} characters",
    "too_short": "give at least {min_length}",
    "too_long": "give at most {max_length}",
}
_PATTERNS = {"^#[0-9a-fA-F]{6}$": "write a colour such as #ffffff"}


def problems_in_words(
    error: ValidationError, text: str = "", keys: Collection[str] = ()
) -> list[str]:
    """What is wrong, each with its place, and what to write instead. ``text`` is the TOML, for line
    numbers; ``keys`` are the known keys, for the closest one."""
    problems = _of_one_branch(list(error.errors()))
    told = [p for p in problems if not any(str(step).startswith("literal[") for step in p["loc"])]
    told = told or problems
    words = list(dict.fromkeys(_in_words(problem, text, keys) for problem in told[:MOST_TOLD]))
    if len(told) > MOST_TOLD:
        words.append(f"and {len(told) - MOST_TOLD:,} more")
    return words


def _of_one_branch(problems: list[Any]) -> list[Any]:
    """A quality is an aim or numbers by format, and a wrong one is told as both: the problems of
    the one that was meant."""
    places = {p["loc"][:at] for p in problems for at, step in enumerate(p["loc"]) if _is_aim(step)}
    for place in sorted(places, key=len):
        own = [p for p in problems if p["loc"][: len(place)] == place]
        aims = [p for p in own if len(p["loc"]) > len(place) and _is_aim(p["loc"][len(place)])]
        numbers = [p for p in own if p not in aims]
        foreign = any(p["type"] == "extra_forbidden" for p in aims)
        problems = [p for p in problems if p not in (aims if foreign and numbers else numbers)]
    return problems


def _is_aim(step: object) -> bool:
    """Whether a step into a quality stands for the branch with look or max_bytes."""
    return step == "Aim" or str(step).endswith(", Aim]")


def _in_words(problem: Any, text: str, keys: Collection[str]) -> str:
    tags = ("Aim", "constrained-int", "constrained-str")
    steps = tuple(step for step in problem["loc"] if "[" not in str(step) and step not in tags)
    if problem["type"] == "extra_forbidden":
        key = str(steps[-1])
        near = get_close_matches(key, set(keys) - {key}, n=1, cutoff=0.7)
        hint = f"; did you mean {near[0]!r}?" if near else ""
        return located(steps[:-1], f"unknown key {key!r}{hint}", text, steps)
    return located(steps, _reason(problem), text, steps)


def located(shown: Place, reason: str, text: str = "", place: Place = ()) -> str:
    """A reason with its line in ``text``, and the keys that lead to it."""
    line = line_of(text, place or shown) if text else None
    where = [f"line {line}"] if line else []
    where += [name] if (name := _path(shown)) else []
    return ": ".join([*where, reason.rstrip(".")])


def error_of(wrong: Sequence[tuple[Place, str]], file: str, text: str) -> PlanError:
    """The error for values of a plan file that do not fit: each with its place and the reason."""
    told = [located(place, reason, text) for place, reason in wrong[:MOST_TOLD]]
    if len(wrong) > MOST_TOLD:
        told.append(f"and {len(wrong) - MOST_TOLD:,} more")
    return PlanError(f"{'; '.join(told)}.", file=file)


def _path(steps: Place) -> str:
    """``slices[0].rect[3]``"""
    path = ""
    for step in steps:
        path += f"[{step}]" if isinstance(step, int) else f"{'.' if path else ''}{step}"
    return path


def _reason(problem: Any) -> str:
    kind, given, context = problem["type"], problem.get("input"), problem.get("ctx") or {}
    if kind in ("enum", "literal_error"):
        expected = str(context["expected"])
        near = get_close_matches(str(given), re.findall(r"'([^']*)'", expected), n=1, cutoff=0.5)
        hint = f"; did you mean {near[0]!r}?" if near else ""
        return f"{_shown(given)} is not one of {expected}{hint}"
    if kind == "string_pattern_mismatch" and context.get("pattern") in _PATTERNS:
        return f"{_shown(given)}: {_PATTERNS[context['pattern']]}"
    if kind in ("tuple_type", "list_type") and _is_plain(given):
        return f"{_shown(given)}: give a list, such as [{_shown(given)}]"
    if kind in _WITH_LIMIT:
        limits = {name: f"{n:g}" if isinstance(n, float) else n for name, n in context.items()}
        if limits.get("min_length") == 1:
            return "must not be empty"
        return _WITH_LIMIT[kind].format(**limits)
    if kind == "missing":
        return _IN_WORDS[kind]
    if kind in _IN_WORDS:
        return f"{_shown(given)}: {_IN_WORDS[kind]}" if _is_plain(given) else _IN_WORDS[kind]
    return str(problem["msg"]).removeprefix("Value error, ")


def _is_plain(given: object) -> bool:
    return isinstance(given, str | int | float) and not isinstance(given, bool)


def _shown(given: object) -> str:
    text = repr(given)
    return text if len(text) <= 60 else f"{text[:57]}…"


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

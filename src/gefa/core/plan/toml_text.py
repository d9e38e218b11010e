"""Reads TOML from strangers: refuses what would cost a parser minutes or gigabytes."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from gefa.core.errors import PlanError

MAX_DOTS = 20
"""in one key: ``tomllib`` looks at every beginning of a dotted key, for each such key"""
MAX_LEVELS = 64
"""of lists and tables inside each other"""
_SEGMENT = r"""(?:[\w-]++|"[^"\n]*+"|'[^'\n]*+')[ \t]*+"""
_LONG_KEY = re.compile(rf"(?<![\w-]){_SEGMENT}(?:\.[ \t]*+{_SEGMENT}){{{MAX_DOTS + 1},}}")
_BRACKETS = re.compile(r'"(?:\\.|[^"\\\n])*+"|\'[^\'\n]*+\'|#[^\n]*+|([\[{])|([\]}])')


def read_toml(text: str, file: str) -> dict[str, Any]:
    """The tables of a TOML text. PlanError with the place if it is none, or too deep."""
    _refuse_depth(text, file)
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise PlanError(f"is not TOML: {error}.", file=file) from error
    except RecursionError as error:
        raise PlanError("nests lists too deep.", file=file) from error
    except ValueError as error:  # Python converts no number of more than 4,300 digits
        raise PlanError("has a number with thousands of digits.", file=file) from error


def _refuse_depth(text: str, file: str) -> None:
    long = _LONG_KEY.search(text)
    if long is not None:
        line = text.count("\n", 0, long.start()) + 1
        raise PlanError(f"line {line}: a key has more than {MAX_DOTS} dots.", file=file)
    level = 0
    for found in _BRACKETS.finditer(text):
        level += bool(found[1]) - bool(found[2])
        if level > MAX_LEVELS:
            line = text.count("\n", 0, found.start()) + 1
            told = f"line {line}: lists and tables are more than {MAX_LEVELS} levels deep."
            raise PlanError(told, file=file)

"""CSS lengths and media conditions, as ``sizes`` and ``media`` have them: read and worked out.

CSS Values 4 and Media Queries 4, as far as pictures need them: lengths with ``calc()``, ``min()``,
``max()`` and ``clamp()``; ``width``, ``height`` and ``orientation``, with prefixes or comparisons;
``and``, ``or``, ``not``.
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import tinycss2

INITIAL_FONT = 16.0
"""px of ``em`` and ``rem``: conditions always mean the initial font size"""
MAX_TEXT = 4_000
"""characters; pages have some hundred"""
MAX_NESTED = 40
REMEMBERED = 512
"""texts: the pages of a site share a few"""
_FIXED = {
    "px": 1.0, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "q": 96 / 101.6,
    "pt": 96 / 72, "pc": 16.0, "em": INITIAL_FONT, "rem": INITIAL_FONT,
}  # fmt: skip
_COMPARE: dict[str, Callable[[float, float], bool]] = {
    "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge, "=": operator.eq,
}  # fmt: skip
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}
_LOWER_BOUND = ("min-", "max-")


class ConditionError(ValueError):
    """A length or condition that cannot be read; the message says which."""


@dataclass(frozen=True, slots=True)
class Viewport:
    """Width and height in CSS px; ``density`` is device px for each of them."""

    width: float
    height: float = 800.0
    density: float = 1.0


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of ``sizes``: a width, and the condition it is for."""

    holds: Callable[[Viewport], bool]
    width: Callable[[Viewport], float]


@lru_cache(maxsize=REMEMBERED)
def parse_sizes(text: str) -> tuple[Entry, ...]:
    """The entries of a ``sizes`` attribute (WHATWG HTML, 4.8.4.2.2). ConditionError for an entry
    that a browser would ignore."""
    entries = _split(_tokens(text), ",")
    found = [_entry(entry, last=at == len(entries) - 1) for at, entry in enumerate(entries)]
    if not found:
        raise ConditionError("it is empty; 100vw is what a browser takes then.")
    return tuple(found)


def valid_entries(text: str) -> list[Entry]:
    """The entries of a ``sizes`` attribute that a browser uses: invalid ones are ignored."""
    found = []
    try:
        parts = _split(_tokens(text), ",")
    except ConditionError:
        return []
    for part in parts:
        try:
            found.append(_entry(part, last=True))
        except ConditionError:
            continue
    return found


def shown_width(entries: Sequence[Entry], viewport: Viewport) -> float:
    """How wide the picture is, in CSS px: 100vw if no condition holds."""
    found = next((entry for entry in entries if entry.holds(viewport)), None)
    return found.width(viewport) if found else viewport.width


def parse_media(text: str) -> Callable[[Viewport], bool]:
    """Whether a ``media`` attribute holds; an empty one always does."""
    queries = [_query(part) for part in _split(_tokens(text), ",")]
    return lambda viewport: not queries or any(query(viewport) for query in queries)


def _tokens(text: str) -> list[Any]:
    """Split into tokens. Nesting is limited, since the parser recurses for each bracket."""
    if len(text) > MAX_TEXT:
        raise ConditionError(f"it has more than {MAX_TEXT:,} characters.")
    depth = deepest = 0
    for character in text:
        depth += (character in "([{") - (character in ")]}")
        deepest = max(deepest, depth)
    if deepest > MAX_NESTED:
        raise ConditionError(f"it has more than {MAX_NESTED} brackets in each other.")
    return list(tinycss2.parse_component_value_list(text))


def _entry(tokens: list[Any], *, last: bool) -> Entry:
    if not tokens:
        raise ConditionError("an entry is empty: there is a comma too many.")
    *before, end = tokens
    width = _length(end)
    if not before:
        if not last:
            raise ConditionError(
                f"{_text(tokens)!r} has no condition, so what follows it is never reached."
            )
        return Entry(lambda _: True, width)
    return Entry(_condition(before), width)


# -- lengths ----------------------------------------------------------------------------------


def _length(token: Any) -> Callable[[Viewport], float]:
    value = _value(token)
    if value is None or (token.type == "number" and token.value != 0):
        raise ConditionError(
            f"{_text([token])!r} is not a length: write one such as 50vw or 640px."
        )
    return value


def _value(token: Any) -> Callable[[Viewport], float] | None:
    """A number or length; None for anything else."""
    if token.type == "number":
        number = float(token.value)
        return lambda _: number
    if token.type == "dimension":
        return _dimension(float(token.value), token.lower_unit)
    if token.type == "function":
        return _function(token)
    if token.type == "() block":
        return _sum(_without_space(token.content))
    return None


def _dimension(value: float, unit: str) -> Callable[[Viewport], float] | None:
    if unit in _FIXED:
        px = value * _FIXED[unit]
        return lambda _: px
    unit = {"svw": "vw", "lvw": "vw", "dvw": "vw", "svh": "vh", "lvh": "vh", "dvh": "vh"}.get(
        unit, unit
    )
    sides: dict[str, Callable[[Viewport], float]] = {
        "vw": lambda viewport: viewport.width,
        "vh": lambda viewport: viewport.height,
        "vmin": lambda viewport: min(viewport.width, viewport.height),
        "vmax": lambda viewport: max(viewport.width, viewport.height),
    }
    if unit not in sides:
        return None
    side = sides[unit]
    return lambda viewport: value / 100 * side(viewport)


def _function(token: Any) -> Callable[[Viewport], float] | None:
    parts = [_sum(part) for part in _split(token.arguments, ",")]
    if any(part is None for part in parts) or not parts:
        return None
    values = [part for part in parts if part is not None]
    name = token.lower_name
    if name == "calc" and len(values) == 1:
        return values[0]
    if name in ("min", "max"):
        chosen = min if name == "min" else max
        return lambda viewport: chosen(value(viewport) for value in values)
    if name == "clamp" and len(values) == 3:
        low, wanted, high = values
        return lambda viewport: max(low(viewport), min(wanted(viewport), high(viewport)))
    return None


def _sum(tokens: list[Any]) -> Callable[[Viewport], float] | None:
    """Add and subtract products, from left to right."""
    return _chain(tokens, {"+": operator.add, "-": operator.sub}, _product)


def _product(tokens: list[Any]) -> Callable[[Viewport], float] | None:
    return _chain(tokens, {"*": operator.mul, "/": operator.truediv}, _single)


def _single(tokens: list[Any]) -> Callable[[Viewport], float] | None:
    return _value(tokens[0]) if len(tokens) == 1 else None


def _chain(
    tokens: list[Any],
    signs: dict[str, Callable[[float, float], float]],
    inner: Callable[[list[Any]], Callable[[Viewport], float] | None],
) -> Callable[[Viewport], float] | None:
    terms: list[list[Any]] = [[]]
    used: list[Callable[[float, float], float]] = []
    for token in tokens:
        if token.type == "literal" and token.value in signs:
            used.append(signs[token.value])
            terms.append([])
        else:
            terms[-1].append(token)
    values = [inner(term) if term else None for term in terms]
    if any(value is None for value in values):
        return None

    def worked_out(viewport: Viewport) -> float:
        first, *rest = (value(viewport) for value in values if value is not None)
        for apply, value in zip(used, rest, strict=True):
            try:
                first = apply(first, value)
            except ZeroDivisionError:
                return 0.0
        return first

    return worked_out


# -- conditions -------------------------------------------------------------------------------


def _query(tokens: list[Any]) -> Callable[[Viewport], bool]:
    """One media query: a condition, or a medium with or without one."""
    words = [token.lower_value if token.type == "ident" else "" for token in tokens]
    if words[:1] == ["only"]:
        tokens, words = tokens[1:], words[1:]
    if words[:1] in (["screen"], ["all"]):
        if len(tokens) == 1:
            return lambda _: True
        if words[1] != "and":
            raise ConditionError(f"{_text(tokens)!r}: after the medium comes 'and'.")
        tokens = tokens[2:]
    elif words[:1] == ["print"]:
        return lambda _: False
    return _condition(tokens)


def _condition(tokens: list[Any]) -> Callable[[Viewport], bool]:
    words = [token.lower_value if token.type == "ident" else "" for token in tokens]
    if words[:1] == ["not"]:
        inner = _condition(tokens[1:])
        return lambda viewport: not inner(viewport)
    joins = {word for word in words if word}
    if joins in ({"and"}, {"or"}) and len(tokens) % 2:
        parts = [_in_brackets(token) for token in tokens[::2]]
        every = joins == {"and"}
        return lambda viewport: (all if every else any)(part(viewport) for part in parts)
    if len(tokens) != 1:
        raise ConditionError(
            f"{_text(tokens)!r} is not a condition: write one such as (max-width: 700px)."
        )
    return _in_brackets(tokens[0])


def _in_brackets(token: Any) -> Callable[[Viewport], bool]:
    if token.type != "() block":
        raise ConditionError(f"{_text([token])!r} is not a condition: put it in brackets.")
    inside = _without_space(token.content)
    if (inside and inside[0].type in ("() block",)) or _is_word(inside[:1], "not"):
        return _condition(inside)
    colon = next((at for at, t in enumerate(inside) if t == ":"), None)
    return _prefixed(inside, colon) if colon is not None else _compared(inside)


def _is_word(tokens: list[Any], word: str) -> bool:
    return bool(tokens) and tokens[0].type == "ident" and tokens[0].lower_value == word


def _feature(name: str) -> Callable[[Viewport], float]:
    if name not in ("width", "height"):
        raise ConditionError(f"{name!r} does not choose pictures: use width.")
    return lambda viewport: viewport.width if name == "width" else viewport.height


def _prefixed(inside: list[Any], colon: int) -> Callable[[Viewport], bool]:
    if colon != 1 or inside[0].type != "ident" or len(inside) != 3:
        raise ConditionError(f"{_text(inside)!r} is not a condition.")
    name, value = inside[0].lower_value, inside[2]
    if name == "orientation" and value.type == "ident":
        landscape = value.lower_value == "landscape"
        return lambda viewport: (viewport.width > viewport.height) is landscape
    prefix = name[:4] if name.startswith(_LOWER_BOUND) else ""
    feature, length = _feature(name[len(prefix) :]), _length(value)
    compare = {"min-": operator.ge, "max-": operator.le, "": operator.eq}[prefix]
    return lambda viewport: bool(compare(feature(viewport), length(viewport)))


def _compared(inside: list[Any]) -> Callable[[Viewport], bool]:
    """``width >= 700px``, or ``400px <= width < 700px``."""
    signs, terms = _comparison(inside)
    named = [at for at, term in enumerate(terms) if term.type == "ident"]
    if not signs or len(named) != 1 or len(terms) > 3:
        raise ConditionError(
            f"{_text(inside)!r} is not a condition: write one such as (max-width: 700px)."
        )
    at = named[0]
    feature = _feature(terms[at].lower_value)
    checks = []
    for index, sign in enumerate(signs):
        if index not in (at - 1, at):
            raise ConditionError(f"{_text(inside)!r} is not a condition.")
        other = _length(terms[index if index < at else index + 1])
        compare = _COMPARE[_TURNED[sign] if index < at else sign]
        checks.append((compare, other))
    return lambda viewport: all(
        compare(feature(viewport), other(viewport)) for compare, other in checks
    )


def _comparison(inside: list[Any]) -> tuple[list[str], list[Any]]:
    signs: list[str] = []
    terms: list[Any] = []
    for token in inside:
        if token.type == "literal" and token.value in ("<", ">", "=", "<=", ">="):
            if token.value == "=" and signs and len(signs) > len(terms) - 1:
                signs[-1] += "="
            else:
                signs.append(token.value)
        else:
            terms.append(token)
    if len(terms) != len(signs) + 1 or any(sign not in _COMPARE for sign in signs):
        return [], terms
    return signs, terms


def _without_space(tokens: Sequence[Any]) -> list[Any]:
    found = []
    for token in tokens:
        if token.type == "error":
            raise ConditionError(f"it cannot be read: {token.message}.")
        if token.type not in ("whitespace", "comment"):
            found.append(token)
    return found


def _split(tokens: Sequence[Any], by: str) -> list[list[Any]]:
    parts: list[list[Any]] = [[]]
    for token in _without_space(tokens):
        if token == by:
            parts.append([])
        else:
            parts[-1].append(token)
    return [] if parts == [[]] else parts


def _text(tokens: Sequence[Any]) -> str:
    return " ".join(str(token.serialize()) for token in tokens)[:80]

"""Exceptions in a layer's name: the words ``key=value`` after a tag."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from difflib import get_close_matches
from typing import Any

from pydantic import ValidationError

from gefa.core.cut.shown_size import ShownSize, Unit
from gefa.core.errors import PlanError
from gefa.core.plan.plan import CutEntry
from gefa.core.plan.problems import problems_in_words
from gefa.core.treat.formats import FORMATS, Format

_LENGTH = re.compile(r"(\d{1,6}(?:\.\d{1,4})?)(px|mm|cm|in)?")
_ALSO = {"jpg": "jpeg"}
"""other names of formats"""


@dataclass
class TagWords:
    """The settings in the words after a tag, as fields of a plan's entry; ``problems`` lists words
    that could not be read."""

    entry: CutEntry
    problems: list[str] = field(default_factory=list)

    @property
    def own(self) -> dict[str, Any]:
        """The fields that were set."""
        return {
            name: getattr(self.entry, name)
            for name in self.entry.model_fields_set
            if name not in ("part", "recipe")
        }


def read_words(part: str, words: str) -> TagWords:
    """Read the words after a tag of the part at that path. A word with a mistake costs no other
    word."""
    found = TagWords(CutEntry(part=part))
    sizes: dict[str, Any] = {}
    for word in words.split():
        key, _, value = word.partition("=")
        try:
            if key in _SIZES:
                sizes = sizes | _SIZES[key](key, value)
                if "unit" in sizes:  # a resolution may come before the side it is for
                    found.entry = _with(found.entry, "size", ShownSize.model_validate(sizes))
            elif key in _FIELDS:
                name, read = _FIELDS[key]
                if name in found.entry.model_fields_set:
                    found.problems.append(f"{word!r} replaces an earlier word of the tag.")
                found.entry = _with(found.entry, name, read(value))
            else:
                found.problems.append(f"{word!r}: there is no {key!r} here.{_closest(key)}")
        except ValidationError as error:
            found.problems.append(f"{word!r}: {_reason(error)}.")
        except (PlanError, ValueError) as error:
            found.problems.append(f"{word!r}: {error}.")
    if "dpi" in sizes and found.entry.size is None:
        found.problems.append("'dpi' needs a width or a height in mm, cm or in beside it.")
    return found


def _with(entry: CutEntry, name: str, value: Any) -> CutEntry:
    return CutEntry.model_validate({**entry.model_dump(exclude_unset=True), name: value})


def _reason(error: ValidationError) -> str:
    told = problems_in_words(error)[0]
    return told.rpartition(": ")[2] or told


def _closest(key: str) -> str:
    close = get_close_matches(key.lower(), [*_FIELDS, *_SIZES], n=1, cutoff=0.5)
    if close:
        return f" Did you mean {close[0]!r}?"
    return f" Known: {', '.join(sorted([*_FIELDS, *_SIZES]))}."


def _number(value: str) -> float:
    try:
        return float(value)
    except ValueError:
        raise ValueError("give a number") from None


def _whole(value: str) -> int:
    if not (value.isascii() and value.isdecimal() and len(value) < 10):
        raise ValueError("give a whole number")
    return int(value)


def _format(value: str) -> Format:
    try:
        return Format(_ALSO.get(value.lower(), value.lower()))
    except ValueError:
        known = ", ".join(format.value for format in Format)
        raise ValueError(f"{value!r} is not a format; use one of {known}") from None


def _quality(value: str) -> dict[Format, int]:
    """``75`` for all formats with a quality number, or ``avif:55,webp:75``."""
    if ":" not in value:
        lossy = [format for format, row in FORMATS.items() if row.lossy]
        return dict.fromkeys(lossy, _of_100(value))
    pairs = (pair.partition(":") for pair in value.split(","))
    return {_format(format): _of_100(number) for format, _, number in pairs}


def _of_100(value: str) -> int:
    number = _whole(value)
    if not 1 <= number <= 100:
        raise ValueError("give a quality from 1 to 100")
    return number


def _formats(value: str) -> object:
    return "auto" if value.lower() == "auto" else tuple(map(_format, value.split(",")))


def _media(value: str) -> str:
    """``max-width:600px`` as a media condition; several, separated by commas, are joined by
    ``and``."""
    parts = [part.strip("()").replace(":", ": ") for part in value.split(",")]
    return " and ".join(f"({part})" for part in parts)


def _side(key: str, value: str) -> dict[str, Any]:
    found = _LENGTH.fullmatch(value)
    if not found:
        raise ValueError("write a length such as 96, 96px, 60mm, 6cm or 2.5in")
    return {key: float(found[1]), "unit": Unit(found[2] or "px")}


def _resolution(value: str) -> float:
    number = _number(value)
    if not 1 <= number <= 10_000:
        raise ValueError("give 1 to 10,000 dots per inch")
    return number


_FIELDS: dict[str, tuple[str, Callable[[str], object]]] = {
    "look": ("quality", lambda value: {"look": _number(value)}),
    "max_bytes": ("quality", lambda value: {"max_bytes": _whole(value)}),
    "quality": ("quality", _quality),
    "widths": ("widths", lambda value: tuple(map(_whole, value.split(",")))),
    "formats": ("formats", _formats),
    "name": ("name", str),
    "picture": ("picture", str),
    "media": ("media", lambda value: _media(value)),
}
_SIZES: dict[str, Callable[[str, str], dict[str, Any]]] = {
    "width": _side,
    "height": _side,
    "dpi": lambda key, value: {key: _resolution(value)},
}

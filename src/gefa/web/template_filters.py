"""Numbers as the pages show them, as filters for templates."""

from __future__ import annotations

from datetime import datetime

from gefa.core.treat.formats import FORMATS, Format
from gefa.core.units import percent, weight


def count(number: int, one: str, many: str = "") -> str:
    """``1 file``, ``12 files``."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def duration(seconds: float) -> str:
    """``8 s``, ``2 min 5 s``."""
    whole = max(0, round(seconds))
    if whole < 60:
        return f"{whole} s"
    minutes, rest = divmod(whole, 60)
    return f"{minutes} min {rest} s" if rest else f"{minutes} min"


def moment(time: datetime) -> str:
    """A UTC time to the minute."""
    return f"{time:%Y-%m-%d %H:%M} UTC"


def label(format: str) -> str:
    """A format as people write it."""
    return FORMATS[Format(format)].label


def pair_of_format(format: Format) -> tuple[str, str]:
    """For a list of choices: a format's name in addresses, and as people write it."""
    return format.value, FORMATS[format].label


def pair(word: str) -> tuple[str, str]:
    """For a list of choices: a word that stands for itself."""
    return word, word


FILTERS = {
    "weight": weight,
    "percent": percent,
    "duration": duration,
    "moment": moment,
    "label": label,
    "pair": pair,
    "pair_of_format": pair_of_format,
}

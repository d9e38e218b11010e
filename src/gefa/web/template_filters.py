"""Numbers and times as the pages show them, as filters for templates."""

from __future__ import annotations

import re
from datetime import UTC, datetime

from markupsafe import Markup

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


def exact(time: datetime) -> str:
    """A UTC time to the minute."""
    return f"{time:%Y-%m-%d %H:%M} UTC"


def moment(time: datetime) -> Markup:
    """A UTC time as people say it, ``5 min ago``, with the exact time on hover."""
    utc = time if time.tzinfo else time.replace(tzinfo=UTC)
    return Markup('<time datetime="{}" title="{}">{}</time>').format(
        f"{utc:%Y-%m-%dT%H:%M:%SZ}", exact(utc), relative(utc, datetime.now(UTC))
    )


def relative(time: datetime, now: datetime) -> str:
    """How long ago, or in how long: ``just now``, ``3 h ago``, ``in 2 days``; the date beyond a
    week."""
    seconds = (now - time).total_seconds()
    away = abs(seconds)
    if away < JUST_NOW:
        return "just now" if seconds >= 0 else "in a moment"
    if away < HOUR:
        told = f"{max(1, int(away // 60))} min"
    elif away < DAY:
        told = f"{int(away // HOUR)} h"
    elif away < WEEK:
        told = count(int(away // DAY), "day")
    else:
        return f"{time.day} {time:%b %Y}" if time.year != now.year else f"{time.day} {time:%b}"
    return f"{told} ago" if seconds >= 0 else f"in {told}"


def with_units(html: str) -> str:
    """A page whose numbers stay on a line with their units, joined by a narrow no-break space. Text
    to copy or edit stays unchanged."""
    return _UNIT.sub(_kept_together, html)


def _kept_together(found: re.Match[str]) -> str:
    _, number, unit = found.groups()
    return f"{number}\N{NARROW NO-BREAK SPACE}{unit}" if unit else found[0]


def label(format: str) -> str:
    """A format's name for people."""
    return FORMATS[Format(format)].label


def pair_of_format(format: Format) -> tuple[str, str]:
    """For a select: a format's name in addresses, and its name for people."""
    return format.value, FORMATS[format].label


def pair(word: str) -> tuple[str, str]:
    """For a select: a word that is both value and label."""
    return word, word


JUST_NOW, HOUR, DAY, WEEK = 45, 3_600, 86_400, 7 * 86_400
"""seconds"""
_UNIT = re.compile(
    r"<(textarea|pre|code|script|style)\b.*?</\1\s*>|<[^>]*>"
    r"|(\d) (px|kB|MB|GB|%|s|min|h|dpi|mm|cm)(?!\w)",
    re.DOTALL,
)
"""text to leave alone, or a number and its unit"""


FILTERS = {
    "weight": weight,
    "percent": percent,
    "duration": duration,
    "moment": moment,
    "exact": exact,
    "label": label,
    "pair": pair,
    "pair_of_format": pair_of_format,
}

"""Numbers as people read them. One place, so that they look the same everywhere."""

from __future__ import annotations

from datetime import datetime


def weight(size: float | None) -> str:
    """Bytes as kB of 1,000, or MB from a million; one decimal where it says something."""
    if size is None:
        return "–"
    if size < 1_000_000:
        kilo = size / 1000
        return f"{kilo:.1f} kB" if kilo < 100 else f"{kilo:,.0f} kB"
    mega = size / 1_000_000
    return f"{mega:.2f} MB" if mega < 10 else f"{mega:,.1f} MB"


def percent(share: float) -> str:
    """A share (1 is all) in whole per cent; below one per cent says so."""
    if 0 < share < 0.01:
        return "under 1 %"
    return f"{share * 100:.0f} %"


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


FILTERS = {"weight": weight, "percent": percent, "duration": duration, "moment": moment}

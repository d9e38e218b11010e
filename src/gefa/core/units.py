"""Formats numbers, bytes and times for people. Nothing else does."""

from __future__ import annotations


def weight(size: float | None) -> str:
    """Bytes in kB (1,000), MB or GB, with a decimal where it says something."""
    if size is None:
        return "–"
    if size < 1_000_000:
        kilo = size / 1000
        return f"{kilo:.1f} kB" if kilo < 100 else f"{kilo:,.0f} kB"
    if size >= 10_000_000_000:
        return f"{size / 1_000_000_000:,.1f} GB"
    mega = size / 1_000_000
    return f"{mega:.2f} MB" if mega < 10 else f"{mega:,.1f} MB"


def percent(share: float) -> str:
    """A share (1 is all) in whole per cent; below one per cent says so."""
    if 0 < share < 0.01:
        return "under 1 %"
    return f"{share * 100:.0f} %"


def listed(words: list[str]) -> str:
    """``A``, ``A and B``, ``A, B and C``."""
    return " and ".join(filter(None, [", ".join(words[:-1]), *words[-1:]]))

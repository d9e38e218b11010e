"""HTML that lets a browser choose the right variant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from itertools import groupby
from urllib.parse import quote

from gefa.core.geometry import Size
from gefa.core.treat.formats import FORMATS, ORDER, Format


@dataclass(frozen=True, slots=True)
class Offer:
    """A variant as the markup needs it: its URL, format and width in px."""

    url: str
    format: Format
    width: int
    height: int
    moves: bool = False


def default_sizes(shown: Size) -> str:
    """The picture fills the window until it has its natural width."""
    return f"(max-width: {shown.width}px) 100vw, {shown.width}px"


def picture(
    offers: Sequence[Offer],
    shown: Size,
    alt: str,
    *,
    sizes: str = "",
    lazy: bool = True,
    densities: bool = False,
) -> str:
    """A ``<picture>`` with a ``<source>`` for each format and an ``<img>`` in the last one.

    ``shown`` is the natural size in px; it gives ``width`` and ``height``, so that nothing
    jumps. ``sizes`` is the attribute of that name, by default ``default_sizes``. With
    ``densities`` the picture is always shown that wide, and the variants are told by pixels for
    each CSS px. WHATWG HTML, 4.8.1 and 4.8.4.2.
    """
    if not offers:
        return ""
    by_format = _by_format(_worth_offering(offers))
    *sources, (_, fallback) = by_format
    per = shown.width if densities else None
    sized = "" if densities else f' sizes="{escape(sizes or default_sizes(shown))}"'
    lines = ["<picture>"]
    lines += [
        f'  <source type="{FORMATS[format].media_type}" srcset="{_srcset(variants, per)}"{sized}>'
        for format, variants in sources
    ]
    middle = fallback[0] if densities else _plain_choice(fallback)
    loading = "lazy" if lazy else "eager"
    lines += [
        f'  <img src="{escape(_url(middle.url))}" srcset="{_srcset(fallback, per)}"{sized}',
        f'       width="{shown.width}" height="{shown.height}" alt="{escape(alt)}"'
        f' loading="{loading}" decoding="async">',
        "</picture>",
    ]
    return "\n".join(lines)


def _worth_offering(offers: Sequence[Offer]) -> Sequence[Offer]:
    """Where some files move, a still of a modern format would be chosen before them: only the
    fallback may be one."""
    if not any(offer.moves for offer in offers):
        return offers
    return [offer for offer in offers if offer.moves or not FORMATS[offer.format].modern]


def plain_box(css: str, shown: Size) -> str:
    """An element that CSS draws by itself, in the ratio of ``shown`` px."""
    ratio = f"aspect-ratio: {shown.width} / {shown.height}; max-width: {shown.width}px"
    return f'<div style="{escape(css)}; {ratio}"></div>'


def _by_format(offers: Sequence[Offer]) -> list[tuple[Format, list[Offer]]]:
    """Newest format first, and a fallback that every browser shows last; widths ascending."""
    ordered = sorted(offers, key=lambda offer: (ORDER.index(offer.format), offer.width))
    return [(format, list(group)) for format, group in groupby(ordered, lambda o: o.format)]


def _plain_choice(offers: Sequence[Offer]) -> Offer:
    """For browsers without ``srcset``: the middle of the ladder."""
    return offers[len(offers) // 2]


def _srcset(offers: Sequence[Offer], per: int | None = None) -> str:
    """By width, or by density where they are shown ``per`` CSS px wide."""
    told = [f"{o.width}w" if per is None else f"{o.width / per:.3g}x" for o in offers]
    return escape(", ".join(f"{_url(o.url)} {w}" for o, w in zip(offers, told, strict=True)))


def _url(path: str) -> str:
    return quote(path, safe="/:?=&#%")

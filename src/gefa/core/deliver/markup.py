"""HTML that lets a browser choose the right variant."""

from __future__ import annotations

import json
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


@dataclass(frozen=True, slots=True)
class MediaCase:
    """The files to show where ``media`` matches (empty: everywhere else), with their natural size
    in px and their ``sizes``."""

    offers: Sequence[Offer]
    size: Size
    sizes: str
    media: str = ""


@dataclass(frozen=True, slots=True)
class ImgBehaviour:
    """Behaviour of the ``<img>``: ``lazy``; ``colour`` (#rrggbb) and ``tiny`` (a data URI) show
    until the picture has loaded; ``mask`` is CSS, ``css_class`` a class."""

    lazy: bool = True
    colour: str = ""
    tiny: str = ""
    mask: str = ""
    css_class: str = ""

    @property
    def style(self) -> str:
        """CSS declarations."""
        told = []
        if self.colour or self.tiny:
            picture = f" url({self.tiny}) center / cover no-repeat" if self.tiny else ""
            told.append(f"background: {self.colour}{picture}")
        if self.mask:
            told.append(self.mask)
        return "; ".join(told)


def default_sizes(shown: Size) -> str:
    """The picture fills the window, up to its natural width."""
    return f"(max-width: {shown.width}px) 100vw, {shown.width}px"


def picture(
    offers: Sequence[Offer],
    shown: Size,
    alt: str | None,
    *,
    sizes: str = "",
    lazy: bool = True,
    densities: bool = False,
) -> str:
    """A ``<picture>`` with a ``<source>`` for each format, and an ``<img>`` with the last one.

    ``shown`` is the natural size in px, for ``width`` and ``height``, so nothing jumps. ``sizes``
    defaults to ``default_sizes``. With ``densities`` the picture always has that width, and
    ``srcset`` names pixel densities. WHATWG HTML, 4.8.1 and 4.8.4.2.
    """
    if not offers:
        return ""
    one = MediaCase(offers, shown, sizes or default_sizes(shown))
    return directed([one], alt, ImgBehaviour(lazy=lazy), densities=densities)


def directed(
    shown: Sequence[MediaCase],
    alt: str | None,
    dress: ImgBehaviour | None = None,
    *,
    densities: bool = False,
) -> str:
    """A ``<picture>`` with a case of ``shown`` for each media condition; the last case has no
    condition and becomes the ``<img>``. ``alt`` is empty for a decorative picture. Where it is not
    known, None, the attribute is left out, so that checkers of a page find it missing."""
    *_, last = shown
    parts = [(one, group) for one in shown for group in by_format(worth_offering(one.offers))]
    *sources, (_, (_, fallback)) = parts
    per = last.size.width if densities else None
    if not sources and _is_drawn(fallback):
        return f"{_plain_img(fallback[0], last, alt)}{_behaviour(dress or ImgBehaviour())}>"
    lines = ["<picture>"]
    for one, (format, offers) in sources:
        media = f' media="{escape(one.media)}"' if one.media else ""
        box = f' width="{one.size.width}" height="{one.size.height}"' if one.media else ""
        lines.append(
            f'  <source{media} type="{FORMATS[format].media_type}"'
            f' srcset="{srcset(offers, per)}"{_sized(one, densities)}{box}>'
        )
    middle = fallback[0] if densities else _plain_choice(fallback)
    lines += [
        f'  <img src="{escape(quoted_url(middle.url))}" srcset="{srcset(fallback, per)}"'
        f"{_sized(last, densities)}",
        f'       width="{last.size.width}" height="{last.size.height}"{_alt_attribute(alt)}'
        f"{_behaviour(dress or ImgBehaviour())}>",
        "</picture>",
    ]
    return "\n".join(lines)


def _sized(one: MediaCase, densities: bool) -> str:
    return "" if densities or _is_drawn(one.offers) else f' sizes="{escape(one.sizes)}"'


def _plain_img(offer: Offer, one: MediaCase, alt: str | None) -> str:
    """An ``<img>`` with the one file for all widths, up to its ``loading``."""
    size = f'width="{one.size.width}" height="{one.size.height}"'
    return f'<img src="{escape(quoted_url(offer.url))}" {size}{_alt_attribute(alt)}'


def _alt_attribute(alt: str | None) -> str:
    return "" if alt is None else f' alt="{escape(alt)}"'


def _is_drawn(offers: Sequence[Offer]) -> bool:
    return any(FORMATS[offer.format].drawn for offer in offers)


def _behaviour(dress: ImgBehaviour) -> str:
    loading = ' loading="lazy"' if dress.lazy else ' loading="eager" fetchpriority="high"'
    style = f' style="{escape(dress.style)}"' if dress.style else ""
    classes = f' class="{escape(dress.css_class)}"' if dress.css_class else ""
    return f'{loading} decoding="async"{classes}{style}'


def preload(shown: Sequence[MediaCase]) -> str:
    """``<link>`` elements that preload the picture in its newest format. A browser uses the first
    ``<source>`` that matches, but every ``<link>`` that matches: so each link repeats the
    conditions before it, negated. CSS cannot negate a condition that names a medium; the cases
    after such a one get no link."""
    lines: list[str] = []
    before: list[str] = []
    for one in shown:
        own = [f"({one.media})"] if before and one.media else [one.media] * bool(one.media)
        media = " and ".join([*(f"(not ({m}))" for m in before), *own])
        format, offers = by_format(worth_offering(one.offers))[0]
        lines.append(
            f'<link rel="preload" as="image" type="{FORMATS[format].media_type}"'
            + (f' media="{escape(media)}"' if media else "")
            + f' imagesrcset="{srcset(offers)}" imagesizes="{escape(one.sizes)}"'
            ' fetchpriority="high">'
        )
        if "," in one.media or not one.media.startswith(("(", "not (")):
            break
        before.append(one.media)
    return "\n".join(lines)


def image_set(offers: Sequence[Offer], width: int) -> str:
    """CSS declarations of a background that is ``width`` CSS px wide: a fallback, then
    ``image-set()`` by format and density. CSS Images 4, 5."""
    groups = by_format(worth_offering(offers))
    plain = _at_least(groups[-1][1], width)
    choices = [
        f'url("{quoted_url(_at_least(offers, width * density).url)}") {density}x'
        f' type("{FORMATS[format].media_type}")'
        for format, offers in groups
        for density in (1, 2)
    ]
    listed = ",\n    ".join(choices)
    return (
        f'background-image: url("{quoted_url(plain.url)}");\n'
        f"background-image: image-set(\n    {listed}\n);"
    )


def _at_least(offers: Sequence[Offer], width: int) -> Offer:
    """The narrowest that is wide enough, else the widest."""
    return next((offer for offer in offers if offer.width >= width), offers[-1])


def jinja_macro(name: str, shown: Sequence[MediaCase], alt: str | None, dress: ImgBehaviour) -> str:
    """The picture as a Jinja macro with the parameters ``alt`` and ``loading``. Without ``alt``,
    whoever calls the macro has to give one."""
    html = directed(shown, _HERE, dress).replace(_HERE, "{{ alt | e }}")
    html = html.replace('loading="lazy"', 'loading="{{ loading }}"')
    html = html.replace('loading="eager"', 'loading="{{ loading }}"')
    loading = "lazy" if dress.lazy else "eager"
    # JSON texts are also texts of Jinja, and these hold nothing that ends a block.
    told = json.dumps(alt).replace("{", "\\u007b").replace("}", "\\u007d").replace("%", "\\u0025")
    usual = "" if alt is None else f"={told}"
    return f'{{% macro {name}(alt{usual}, loading="{loading}") -%}}\n{html}\n{{%- endmacro %}}'


_HERE = "the-alternative-text-comes-here"


def as_data(shown: Sequence[MediaCase], alt: str | None, dress: ImgBehaviour) -> dict[str, object]:
    """The picture as plain values, for programs that write their own markup."""
    *_, last = shown
    return {
        "alt": alt,
        "width": last.size.width,
        "height": last.size.height,
        "colour": dress.colour,
        "tiny": dress.tiny,
        "sources": [
            {
                "media": one.media,
                "type": FORMATS[format].media_type,
                "sizes": one.sizes,
                "width": one.size.width,
                "height": one.size.height,
                "files": [{"url": quoted_url(offer.url), "width": offer.width} for offer in offers],
            }
            for one in shown
            for format, offers in by_format(worth_offering(one.offers))
        ],
    }


def worth_offering(offers: Sequence[Offer]) -> Sequence[Offer]:
    """Leave out stills in modern formats where other files are animated: a browser would choose the
    still. A drawing serves all widths alone."""
    if _is_drawn(offers):
        return [offer for offer in offers if FORMATS[offer.format].drawn]
    if not any(offer.moves for offer in offers):
        return offers
    return [offer for offer in offers if offer.moves or not FORMATS[offer.format].modern]


def plain_box(css: str, shown: Size) -> str:
    """An element that CSS paints, with the ratio of ``shown`` px."""
    ratio = f"aspect-ratio: {shown.width} / {shown.height}; max-width: {shown.width}px"
    return f'<div style="{escape(css)}; {ratio}"></div>'


def by_format(offers: Sequence[Offer]) -> list[tuple[Format, list[Offer]]]:
    """Files by format, newest first, the fallback for every browser last; widths ascending."""
    ordered = sorted(offers, key=lambda offer: (ORDER.index(offer.format), offer.width))
    return [(format, list(group)) for format, group in groupby(ordered, lambda o: o.format)]


def _plain_choice(offers: Sequence[Offer]) -> Offer:
    """For browsers without ``srcset``: the middle of the ladder."""
    return offers[len(offers) // 2]


def srcset(offers: Sequence[Offer], per: int | None = None) -> str:
    """By width, or by density if the picture is always ``per`` CSS px wide; a drawing needs
    neither."""
    if _is_drawn(offers):
        return escape(quoted_url(offers[0].url))
    told = [f"{o.width}w" if per is None else f"{o.width / per:.3g}x" for o in offers]
    return escape(", ".join(f"{quoted_url(o.url)} {w}" for o, w in zip(offers, told, strict=True)))


def quoted_url(path: str) -> str:
    """A path, quoted for markup."""
    return quote(path, safe="/:?=&#%")

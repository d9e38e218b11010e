"""Which file a browser loads of a ``<picture>``."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from gefa.core.conditions import Viewport, parse_media, parse_sizes, shown_width
from gefa.core.deliver.markup import MediaCase, Offer, by_format
from gefa.core.treat.formats import FORMATS, Format


def loaded(
    shown: Sequence[MediaCase], viewport: Viewport, formats: Collection[Format] = tuple(Format)
) -> Offer:
    """The file that a browser with these ``formats`` loads in this viewport.

    The first of ``shown`` whose media condition matches, in the newest format (WHATWG HTML,
    4.8.4.3); ``picked`` chooses among its candidates.
    """
    here = next((one for one in shown if parse_media(one.media)(viewport)), shown[-1])
    offers = next(
        (
            offers
            for format, offers in by_format(here.offers)
            if format in formats or not FORMATS[format].modern
        ),
        by_format(here.offers)[-1][1],
    )
    width = shown_width(parse_sizes(here.sizes), viewport)
    return picked(offers, width, viewport.density)


def picked(offers: Sequence[Offer], width: float, density: float) -> Offer:
    """The file that a browser picks for ``width`` CSS px at ``density``, among files of one format:
    the narrowest with enough pixels, else the widest.

    HTML leaves it to the browser (4.8.4.3.4); this is what Chromium does.
    """
    ascending = sorted(offers, key=lambda offer: offer.width)
    width = max(width, 1e-6)
    return next((offer for offer in ascending if offer.width / width >= density), ascending[-1])

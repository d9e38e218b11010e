"""Which sizes a recipe makes of a picture."""

from __future__ import annotations

from collections.abc import Iterable

from gefa.core.geometry import Size, height_for


def ladder(natural: Size, widths: Iterable[int], scalable: bool = False) -> list[Size]:
    """The sizes to make, in px, smallest first; ratio kept, heights at least 1 px.

    Nothing is enlarged: widths at or beyond the natural width become one file at the natural
    width. A scalable part is drawn at every width asked for.
    """
    wanted = sorted(set(widths))
    if not scalable:
        wanted = sorted({min(width, natural.width) for width in wanted})
    return [Size(width, height_for(natural, width)) for width in wanted]

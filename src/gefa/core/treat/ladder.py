"""Which sizes a recipe makes of a picture."""

from __future__ import annotations

from collections.abc import Iterable

from gefa.core.geometry import Size, height_for


def ladder(
    natural: Size,
    widths: Iterable[int],
    scalable: bool = False,
    *,
    ratio: float | None = None,
    stretched: bool = False,
    apart: float = 0.0,
) -> list[Size]:
    """The sizes to make, in px, smallest first; ratio kept, heights at least 1 px.

    Nothing is enlarged: widths at or beyond the natural width become one file at the natural
    width, and so does one that is less than ``apart`` (a share of the natural width, 0..1) below.
    A scalable part is drawn at every width asked for. With ``ratio`` each width is that of a box of
    this ratio which the picture is fitted into, or ``stretched`` to.
    """
    sizes = [_fitted(natural, width, ratio, stretched) for width in sorted(set(widths))]
    if not scalable:
        sizes = [_no_larger(size, natural) for size in sizes]
        nearest = (1 - apart) * natural.width
        sizes = [natural if apart and size.width > nearest else size for size in sizes]
    return list(dict.fromkeys(sizes))


def _fitted(natural: Size, width: int, ratio: float | None, stretched: bool) -> Size:
    if ratio is None:
        return Size(width, height_for(natural, width))
    height = max(1, round(width / ratio))
    if stretched:
        return Size(width, height)
    narrower = min(width, max(1, round(height * natural.width / natural.height)))
    return Size(narrower, min(height, height_for(natural, narrower)))


def _no_larger(size: Size, natural: Size) -> Size:
    """The size, reduced until neither side is longer than the natural one."""
    share = min(1.0, natural.width / size.width, natural.height / size.height)
    if share == 1.0:
        return size
    if size.height == height_for(natural, size.width):
        return natural
    return Size(max(1, round(size.width * share)), max(1, round(size.height * share)))

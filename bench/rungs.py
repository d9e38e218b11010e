"""A picture at the widths of a ladder, as encoders get it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import pyvips

from gefa.core.geometry import Rect, Size
from gefa.core.read.document import Document, Part
from gefa.core.treat.pictures import Pictures


def rungs(
    document: Document, part: Part, region: Rect, sizes: Sequence[Size]
) -> Iterator[tuple[Size, pyvips.Image]]:
    """The plain picture at each of ``sizes`` (px), in their order."""
    widest = max(sizes, key=lambda size: (size.width, size.height))
    pictures = Pictures(document, part, region, widest)
    for size in sizes:
        yield size, pictures.at(size)

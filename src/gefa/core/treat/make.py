"""One part through one recipe: decoded once, every size made from it, every format of each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import pyvips

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import drop_opaque_alpha, on_matte, resize
from gefa.core.read.document import Document, Part
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import AlphaPolicy, Recipe


def rungs(
    document: Document, part: Part, region: Rect, sizes: Sequence[Size], *, whole: bool = True
) -> Iterator[tuple[Size, pyvips.Image]]:
    """The picture at each of ``sizes`` (px), in memory, in their order.

    ``whole`` false leaves the part's strays out.
    """
    if part.scalable:
        for size in sizes:
            # A distorted drawing is drawn large enough for its longer stretch.
            width = max(size.width, -(-size.height * region.width // region.height))
            drawn = document.render(part, region, width, whole=whole)
            yield size, resize(drop_opaque_alpha(drawn), size).copy_memory()
        return
    widest = max(max(size.width, -(-size.height * region.width // region.height)) for size in sizes)
    base = drop_opaque_alpha(document.render(part, region, widest, whole=whole))
    for size in sizes:
        yield size, resize(base, size).copy_memory()


def fit_alpha(image: pyvips.Image, format: Format, recipe: Recipe) -> pyvips.Image:
    """The picture as ``format`` may have it under the recipe's transparency policy."""
    if recipe.alpha is AlphaPolicy.MATTE or not FORMATS[format].alpha:
        return on_matte(image, recipe.matte)
    return image


def baseline_bytes(document: Document, widest: pyvips.Image) -> int:
    """What savings are measured against, in bytes: the picture's own file, or for a part of a
    design the same pixels as PNG, at the largest width that is made."""
    if document.stored_bytes is not None:
        return document.stored_bytes
    return len(encode(widest, Format.PNG, None))

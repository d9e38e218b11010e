"""How large a source may be before it is refused rather than read."""

from __future__ import annotations

from gefa.core.errors import SourceError
from gefa.core.geometry import Size

MAX_SIDE = 100_000
"""px"""
MAX_MEGAPIXELS = 500.0
"""five times the largest picture we expect; a worker holds only tiles of it"""
MAX_WHOLE_MEGAPIXELS = 150.0
"""of pictures that can only be decoded whole: 4 bytes a pixel, and 8 while decoding"""
MAX_PRIMITIVES = 100
"""of one filter of a drawing: each one draws the filter's whole region again"""
MAX_FILTER_WORK = 150.0
"""megapixels × steps of all filters of a drawing at its natural size: about 40 s of CPU time. A
shadow of a whole canvas of 2 megapixels is 4"""
MAX_LETTERS = 200_000
"""of all text in a drawing: a novel has twice as many, a poster some hundred"""
MAX_DEPTH = 128
"""groups inside groups"""
MAX_PARTS = 20_000
"""of a design: nobody can work with a longer list"""
MAX_PAGES = 1_000
"""of a TIFF"""
MAX_FRAMES = 1_000
"""of an animation"""
MAX_XML_BYTES = 64_000_000
"""of a drawing: the tree of its elements takes several times as much memory"""
MAX_LAYER_BYTES = 1_000_000_000
"""of one file inside a design, unpacked"""


def check_size(size: Size, file: str, what: str = "the picture", *, whole: bool = False) -> None:
    """SourceError if ``size`` is too large to work on, or to decode as a ``whole``."""
    if size.width < 1 or size.height < 1:
        raise SourceError(
            f"{what} has no size ({size.width} × {size.height} px).",
            file=file,
            advice="Give it a width and a height and bring it in again.",
        )
    most = MAX_WHOLE_MEGAPIXELS if whole else MAX_MEGAPIXELS
    if max(size.width, size.height) > MAX_SIDE or size.megapixels > most:
        kind = " of its kind" if whole else ""
        raise SourceError(
            f"{what} is {size.width:,} × {size.height:,} px; the limit is {MAX_SIDE:,} px a side"
            f" and {most:,.0f} megapixels{kind}.",
            file=file,
            advice="Save a smaller copy, or cut it in two, and bring it in again.",
        )

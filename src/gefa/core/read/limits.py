"""How large a source may be before it is refused rather than read."""

from __future__ import annotations

from gefa.core.errors import SourceError
from gefa.core.geometry import Size

MAX_SIDE = 100_000
"""px"""
MAX_MEGAPIXELS = 500.0
"""five times the largest picture that is expected; a worker holds tiles of it only"""
MAX_DEPTH = 128
"""groups inside groups"""
MAX_PARTS = 20_000
"""of a design: a longer list is nothing that a person could work with"""
MAX_PAGES = 1_000
"""of a TIFF"""
MAX_FRAMES = 1_000
"""of an animation that is kept moving"""
MAX_XML_BYTES = 64_000_000
"""of a drawing: the tree of its elements takes a multiple of that in memory"""
MAX_LAYER_BYTES = 1_000_000_000
"""bytes of one file inside a design, unpacked"""


def check_size(size: Size, file: str, what: str = "the picture") -> None:
    """SourceError unless ``size`` is one that can be worked on."""
    if size.width < 1 or size.height < 1:
        raise SourceError(
            f"{what} has no size ({size.width} × {size.height} px).",
            file=file,
            advice="Give it a width and a height and bring it in again.",
        )
    if max(size.width, size.height) > MAX_SIDE or size.megapixels > MAX_MEGAPIXELS:
        raise SourceError(
            f"{what} is {size.width:,} × {size.height:,} px; the limit is {MAX_SIDE:,} px a side"
            f" and {MAX_MEGAPIXELS:,.0f} megapixels.",
            file=file,
            advice="Save it smaller, or cut it in two, and bring it in again.",
        )

"""The EXIF orientation of a picture (CIPA DC-008, Orientation), and regions through it."""

from __future__ import annotations

import pyvips

from gefa.core.geometry import Rect, Size

SIDEWAYS = frozenset({5, 6, 7, 8})
"""orientations that swap width and height"""


def orientation_of(image: pyvips.Image) -> int:
    """1..8; 1 if the file says nothing usable."""
    value = image.get("orientation") if image.get_typeof("orientation") else 1
    return value if 1 <= value <= 8 else 1


def turned(image: pyvips.Image, orientation: int) -> pyvips.Image:
    """The stored pixels, rotated as they should be seen; the image must allow random access."""
    if orientation == 1:
        return image
    image = image.copy()
    image.set_type(pyvips.GValue.gint_type, "orientation", orientation)
    return image.autorot()


def stored_region(region: Rect, stored: Size, orientation: int) -> Rect:
    """The stored pixels of a region of the rotated picture; ``stored`` is the stored size in px."""
    x, y, width, height = region.x, region.y, region.width, region.height
    from_right, from_bottom = stored.width, stored.height
    return {
        1: Rect(x, y, width, height),
        2: Rect(from_right - x - width, y, width, height),
        3: Rect(from_right - x - width, from_bottom - y - height, width, height),
        4: Rect(x, from_bottom - y - height, width, height),
        5: Rect(y, x, height, width),
        6: Rect(y, from_bottom - x - width, height, width),
        7: Rect(from_right - y - height, from_bottom - x - width, height, width),
        8: Rect(from_right - y - height, x, height, width),
    }[orientation]

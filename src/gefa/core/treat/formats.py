"""The formats Gefa writes, and what each can hold."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Format(StrEnum):
    """A format for files on a website; newest first, as a ``<picture>`` lists them."""

    AVIF = "avif"
    WEBP = "webp"
    JPEG = "jpeg"
    PNG = "png"


@dataclass(frozen=True, slots=True)
class Abilities:
    """``max_side`` in px. ``modern`` formats need a fallback beside them; ``lossy`` ones have a
    quality; ``moves`` tells those
    that animations are written in, ``resolution`` those with a field for px per inch."""

    label: str
    extension: str
    media_type: str
    alpha: bool
    max_side: int
    modern: bool
    lossy: bool = True
    moves: bool = False
    resolution: bool = False


FORMATS: dict[Format, Abilities] = {
    # AV1 Image File Format 1.1: 65,536 px; libvips itself writes 16,384 px a side at the most.
    Format.AVIF: Abilities("AVIF", "avif", "image/avif", True, 16_384, True),
    # RFC 9649, section 2.7: 14 bits a side.
    Format.WEBP: Abilities("WebP", "webp", "image/webp", True, 16_383, True, moves=True),
    # ITU-T T.81: 16 bits a side; libjpeg stops at 65,500.
    Format.JPEG: Abilities("JPEG", "jpg", "image/jpeg", False, 65_500, False, resolution=True),
    # W3C PNG 3, section 11.2.1: 31 bits a side.
    Format.PNG: Abilities(
        "PNG", "png", "image/png", True, 2**31 - 1, False, lossy=False, resolution=True
    ),
}

ORDER = tuple(Format)

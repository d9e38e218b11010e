"""Bitmaps stored inside a design: what they are, from their bytes."""

from __future__ import annotations

import pyvips

from gefa.core.geometry import Size
from gefa.core.read.sniff import FLAT_KINDS, FileKind, sniff

MEDIA_TYPES = {
    FileKind.PNG: "image/png",
    FileKind.JPEG: "image/jpeg",
    FileKind.WEBP: "image/webp",
    FileKind.AVIF: "image/avif",
    FileKind.HEIC: "image/heic",
    FileKind.GIF: "image/gif",
    FileKind.TIFF: "image/tiff",
    FileKind.SVG: "image/svg+xml",
}
EXTENSIONS = {
    "image/png": "png",
    "image/jpeg": "jpg",
    "image/webp": "webp",
    "image/avif": "avif",
    "image/heic": "heic",
    "image/gif": "gif",
    "image/tiff": "tif",
    "image/svg+xml": "svg",
}


def media_type_of(data: bytes) -> str:
    """The media type of a stored picture; empty if unknown."""
    kind = sniff(data[:4096])
    return MEDIA_TYPES.get(kind, "") if kind else ""


def size_of(data: bytes) -> Size | None:
    """The size in px in a stored bitmap's header; None if it cannot be read."""
    if sniff(data[:4096]) not in FLAT_KINDS - {FileKind.HEIC}:
        return None
    try:
        image = pyvips.Image.new_from_buffer(data, "", access="sequential")
    except pyvips.Error:
        return None
    return Size(image.width, image.height)

"""The kind of a file, from its first bytes. File names and media types are not trusted."""

from __future__ import annotations

import zlib
from enum import StrEnum

HEAD_BYTES = 4096
"""of a file: an SVG may begin with comments and a DOCTYPE"""


class FileKind(StrEnum):
    """The kinds of source Gefa reads."""

    SVG = "svg"
    OPENRASTER = "openraster"
    PNG = "png"
    JPEG = "jpeg"
    WEBP = "webp"
    AVIF = "avif"
    GIF = "gif"
    TIFF = "tiff"
    HEIC = "heic"


FLAT_KINDS = frozenset(FileKind) - {FileKind.SVG, FileKind.OPENRASTER}

LABELS = {kind: kind.upper() for kind in FileKind} | {
    FileKind.WEBP: "WebP",
    FileKind.OPENRASTER: "OpenRaster",
}
"""names of kinds for people"""

KINDS_IN_WORDS = "SVG, OpenRaster, PNG, JPEG, WebP, AVIF, HEIC, GIF and TIFF, or a zip of them"

_HEIC_BRANDS = (b"heic", b"heix", b"hevc", b"heim", b"heis", b"mif1", b"msf1")
"""ISO/IEC 23008-12, annex B.4"""
ZIP_START = b"PK\x03\x04"


def sniff(head: bytes) -> FileKind | None:
    """The kind of a file from its first bytes (``HEAD_BYTES`` are enough); None if unknown, and for
    a zip, whose kind depends on its content."""
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return FileKind.PNG
    if head.startswith(b"\xff\xd8\xff"):
        return FileKind.JPEG
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return FileKind.WEBP
    if head[:6] in (b"GIF87a", b"GIF89a"):
        return FileKind.GIF
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return FileKind.TIFF
    if head[4:8] == b"ftyp" and (b"avif" in head[8:64] or b"avis" in head[8:64]):
        return FileKind.AVIF
    if head[4:8] == b"ftyp" and any(brand in head[8:40] for brand in _HEIC_BRANDS):
        return FileKind.HEIC
    if head.startswith(ZIP_START) and b"mimetypeimage/openraster" in head[:128]:
        return FileKind.OPENRASTER
    if _looks_like_svg(_unpacked_start(head)):
        return FileKind.SVG
    return None


def _unpacked_start(head: bytes) -> bytes:
    """SVG is often compressed by gzip (``.svgz``; SVG 2, appendix I)."""
    if not head.startswith(b"\x1f\x8b\x08"):
        return head
    try:
        return zlib.decompressobj(31).decompress(head, HEAD_BYTES)
    except zlib.error:
        return b""


def _looks_like_svg(head: bytes) -> bool:
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        head = head.decode("utf-16", "ignore").encode()
    text = head.removeprefix(b"\xef\xbb\xbf").lstrip().lower()
    return text.startswith(b"<") and (b"<svg" in text or b":svg" in text)

"""What kind of file this is, from its first bytes. Names and media types are not believed."""

from __future__ import annotations

from enum import StrEnum

HEAD_BYTES = 4096


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


FLAT_KINDS = frozenset(FileKind) - {FileKind.SVG, FileKind.OPENRASTER}

KINDS_IN_WORDS = "SVG, OpenRaster, PNG, JPEG, WebP, AVIF, GIF and TIFF"


def sniff(head: bytes) -> FileKind | None:
    """The kind of a file from its first bytes (``HEAD_BYTES`` are enough); None if unknown."""
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
    if head.startswith(b"PK\x03\x04") and b"mimetypeimage/openraster" in head[:128]:
        return FileKind.OPENRASTER
    if _looks_like_svg(head):
        return FileKind.SVG
    return None


def _looks_like_svg(head: bytes) -> bool:
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        head = head.decode("utf-16", "ignore").encode()
    text = head.removeprefix(b"\xef\xbb\xbf").lstrip().lower()
    return text.startswith(b"<") and (b"<svg" in text or b":svg" in text)

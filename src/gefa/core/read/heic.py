"""HEIC photographs, through libheif's own decoder; everything else is left to libvips."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pillow_heif
import pyvips
from PIL import Image

from gefa.core.read.broken import decoder_error
from gefa.core.read.copyright import COPYRIGHT_TAG, copyright_line

_BROKEN = (ValueError, OSError, EOFError, RuntimeError, SyntaxError)


def load_heic(path: Path) -> pyvips.Image:
    """The main picture, rotated as it should be, as 8-bit RGB or RGBA with its profile;
    pyvips.Error if broken."""
    try:
        heif = pillow_heif.open_heif(str(path), convert_hdr_to_8bit=True)
        pixels = np.ascontiguousarray(np.asarray(heif))
    except _BROKEN as error:
        raise decoder_error(str(error) or "the decoder refused it") from error
    image = pyvips.Image.new_from_array(pixels, interpretation="srgb")
    profile = heif.info.get("icc_profile")
    if profile:
        image = image.copy()
        image.set_type(pyvips.GValue.blob_type, "icc-profile-data", profile)
    return image


def heic_profile(path: Path) -> bytes:
    """The embedded profile without decoding; empty if there is none; pyvips.Error if broken."""
    try:
        return bytes(pillow_heif.open_heif(str(path)).info.get("icc_profile") or b"")
    except _BROKEN as error:
        raise decoder_error(str(error) or "the decoder refused it") from error


def heic_copyright(path: Path) -> str:
    """The Copyright entry of its EXIF metadata on one line; empty if there is none."""
    try:
        exif = pillow_heif.open_heif(str(path)).info.get("exif")
        if not exif:
            return ""
        told = Image.Exif()
        told.load(exif)
        return copyright_line(str(told.get(COPYRIGHT_TAG, "")))
    except _BROKEN:
        return ""


def heic_size(path: Path) -> tuple[int, int, bool]:
    """Width and height in px, and whether there is alpha, without decoding."""
    try:
        heif = pillow_heif.open_heif(str(path))
        width, height = heif.size
        return int(width), int(height), "A" in heif.mode
    except _BROKEN as error:
        raise decoder_error(str(error) or "the decoder refused it") from error

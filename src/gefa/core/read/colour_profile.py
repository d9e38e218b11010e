"""Whether the colour profile inside a flat picture can be used; libvips says nothing of one that
cannot."""

from __future__ import annotations

import io
from pathlib import Path

from PIL import ImageCms, PngImagePlugin

_MODES = {"cmyk": ["CMYK"], "b-w": ["L", "RGB"], "grey16": ["L", "RGB"]}
"""Pillow's modes by libvips' interpretations. Grey pictures often bring the profile of the colour
picture that they were."""
_SPACES = {"RGB": "RGB", "CMYK": "CMYK", "GRAY": "grey"}
_COLOURED = frozenset({"srgb", "rgb", "rgb16", "scrgb"})


def trouble_with(profile: bytes | None, interpretation: str) -> str:
    """What is wrong with a profile for a picture of libvips' ``interpretation``; empty if it can be
    used or not be judged. ``None`` is a profile that could not be unpacked."""
    modes = ["RGB"] if interpretation in _COLOURED else _MODES.get(interpretation)
    if modes is None:
        return ""
    if profile is None:
        return "it is damaged"
    try:
        opened = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        space = opened.profile.xcolor_space.strip()
    except (OSError, ImageCms.PyCMSError):
        return "it is damaged"
    if any(_turns(opened, mode) for mode in modes):
        return ""
    for_what, is_what = _SPACES.get(space), _SPACES[{"L": "GRAY"}.get(modes[0], modes[0])]
    if for_what in (None, is_what):
        return "it is damaged"
    return f"it is for {for_what} pictures; this one is {is_what}"


def _turns(profile: ImageCms.ImageCmsProfile, mode: str) -> bool:
    try:
        ImageCms.buildTransform(profile, ImageCms.createProfile("sRGB"), mode, "RGB")
    except ImageCms.PyCMSError:
        return False
    return True


def dropped_by_libpng(path: Path) -> bytes | None:
    """The profile of a PNG that libpng dropped as broken; empty bytes if there is none, ``None`` if
    it cannot be unpacked."""
    try:
        with PngImagePlugin.PngImageFile(str(path)) as png:
            found = png.info.get("icc_profile", b"")
    except (OSError, SyntaxError):
        return b""  # whoever decodes it says what is wrong with it
    except ValueError:
        return None  # larger than is ever unpacked
    return bytes(found) if found is not None else None

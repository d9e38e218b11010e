"""The copyright notice in a picture's metadata."""

from __future__ import annotations

import pyvips

from gefa.core.read.part_names import one_line

_FIELD = "exif-ifd0-Copyright"
COPYRIGHT_TAG = 0x8298
_MOST = 300
"""characters kept"""


def copyright_of(image: pyvips.Image) -> str:
    """The Copyright entry (EXIF 2.32, tag 8298) on one line; empty if there is none."""
    if not image.get_typeof(_FIELD):
        return ""
    # libvips adds the type and length in brackets.
    text = str(image.get(_FIELD)).rpartition(" (")[0]
    return copyright_line(text)


def copyright_line(text: str) -> str:
    """The entry as files store it: photographer and editor are separated by a zero byte."""
    return one_line(text.replace("\0", " "))[:_MOST]

"""A file's pixels as browsers show them: scores are of what visitors see."""

from __future__ import annotations

from io import BytesIO

import numpy as np
import pyvips
from PIL import AvifImagePlugin

from gefa.core.pixels import as_image, to_srgb
from gefa.core.treat.formats import Format


def shown(data: bytes, format: Format) -> pyvips.Image:
    """8-bit sRGB, with alpha if the file has it; the first frame of an animation.

    AVIF is decoded by libavif, as in browsers. libheif, which libvips uses, makes half-resolution
    colour coarser: files looked up to two points better there than they are.
    """
    if format is Format.SVG:
        return pyvips.Image.svgload_buffer(data)
    if format is not Format.AVIF:
        return to_srgb(pyvips.Image.new_from_buffer(data, ""))
    with AvifImagePlugin.AvifImageFile(BytesIO(data)) as opened:
        return as_image(np.asarray(opened.convert("RGBA" if "A" in opened.mode else "RGB")))

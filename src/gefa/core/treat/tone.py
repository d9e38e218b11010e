"""A light automatic lift of flat tones."""

from __future__ import annotations

from math import log

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import with_alpha

ENDS = 0.003
"""share of pixels at each end that may become black or white"""
REACH = 28
"""levels of 255 by which black and white move at most"""
MIDDLE = 0.46
"""target of the median, 0..1"""
PULL = 0.35
"""share of the way there"""
GAMMA = (0.85, 1.15)
"""allowed range"""

ToneCurve = NDArray[np.uint8]
"""256 levels: the new level for each old one"""


def curve_for(image: pyvips.Image) -> ToneCurve:
    """The tone curve for an 8-bit sRGB picture, from the lightness of its visible pixels. It
    changes nothing if the tones already reach from black to white around a middle grey."""
    pixels = with_alpha(image).numpy()
    visible = pixels[pixels[..., 3] > 127][:, :3]
    levels = np.arange(256) / 255
    if not visible.size:
        return np.arange(256, dtype=np.uint8)
    light = visible.astype(np.float32) @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    black, median, white = np.quantile(light, [ENDS, 0.5, 1 - ENDS])
    low, high = min(float(black), REACH) / 255, max(float(white), 255 - REACH) / 255
    stretched = np.clip((levels - low) / (high - low), 0, 1)
    at = float(np.clip((median / 255 - low) / (high - low), 0.02, 0.98))
    wanted = at + PULL * (MIDDLE - at)
    gamma = float(np.clip(log(wanted) / log(at), *GAMMA))
    return (stretched**gamma * 255).round().astype(np.uint8)


def lifted(image: pyvips.Image, curve: ToneCurve) -> pyvips.Image:
    """The picture with its colours mapped by the curve; alpha stays."""
    table = pyvips.Image.new_from_array(curve.reshape(1, 256))
    colour = image.extract_band(0, n=3).maplut(table).cast("uchar")
    if image.hasalpha():
        colour = colour.bandjoin(image[3])
    return colour.copy(interpretation="srgb")

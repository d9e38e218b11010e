"""Sets the colour of fully transparent pixels, which nobody sees but encoders store.

Encoders that lose something mix neighbouring pixels: a stray colour beneath full transparency shows
along the edges, and is paid for in bytes. So it is blended outwards from the visible pixels there.
Where nothing is lost nothing bleeds, and black weighs least.
"""

from __future__ import annotations

import cv2
import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.pixels import as_image

STRIP_PIXELS = 2_000_000
"""px processed at once, at about 25 bytes each. Invisible colours start anew in the next strip,
which nobody sees"""
_FEW = 1e-6
"""of full alpha: less is only rounding"""

Floats = NDArray[np.float32]


def with_quiet_colours(image: pyvips.Image) -> pyvips.Image:
    """An 8-bit sRGB picture whose fully transparent pixels get the mean colour of their nearest
    visible neighbours, or black if nothing is visible; a picture without alpha is unchanged."""
    if not image.hasalpha():
        return image
    pixels = image.numpy()
    if pixels[..., 3].all():
        return image
    made = np.empty_like(pixels)
    rows = max(1, STRIP_PIXELS // image.width)
    for top in range(0, image.height, rows):
        made[top : top + rows] = _blended(pixels[top : top + rows])
    return as_image(made)


def with_black_beneath(image: pyvips.Image) -> pyvips.Image:
    """The picture with black in its fully transparent pixels, for lossless encoders."""
    if not image.hasalpha():
        return image
    return (image[3] == 0).ifthenelse([0, 0, 0, 0], image).copy(interpretation="srgb")


def _blended(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Weighted means of 2 × 2 pixels, repeated until each hole has a colour, then back down into
    the holes ("pull-push"; Gortler et al., The Lumigraph, 1996, section 3.4)."""
    hidden = pixels[..., 3] == 0
    made = pixels.copy()
    if hidden.all() or not hidden.any():
        made[hidden] = 0
        return made
    weight: Floats = np.divide(pixels[..., 3], 255, dtype=np.float32)
    first: Floats = pixels[..., :3].astype(np.float32) * weight[..., None]
    levels: list[tuple[Floats, Floats]] = [(first, weight)]
    while max(levels[-1][1].shape) > 1:
        levels.append((_halved(levels[-1][0]), _halved(levels[-1][1])))
    colour, weight = levels[-1]
    mean = colour.reshape(1, 1, 3) / max(float(weight.reshape(-1)[0]), _FEW)
    for colour, weight in reversed(levels[:-1]):
        height, width = weight.shape
        coarse = cv2.resize(mean, (width, height), interpolation=cv2.INTER_LINEAR)
        coarse = coarse.reshape(height, width, 3)
        own = colour / np.maximum(weight, _FEW)[..., None]
        mean = np.where(weight[..., None] > 0, own, coarse)
    made[..., :3][hidden] = np.rint(mean[hidden]).clip(0, 255).astype(np.uint8)
    return made


def _halved(values: Floats) -> Floats:
    height, width = values.shape[:2]
    if height % 2 or width % 2:
        values = cv2.copyMakeBorder(
            values, 0, height % 2, 0, width % 2, cv2.BORDER_REPLICATE
        ).astype(np.float32)
    half = ((width + 1) // 2, (height + 1) // 2)
    smaller: Floats = cv2.resize(values, half, interpolation=cv2.INTER_AREA)
    return smaller.reshape(half[1], half[0], *values.shape[2:])

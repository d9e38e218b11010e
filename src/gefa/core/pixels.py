"""Operations on pixels that every step shares. All pictures are libvips images."""

from __future__ import annotations

from enum import StrEnum

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import NOWHERE, Rect, Size

BEYOND = 0.02
"""distance outside 0..1, in linear light, from which a colour visibly differs"""


class AlphaKind(StrEnum):
    """The kind of transparency of a picture."""

    NONE = "none"
    BINARY = "binary"
    SOFT = "soft"


def to_srgb(image: pyvips.Image) -> pyvips.Image:
    """Any picture as 8-bit sRGB with 3 bands, or 4 with alpha.

    Uses the embedded profile, for CMYK and wide gamut too; a broken profile is dropped, and the
    bands say what the picture is.
    """
    if _is_plain(image):
        return image
    if image.coding != "none":
        image = image.rad2float()
    converted = _through_profile(image)
    if converted is None and image.interpretation == "labs":
        converted = lab_to_srgb(image.LabS2Lab())
    if converted is None:
        converted = image.colourspace("srgb")
    if converted.hasalpha():
        alpha = converted[converted.bands - 1]
        colour = converted.extract_band(0, n=min(3, converted.bands - 1))
        if colour.bands == 1:
            colour = colour.bandjoin([colour, colour])
        converted = colour.bandjoin(alpha)
    elif converted.bands > 3:
        converted = converted.extract_band(0, n=3)
    elif converted.bands < 3:
        grey = converted[0]
        converted = grey.bandjoin([grey, grey])
    if converted.format != "uchar":
        converted = converted.cast("uchar")
    return converted.copy(interpretation="srgb")


def _is_plain(image: pyvips.Image) -> bool:
    return (
        (image.interpretation, image.format, image.coding) == ("srgb", "uchar", "none")
        and image.bands in (3, 4)
        and image.get_typeof("icc-profile-data") == 0
    )


def _through_profile(image: pyvips.Image) -> pyvips.Image | None:
    if image.get_typeof("icc-profile-data") == 0:
        return None
    image = _as_its_profile(image)
    try:
        return image.icc_transform(
            "srgb", embedded=True, intent="relative", black_point_compensation=True, depth=8
        )
    except pyvips.Error:
        return None


def _as_its_profile(image: pyvips.Image) -> pyvips.Image:
    """A grey picture with the profile of a colour picture, as editors leave them, as three bands:
    browsers apply that profile to greys too."""
    if image.interpretation not in ("b-w", "grey16"):
        return image
    if bytes(image.get("icc-profile-data"))[16:20] != b"RGB ":
        return image
    grey = image[0]
    colour = grey.bandjoin([grey, grey])
    if image.hasalpha():
        colour = colour.bandjoin(image[image.bands - 1])
    return colour.copy(interpretation="srgb" if image.format == "uchar" else "rgb16")


_D50_WHITE = (96.42, 100.0, 82.49)
_D50_TO_D65 = (
    (0.9555766, -0.0230393, 0.0631636),
    (-0.0282895, 1.0099416, 0.0210077),
    (0.0122982, -0.0204830, 1.3299098),
)
"""Bradford; CSS Color 4, section 19"""


def lab_to_srgb(image: pyvips.Image) -> pyvips.Image:
    """CIELAB as stored in files, for D50 light, as 8-bit sRGB; libvips assumes D65."""
    colour = image.extract_band(0, n=3).copy(interpretation="lab")
    xyz = colour.Lab2XYZ(temp=list(_D50_WHITE)).recomb([list(row) for row in _D50_TO_D65])
    srgb = xyz.copy(interpretation="xyz").colourspace("srgb")
    if image.bands > 3:
        alpha = image[3] / 257 if image.format == "ushort" else image[3]
        srgb = srgb.bandjoin(alpha.cast("uchar"))
    return srgb.cast("uchar").copy(interpretation="srgb")


def outside_srgb(image: pyvips.Image) -> float:
    """The share of pixels (0..1) whose colours lie outside sRGB and will be clipped; 0 without a
    usable profile."""
    if image.get_typeof("icc-profile-data") == 0:
        return 0.0
    try:
        light = _as_its_profile(image).icc_import(embedded=True, pcs="lab", intent="relative")
        values = light.colourspace("scrgb").extract_band(0, n=3).numpy()
    except pyvips.Error:
        return 0.0
    return float(((values < -BEYOND) | (values > 1 + BEYOND)).any(axis=2).mean())


def as_image(pixels: NDArray[np.uint8]) -> pyvips.Image:
    """Rows of sRGB pixels as a picture, without copying."""
    return pyvips.Image.new_from_array(pixels, interpretation="srgb")


def with_alpha(image: pyvips.Image) -> pyvips.Image:
    """An sRGB picture with 4 bands; opaque if it had no alpha."""
    if image.hasalpha():
        return image
    return image.bandjoin(255).copy(interpretation="srgb")


def alpha_kind(image: pyvips.Image) -> AlphaKind:
    """No, binary (only 0 and 255) or soft alpha, from the histogram of the alpha band."""
    if not image.hasalpha():
        return AlphaKind.NONE
    counts = image[image.bands - 1].hist_find().numpy().reshape(-1)
    if int(counts[:255].sum()) == 0:
        return AlphaKind.NONE
    if int(counts[1:255].sum()) == 0:
        return AlphaKind.BINARY
    return AlphaKind.SOFT


def drop_opaque_alpha(image: pyvips.Image) -> pyvips.Image:
    """Drop the alpha band if every pixel is opaque."""
    if image.hasalpha() and alpha_kind(image) is AlphaKind.NONE:
        return image.extract_band(0, n=image.bands - 1)
    return image


def visible_box(image: pyvips.Image) -> Rect:
    """The smallest rectangle around all pixels with alpha above 0."""
    if not image.hasalpha():
        return Rect(0, 0, image.width, image.height)
    return box_of(image[image.bands - 1].numpy().reshape(image.height, image.width))


def inside(pixels: NDArray[np.uint8], box: Rect) -> NDArray[np.uint8]:
    """The pixels of an array that lie in ``box``."""
    return pixels[box.y : box.bottom, box.x : box.right]


def box_of(alpha: NDArray[np.uint8]) -> Rect:
    """The smallest rectangle around all values above 0."""
    rows = np.flatnonzero(alpha.any(axis=1))
    if rows.size == 0:
        return NOWHERE
    top, bottom = int(rows[0]), int(rows[-1])
    columns = np.flatnonzero(alpha[top : bottom + 1].any(axis=0))
    left, right = int(columns[0]), int(columns[-1])
    return Rect(left, top, right - left + 1, bottom - top + 1)


def one_colour(pixels: NDArray[np.uint8]) -> str:
    """``#rrggbb`` if every pixel has this opaque colour; else empty."""
    if not pixels.size:
        return ""
    first = pixels[0, 0]
    if first[3] != 255 or (pixels[-1, -1] != first).any() or (pixels != first).any():
        return ""
    return "#" + "".join(f"{int(value):02x}" for value in first[:3])


def resize(image: pyvips.Image, size: Size) -> pyvips.Image:
    """The picture at exactly ``size``, Lanczos-3 on premultiplied alpha.

    Premultiplying keeps the colour of invisible pixels out of the edges
    (Porter & Duff, Compositing Digital Images, 1984).
    """
    if (image.width, image.height) == (size.width, size.height):
        return image
    across, down = size.width / image.width, size.height / image.height
    if not image.hasalpha():
        return _exactly(image.resize(across, vscale=down, kernel="lanczos3"), size)
    small = image.premultiply().resize(across, vscale=down, kernel="lanczos3")
    return _exactly(small.unpremultiply().rint().cast("uchar"), size).copy(interpretation="srgb")


def _exactly(image: pyvips.Image, size: Size) -> pyvips.Image:
    # A scale is a float: a side can come out one pixel off on very large pictures.
    if (image.width, image.height) == (size.width, size.height):
        return image
    return image.gravity("north-west", size.width, size.height, extend="copy")


def on_matte(image: pyvips.Image, matte: str) -> pyvips.Image:
    """The picture laid on an opaque colour given as ``#rrggbb``."""
    if not image.hasalpha():
        return image
    background = [int(matte[i : i + 2], 16) for i in (1, 3, 5)]
    return image.flatten(background=background).cast("uchar")

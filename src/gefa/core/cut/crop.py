"""Which rectangle of a picture is kept when its ratio is changed."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import on_matte
from gefa.core.read.document import Document, Part

MIDDLE = (0.5, 0.5)
_LOOKED_AT = 320
"""px of the longer side of the copy that libvips looks for attention on"""


class Crop(BaseModel):
    """A crop to ``ratio`` (width ÷ height) round ``focal`` (0..1 each way, None: suggested from
    the picture), ``zoom`` at least 1."""

    model_config = ConfigDict(frozen=True)

    ratio: float
    focal: tuple[float, float] | None = None
    zoom: float = 1.0

    def size(self, of: Size) -> Size:
        """Size in px of the crop of a picture of this size; the focal point does not change the
        size."""
        return crop_round(of, self.ratio, MIDDLE, self.zoom).size


def crop_round(size: Size, ratio: float, focal: tuple[float, float], zoom: float = 1.0) -> Rect:
    """The largest rectangle of ``ratio`` inside the picture, divided by ``zoom``, centred on the
    focal point, then moved, not shrunk, to lie inside. In whole px, at least 1."""
    width = min(float(size.width), size.height * ratio)
    height = width / ratio
    kept = Size(_whole(width / zoom, size.width), _whole(height / zoom, size.height))
    return Rect(
        _inside(focal[0] * size.width - kept.width / 2, size.width - kept.width),
        _inside(focal[1] * size.height - kept.height / 2, size.height - kept.height),
        kept.width,
        kept.height,
    )


def _whole(length: float, most: int) -> int:
    return max(1, min(most, round(length)))


def _inside(start: float, last: int) -> int:
    return max(0, min(last, round(start)))


def suggested_focal(document: Document, part: Part, region: Rect) -> tuple[float, float]:
    """The point that draws the eye, 0..1 each way: libvips' attention, from edges, skin tones and
    saturated colours."""
    share = min(1.0, _LOOKED_AT / max(region.width, region.height))
    width = max(1, round(region.width * share))
    image = on_matte(document.render(part, region, width), "#808080")
    if image.width > width:
        image = image.resize(width / image.width)
    image = image.copy_memory()
    if min(image.width, image.height) < 8:
        return MIDDLE
    square = max(4, min(image.width, image.height) // 2)
    _, found = image.smartcrop(
        square, square, interesting="attention", attention_x=True, attention_y=True
    )
    return (
        min(1.0, (found["attention_x"] + 0.5) / image.width),
        min(1.0, (found["attention_y"] + 0.5) / image.height),
    )


def crop_within(document: Document, part: Part, region: Rect, crop: Crop) -> Rect:
    """The crop of ``region`` (canvas px), in px from the region's corner."""
    focal = crop.focal or suggested_focal(document, part, region)
    return crop_round(region.size, crop.ratio, focal, crop.zoom)

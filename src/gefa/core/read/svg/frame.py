"""Any region of a drawing at any scale, through librsvg."""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

import pyvips

from gefa.core.errors import SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.read import xml
from gefa.core.read.svg.elements import SVG, shell
from gefa.core.read.svg.normalise import about

DPI = 96
"""CSS px in an inch (CSS Values and Units 4, section 5.2)"""
FONT_SIZE = "16px"
"""``em`` in browsers, also of text without a size; librsvg's own is 12"""
MAX_SIDE = 30_000
"""px of a frame: cairo's surfaces end at 32,767"""
MAX_MEGAPIXELS = 500.0
"""of a frame, which takes 4 bytes a px"""
MEASURED_MEGAPIXELS = 120.0
"""above which an extent is the one seen from afar, instead of one drawn at natural size"""


class Painter:
    """Draws trees made from ``svg``, whose canvas is ``size`` px; ``file`` is its name."""

    def __init__(self, svg: Element, size: Size, file: str) -> None:
        self._svg, self._size, self._file = svg, size, file

    def can_draw(self, region: Rect) -> bool:
        """Whether a region is small enough to measure at its natural size."""
        sides_fit = max(region.width, region.height) <= MAX_SIDE
        return sides_fit and region.size.megapixels <= MEASURED_MEGAPIXELS

    def text_of(self, root: Element) -> bytes:
        """Everything that decides the look of ``root``, for fingerprints."""
        return ElementTree.tostring(self.inner(root))

    def draw(self, root: Element, region: Rect, scale: float, reach: float) -> pyvips.Image:
        """``region`` (canvas px) of the drawing under ``root`` at ``scale`` times its size."""
        return self.draw_all([self.inner(root)], region, scale, reach)

    def draw_all(
        self, content: Sequence[Element], region: Rect, scale: float, reach: float
    ) -> pyvips.Image:
        """``region`` of elements in canvas px, at ``scale`` times its size.

        ``reach`` (canvas px) is how far outside the region a thing may lie that still shows in it:
        the frame is larger by that, then cropped. SourceError if it cannot be drawn.
        """
        width = max(1, round(region.width * scale))
        height = max(1, round(region.height * scale))
        across, down = width / region.width, height / region.height
        margin = ceil(reach * max(across, down))
        self._check(width, height, margin)
        left, top = margin / across, margin / down
        box = (
            region.x - left, region.y - top,
            region.width + 2 * left, region.height + 2 * top,
        )  # fmt: skip
        frame = Element(
            f"{{{SVG}}}svg",
            {
                "width": str(width + 2 * margin),
                "height": str(height + 2 * margin),
                "viewBox": " ".join(f"{side:.12g}" for side in box),
                "preserveAspectRatio": "none",
                "font-size": FONT_SIZE,
            },
        )
        frame.extend(content)
        image = self._rendered(ElementTree.tostring(frame))
        return image.crop(margin, margin, width, height).copy_memory() if margin else image

    def _check(self, width: int, height: int, margin: int) -> None:
        frame = Size(width + 2 * margin, height + 2 * margin)
        if max(frame.width, frame.height) <= MAX_SIDE and frame.megapixels <= MAX_MEGAPIXELS:
            return
        effects = f", with {margin:,} px round it that its filters need," if margin else ""
        raise SourceError(
            f"would be drawn at {width:,} × {height:,} px{effects} and the most is"
            f" {MAX_SIDE:,} px a side and {MAX_MEGAPIXELS:,.0f} megapixels.",
            file=self._file,
            advice="Ask for a smaller width.",
        )

    def _rendered(self, data: bytes) -> pyvips.Image:
        try:
            image = pyvips.Image.svgload_buffer(data, dpi=DPI, scale=72 / DPI, unlimited=True)
            return image.copy_memory()
        except pyvips.Error as error:
            reason = str(error).strip().splitlines()[-1]
            raise SourceError(
                f"cannot be drawn: {reason}.",
                file=self._file,
                advice="Simplify the drawing (filters, nesting) and bring it in again.",
            ) from error

    def inner(self, root: Element) -> Element:
        """The drawing as an element of the frame, with its canvas at 0, 0."""
        inner = shell(root)
        inner.attrib.update(
            x="0", y="0", width=str(self._size.width), height=str(self._size.height),
            overflow="visible",
        )  # fmt: skip
        transform = inner.attrib.get("transform", "")
        if transform and xml.local_name(root.tag) == "svg":
            # The outermost <svg> is a CSS box: it turns about its middle (CSS Transforms 1, 7).
            middle = self._size.width / 2, self._size.height / 2
            inner.set("transform", about(transform, *middle))
        inner.extend(list(root))
        return inner

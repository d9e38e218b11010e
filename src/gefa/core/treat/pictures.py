"""A cut's picture at every size that its recipe asks for, decoded once."""

from __future__ import annotations

from functools import cached_property

import pyvips

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import AlphaKind, alpha_kind, drop_opaque_alpha, on_matte, resize
from gefa.core.read.document import Document, Part
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.invisible import with_quiet_colours
from gefa.core.treat.mark import marked
from gefa.core.treat.recipe import AlphaPolicy, Mark, Recipe, TextPolicy
from gefa.core.treat.svg_file import svg_file
from gefa.core.treat.tone import ToneCurve, curve_for, lifted

TONES_SEEN = 512
"""px of the width at which tones are measured"""
HELD_MEGAPIXELS = 4.0
"""up to which the widest picture stays in memory: facts are measured on it first, and it is encoded
last"""


class Pictures:
    """``region`` (canvas px) of a part in one size after another.

    ``widest`` is the largest size that will be asked for: the part is decoded once for it.
    ``whole`` false leaves the part's strays out; with ``under`` the design below it shows. ``tone``
    lifts its tones; a ``mark`` is laid over a corner of every size.
    """

    def __init__(
        self,
        document: Document,
        part: Part,
        region: Rect,
        widest: Size,
        *,
        whole: bool = True,
        under: bool = False,
        tone: bool = False,
        mark: tuple[Mark, Document] | None = None,
    ) -> None:
        self._document, self._part, self._region = document, part, region
        self._largest, self._widest = widest, self._width_for(widest)
        self._whole, self._under, self._tone, self._mark = whole, under, tone, mark

    def at(self, size: Size) -> pyvips.Image:
        """The picture at exactly ``size`` px, 8-bit sRGB, in memory."""
        if size == self._largest and size.megapixels <= HELD_MEGAPIXELS:
            return self._largest_picture
        return self._made_at(size)

    @cached_property
    def _largest_picture(self) -> pyvips.Image:
        return self._made_at(self._largest)

    def _made_at(self, size: Size) -> pyvips.Image:
        if self._scalable:
            image = self._drawn(self._width_for(size))
        else:
            image = self._base
        image = resize(image, size)
        if self._curve is not None:
            image = lifted(image, self._curve)
        if self._mark is not None:
            image = marked(image, *self._mark)
        return with_quiet_colours(image.copy_memory())

    def as_svg(self, size: Size, recipe: Recipe) -> bytes:
        """The part as an SVG file of ``size`` px, compared with its pixels. NotDrawable, with the
        reason, if there cannot be one."""
        picture = self.at(size)
        laid = recipe.alpha is AlphaPolicy.MATTE and alpha_kind(picture) is not AlphaKind.NONE
        return svg_file(
            self._document,
            self._part,
            self._region,
            fit_alpha(picture, Format.SVG, recipe),
            whole=self._whole,
            keep_text=recipe.text is TextPolicy.KEEP,
            matte=recipe.matte if laid else "",
        )

    def moving(self, size: Size) -> pyvips.Image:
        """All frames at ``size`` px, with the still's tones; without the mark."""
        frames = self._document.moving(self._region, size)
        frames = _with_fields_of(frames, with_quiet_colours(frames))
        if self._curve is None:
            return frames
        return _with_fields_of(frames, lifted(frames, self._curve))

    @property
    def _scalable(self) -> bool:
        below = self._document.canvas.scalable if self._under else True
        return self._part.scalable and below

    def _width_for(self, size: Size) -> int:
        """The width to draw for ``size``: wide enough for the larger stretch if the picture is
        distorted."""
        return max(size.width, -(-size.height * self._region.width // self._region.height))

    def _drawn(self, width: int) -> pyvips.Image:
        if self._under:
            drawn = self._document.render_on(self._part, self._region, width)
        else:
            drawn = self._document.render(self._part, self._region, width, whole=self._whole)
        return drop_opaque_alpha(drawn)

    @cached_property
    def _base(self) -> pyvips.Image:
        return self._drawn(self._widest)

    @cached_property
    def _curve(self) -> ToneCurve | None:
        """The tone curve, always measured at one width, so that all sizes get the same tones."""
        if not self._tone:
            return None
        seen = self._drawn(min(TONES_SEEN, self._region.width))
        if seen.width > TONES_SEEN:
            seen = resize(seen, Size(TONES_SEEN, max(1, seen.height * TONES_SEEN // seen.width)))
        return curve_for(seen)


def _with_fields_of(frames: pyvips.Image, changed: pyvips.Image) -> pyvips.Image:
    """Changed pixels with the animation fields of the original."""
    copy = changed.copy()
    for field in ("page-height", "delay", "loop"):
        copy.set_type(frames.get_typeof(field), field, frames.get(field))
    return copy


def fit_alpha(image: pyvips.Image, format: Format, recipe: Recipe) -> pyvips.Image:
    """The picture with the alpha that ``format`` supports and the recipe's policy allows."""
    if recipe.alpha is not AlphaPolicy.KEEP or not FORMATS[format].alpha:
        return on_matte(image, recipe.matte)
    return image


def baseline_bytes(document: Document, widest: pyvips.Image) -> int:
    """The bytes that savings compare with: the picture's own file, or for a part of a design the
    same pixels as PNG, at the largest width made."""
    if document.stored_bytes is not None:
        return document.stored_bytes
    return len(encode(widest, Format.PNG, None))

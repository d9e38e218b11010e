"""A source opened: a canvas, and the tree of parts that can be asked for."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

import pyvips

from gefa.core.errors import PartMissing
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import resize

CANVAS_PATH = "/"


class Kind(StrEnum):
    """What a part is in its source."""

    CANVAS = "canvas"
    GROUP = "group"
    LAYER = "layer"
    SHAPE = "shape"
    TEXT = "text"
    IMAGE = "image"
    USE = "use"


@dataclass(frozen=True, slots=True)
class Part:
    """Anything a source can be asked for.

    ``path`` names it within its document (``Sky/Kites/Red kite``, ``/`` for the canvas), without
    tags. ``opacity`` is 0..1. ``scalable`` parts are drawn at any size, never enlarged from
    pixels. ``children`` are topmost first.
    """

    path: str
    id: str
    name: str
    kind: Kind
    tags: tuple[str, ...] = ()
    visible: bool = True
    opacity: float = 1.0
    blend: str = "src-over"
    scalable: bool = False
    children: tuple[Part, ...] = ()

    def walk(self) -> Iterator[Part]:
        """This part and all below it, depth first, topmost first."""
        stack = [self]
        while stack:
            part = stack.pop()
            yield part
            stack.extend(reversed(part.children))


@dataclass(frozen=True, slots=True)
class Notice:
    """Something the reader wants a person to know; ``part`` may be empty."""

    part: str
    reason: str


@dataclass
class Document(ABC):
    """One revision of a source, open for asking. Reading pixels happens only when asked."""

    name: str
    format: str
    size: Size
    canvas: Part
    notices: list[Notice] = field(default_factory=list)
    transparent: bool = True
    """Whether the canvas may show through; False for a flat picture without alpha."""
    stored_bytes: int | None = None
    """Size of a flat picture's own file in bytes; None for a design."""

    def __post_init__(self) -> None:
        self._by_path = {part.path: part for part in self.canvas.walk()}

    def part(self, path: str) -> Part:
        """The part at ``path``; PartMissing if there is none."""
        try:
            return self._by_path[path]
        except KeyError:
            raise PartMissing(
                f"there is no part {path!r}.",
                file=self.name,
                advice="See `gefa parts` for the paths this source has.",
            ) from None

    @property
    def layered(self) -> bool:
        return bool(self.canvas.children)

    @property
    def canvas_rect(self) -> Rect:
        return Rect(0, 0, self.size.width, self.size.height)

    def measure(self, parts: Sequence[Part]) -> None:
        """Get ready to tell extents and fingerprints of many parts at once, on all cores.

        A part that cannot be measured raises when it is itself asked for, not here.
        """

    @abstractmethod
    def extent(self, part: Part) -> Rect:
        """The part's visible pixels with effects, in canvas px; empty if nothing shows."""

    @abstractmethod
    def render(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        """``region`` of the part alone, as 8-bit sRGB with or without alpha.

        A scalable part comes exactly ``width`` px wide. Any other comes at its natural size, or
        reduced to no less than twice ``width``, which leaves room for one good resize.
        """

    def coverage(self, part: Part, region: Rect, size: Size) -> pyvips.Image:
        """The alpha of ``region`` of the part alone, reduced to ``size`` px: one band, 0..255."""
        image = resize(self.render(part, region, size.width), size)
        return image[3] if image.hasalpha() else pyvips.Image.black(size.width, size.height) + 255

    @abstractmethod
    def fingerprint(self, part: Part) -> str:
        """Equal fingerprints mean equal pixels; computed without drawing."""

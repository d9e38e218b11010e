"""An opened source: its canvas and its tree of parts."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

import pyvips

from gefa.core.errors import NotDrawable, PartMissing
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import resize

CANVAS_PATH = "/"


class Kind(StrEnum):
    """The kind of a part."""

    CANVAS = "canvas"
    GROUP = "group"
    LAYER = "layer"
    SHAPE = "shape"
    TEXT = "text"
    IMAGE = "image"
    USE = "use"
    PAGE = "page"


@dataclass(frozen=True, slots=True)
class Part:
    """Anything a source can be asked for.

    ``path`` names the part within its document (``Sky/Kites/Red kite``, ``/`` for the canvas),
    without tags; ``id`` is the file's own name for it, or empty. ``opacity`` is 0..1. ``isolated``
    groups are composed by themselves first. ``scalable`` parts are drawn at any size, never
    enlarged from pixels. ``children`` are topmost first.
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
    isolated: bool = False
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
    """Something the reader reports to people; ``part`` may be empty."""

    part: str
    reason: str


@dataclass(frozen=True, slots=True)
class Strays:
    """Objects of a part that lie far away, and the part without them; extents in canvas px."""

    names: tuple[str, ...]
    extents: tuple[Rect, ...]
    rest: Rect
    fingerprint: str


@dataclass(frozen=True, slots=True)
class Original:
    """A bitmap stored inside a design.

    ``key`` finds it in the file; ``part`` is the path of the part that shows it. Sizes in px:
    ``shown`` is its size on the canvas.
    """

    key: str
    part: str
    name: str
    media_type: str
    size: Size
    shown: Rect
    bytes: int


@dataclass(frozen=True, slots=True)
class StoredFile:
    """The file of a bitmap: a flat picture itself, or a file inside a design. ``size`` is in px.
    ``drawn`` says that the part is drawn by another decoder than the one that reads this file."""

    format: str
    size: Size
    read: Callable[[], bytes]
    drawn: bool = False


@dataclass
class Document(ABC):
    """One revision of a source. Pixels are read only when asked for."""

    name: str
    format: str
    size: Size
    canvas: Part
    notices: list[Notice] = field(default_factory=list)
    transparent: bool = True
    """Whether the canvas may be transparent; False for a flat picture without alpha."""
    stored_bytes: int | None = None
    """Size of a flat picture's file in bytes; None for a design."""
    copyright: str = ""
    """The copyright in a flat picture's metadata."""
    frames: int = 1
    """Number of frames; 1 for a still."""
    made_of_parts: bool = False
    """Whether the canvas shows its parts and nothing else, so that facts of parts tell what
    changed."""

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

    def measure(self, parts: Sequence[Part]) -> None:  # noqa: B027 - nothing to do for most
        """Measure extents and fingerprints of many parts at once, on all cores.

        A part that cannot be measured raises only when it is asked for itself.
        """

    @abstractmethod
    def extent(self, part: Part) -> Rect:
        """The part's visible pixels with effects, in canvas px; empty if nothing is visible."""

    def originals(self) -> list[Original]:
        """The bitmaps stored in the file, topmost first."""
        return []

    def original_bytes(self, key: str) -> bytes:
        """An original, byte for byte as stored."""
        raise PartMissing(f"holds no original {key!r}.", file=self.name)

    def stored_file(self, part: Part) -> StoredFile | None:
        """The file of the part's one still bitmap, for a flat picture or a layer; None if the part
        has none or several. The part may show the bitmap differently from the file."""
        return None

    @abstractmethod
    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        """``region`` of the part alone, as 8-bit sRGB with or without alpha.

        A scalable part comes exactly ``width`` px wide. Any other comes at its natural size, or
        reduced to at least twice ``width``, which leaves room for one good resize. With ``whole``
        false the part comes without its strays.
        """

    def render_on(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        """``region`` of the design without everything above the part: the part, blended as in the
        design, and what lies beneath. Sizes as ``render``; exactly ``width`` px only if the canvas
        is scalable too."""
        return self.render(part, region, width)

    def coverage(self, part: Part, region: Rect, size: Size) -> pyvips.Image:
        """The alpha of ``region`` of the part alone, reduced to ``size`` px: one band, 0..255."""
        image = resize(self.render(part, region, size.width), size)
        return image[3] if image.hasalpha() else pyvips.Image.black(size.width, size.height) + 255

    def natural(self) -> pyvips.Image:
        """The whole canvas at its natural size, to be read once from top to bottom; large flat
        pictures are not held in memory."""
        return self.render(self.canvas, self.canvas_rect, self.size.width)

    def moving(self, region: Rect, size: Size) -> pyvips.Image:
        """All frames of an animation; see ``FlatPicture.moving``."""
        raise NotImplementedError(f"{self.format} does not move")

    def as_svg(
        self,
        part: Part,
        region: Rect,
        size: Size,
        *,
        whole: bool = True,
        keep_text: bool = False,
        matte: str = "",
    ) -> bytes:
        """An SVG file of ``region`` of the part alone, ``size`` px large; ``whole`` and ``matte``
        as for pixels. NotDrawable, with the reason, if there cannot be one."""
        raise NotDrawable("it is made of pixels")

    def render_svg(self, data: bytes, part: Part, region: Rect, width: int) -> pyvips.Image:
        """A file from ``as_svg``, drawn in the way ``render`` draws the part: sRGB with alpha,
        ``width`` px wide. SourceError if it cannot be drawn."""
        raise NotImplementedError(f"{self.format} is not drawn")

    def css(self, part: Part) -> str:
        """CSS declarations that look the same as a file of the part; empty if CSS
        cannot draw it."""
        return ""

    def likeness(self, part: Part) -> str:
        """The rough look of the part, as written by ``gefa.core.read.likeness``; empty if nothing
        is visible, or if the part was never drawn."""
        return ""

    def profile_trouble(self) -> str:
        """Why a flat picture's colour profile cannot be used; empty if it can, or if
        there is none."""
        return ""

    def strays(self, part: Part) -> Strays | None:
        """Objects far from the rest of the part that blow up its extent."""
        return None

    @abstractmethod
    def fingerprint(self, part: Part) -> str:
        """Equal fingerprints mean equal pixels; computed without drawing."""

"""A survey: a document's tree with its measurements, enough to plan a run without the file."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import PurePosixPath

from pydantic import BaseModel, ConfigDict

from gefa.core.errors import PartMissing, SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Notice, Part
from gefa.core.read.part_names import tag_name
from gefa.core.read.strays import in_words


class StrayFacts(BaseModel):
    """Stray objects in words, and the part without them."""

    model_config = ConfigDict(frozen=True)

    words: str
    extents: tuple[Rect, ...]
    rest: Rect
    fingerprint: str


class PartFacts(BaseModel):
    """The facts of a part.

    ``depth`` is 0 for the canvas. ``extent`` is in canvas px, None if not measured; ``problem``
    says why it could not be. ``css`` looks the same as a file of the part; ``likeness`` is its
    rough look.
    """

    model_config = ConfigDict(frozen=True)

    path: str
    name: str
    kind: Kind
    depth: int
    tags: tuple[str, ...] = ()
    visible: bool = True
    opacity: float = 1.0
    blend: str = "src-over"
    scalable: bool = False
    extent: Rect | None = None
    fingerprint: str = ""
    problem: str = ""
    id: str = ""
    isolated: bool = False
    likeness: str = ""
    css: str = ""
    strays: StrayFacts | None = None

    @property
    def display_name(self) -> str:
        """The default name of a cut of this part."""
        return self.name or (tag_name(self.tags[0]) if self.tags else self.path.rpartition("/")[2])


class OriginalFacts(BaseModel):
    """A bitmap stored in a design; sizes in px, ``shown`` in canvas px."""

    model_config = ConfigDict(frozen=True)

    key: str
    part: str
    name: str
    media_type: str
    width: int
    height: int
    shown: Rect
    bytes: int

    @property
    def too_large(self) -> float | None:
        """How many times wider it is stored than shown; None if it is not shown."""
        if self.shown.empty:
            return None
        return min(self.width / self.shown.width, self.height / self.shown.height)


class Survey(BaseModel):
    """A source's canvas (px) and its parts, canvas first, then depth first, topmost first. Files
    are called after ``stem``; where that is empty, after the name without the ending."""

    name: str
    stem: str = ""
    format: str
    width: int
    height: int
    transparent: bool
    stored_bytes: int | None
    parts: list[PartFacts]
    notices: list[Notice] = []
    originals: list[OriginalFacts] = []
    frames: int = 1
    made_of_parts: bool = False

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)

    @property
    def canvas(self) -> PartFacts:
        return self.parts[0]

    @property
    def layered(self) -> bool:
        return len(self.parts) > 1

    @property
    def called_after(self) -> str:
        """What its files are called after."""
        return self.stem or _stem(self.name)

    def called(self, name: str, stem: str = "") -> Survey:
        """The survey of a source that has moved to another path, or has another stem. A canvas
        that is named after its file gets the new name."""
        if (name, stem) == (self.name, self.stem):
            return self
        canvas = self.canvas
        if canvas.name == self.called_after:
            canvas = canvas.model_copy(update={"name": stem or _stem(name)})
        update = {"name": name, "stem": stem, "parts": [canvas, *self.parts[1:]]}
        return self.model_copy(update=update)

    def part(self, path: str) -> PartFacts:
        """The part at ``path``; PartMissing if there is none."""
        for part in self.parts:
            if part.path == path:
                return part
        raise PartMissing(
            f"there is no part {path!r}.",
            file=self.name,
            advice="See `gefa parts` for the paths this source has.",
        )


def _stem(name: str) -> str:
    return PurePosixPath(name).stem or name


def outline(document: Document) -> Survey:
    """The tree without measurements."""
    return survey(document, lambda part: False)


def _originals(document: Document) -> list[OriginalFacts]:
    try:
        return [
            OriginalFacts(
                key=found.key,
                part=found.part,
                name=found.name,
                media_type=found.media_type,
                width=found.size.width,
                height=found.size.height,
                shown=found.shown,
                bytes=found.bytes,
            )
            for found in document.originals()
        ]
    except SourceError:
        return []


def survey(document: Document, wanted: Callable[[Part], bool] | None = None) -> Survey:
    """The tree with extent and fingerprint of every part that is ``wanted``, by default of all, and
    the bitmaps stored in the source.

    A part that cannot be measured carries its problem; the others are measured.
    """
    whole = wanted is None
    wanted = wanted or (lambda part: True)
    document.measure([part for part, _ in _with_depth(document.canvas) if wanted(part)])
    return Survey(
        name=document.name,
        format=document.format,
        width=document.size.width,
        height=document.size.height,
        transparent=document.transparent,
        stored_bytes=document.stored_bytes,
        parts=[
            _facts(document, part, depth, wanted(part))
            for part, depth in _with_depth(document.canvas)
        ],
        notices=document.notices,
        originals=_originals(document) if whole else [],
        frames=document.frames,
        made_of_parts=document.made_of_parts,
    )


def _with_depth(canvas: Part) -> Iterator[tuple[Part, int]]:
    stack = [(canvas, 0)]
    while stack:
        part, depth = stack.pop()
        yield part, depth
        stack.extend((child, depth + 1) for child in reversed(part.children))


def _facts(document: Document, part: Part, depth: int, measure: bool) -> PartFacts:
    extent, fingerprint, problem = None, "", ""
    css, likeness, strays = "", "", None
    if measure:
        try:
            extent = document.extent(part)
            fingerprint = document.fingerprint(part)
            likeness, css = document.likeness(part), document.css(part)
            strays = _strays(document, part)
        except SourceError as error:
            if part.path == CANVAS_PATH and not part.children:
                raise
            extent, problem = None, error.told
    return PartFacts(
        path=part.path,
        name=part.name,
        kind=part.kind,
        depth=depth,
        tags=part.tags,
        visible=part.visible,
        opacity=part.opacity,
        blend=part.blend,
        scalable=part.scalable,
        extent=extent,
        fingerprint=fingerprint,
        problem=problem,
        id=part.id,
        isolated=part.isolated,
        likeness=likeness,
        css=css,
        strays=strays,
    )


def _strays(document: Document, part: Part) -> StrayFacts | None:
    found = document.strays(part)
    if found is None:
        return None
    return StrayFacts(
        words=in_words(found.names, found.extents, found.rest),
        extents=found.extents,
        rest=found.rest,
        fingerprint=found.fingerprint,
    )

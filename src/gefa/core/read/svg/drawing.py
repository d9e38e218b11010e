"""SVG: a part is a group, image, text, use or shape that has a name."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from functools import cached_property
from math import ceil
from pathlib import Path
from xml.etree.ElementTree import Element

import pyvips

from gefa.core.errors import NotDrawable, PartMissing, SourceError
from gefa.core.geometry import NOWHERE, Rect, Size, union_all
from gefa.core.pixels import box_of, inside, visible_box, with_alpha
from gefa.core.read import xml
from gefa.core.read.document import (
    CANVAS_PATH,
    Document,
    Kind,
    Notice,
    Original,
    Part,
    StoredFile,
    Strays,
)
from gefa.core.read.embedded import media_type_of, size_of
from gefa.core.read.likeness import likeness_of
from gefa.core.read.limits import MAX_PARTS, check_size
from gefa.core.read.part_names import PathBook, split_tags, tag_name
from gefa.core.read.sniff import sniff
from gefa.core.read.strays import area, find_strays
from gefa.core.read.svg import fonts
from gefa.core.read.svg.cascade import put_in_styles
from gefa.core.read.svg.costs import check_costs, check_filters
from gefa.core.read.svg.css_boxes import css_of
from gefa.core.read.svg.css_values import rewrite
from gefa.core.read.svg.elements import (
    KINDS,
    RESOURCES,
    canvas_size,
    embedded,
    has_bitmap,
    href,
    is_shown,
    number,
    own_property,
    raw_name,
)
from gefa.core.read.svg.filter_work import filter_work
from gefa.core.read.svg.frame import DPI, Painter
from gefa.core.read.svg.isolate import Isolator, Line
from gefa.core.read.svg.normalise import normalise
from gefa.core.read.svg.reach import Reaches
from gefa.core.read.svg.standalone import copy_of, standalone
from gefa.core.read.svg.undrawn import undrawn
from gefa.core.threads import on_all_cores

__all__ = ["DPI", "Svg"]

_NEAR_SIDE, _FAR_SIDE = 400, 820
"""px of the longer side when looking for where a part is, near the canvas and far from it"""
_FAR = 20
"""canvases from the canvas within which a part is searched for"""


class Svg(Document):
    """An SVG drawing. Each part is drawn alone by removing the others."""

    def __init__(self, path: Path, name: str) -> None:
        self._file = name
        self._svg = xml.parse(path.read_bytes(), name, "the drawing")
        if xml.local_name(self._svg.tag) != "svg":
            raise SourceError(
                f"is XML, but its root is <{xml.local_name(self._svg.tag)}>, not <svg>.",
                file=name,
                advice="Export it as SVG and bring it in again.",
            )
        normalise(self._svg)
        size, told = canvas_size(self._svg, name)
        check_size(size, name, "the canvas")
        self._lines: dict[str, Line] = {CANVAS_PATH: (self._svg,)}
        self._by_id = {e.get("id", ""): e for e in self._svg.iter() if e.get("id")}
        self._styles = [e for e in self._svg.iter() if xml.local_name(e.tag) == "style"]
        unknown_css = rewrite(self._svg, self._styles)
        self._isolator = Isolator(self._svg, self._by_id, self._styles)
        self._reaches = Reaches(self._svg, self._by_id, self._styles, size)
        self._painter = Painter(self._svg, size, name)
        check_costs(self._svg, name)
        check_filters(self._filter_work(size), name)
        self._far_seen: Rect | None = None
        self._paths = PathBook()
        self._extents: dict[str, Rect] = {}
        self._likenesses: dict[str, str] = {}
        self._strays: dict[str, tuple[Line, ...]] = {}
        parts = tuple(self._parts(self._svg, "", (self._svg,)))
        canvas = Part(
            CANVAS_PATH,
            "",
            Path(name).stem or name,
            Kind.CANVAS,
            scalable=not has_bitmap(self._svg),
            children=parts,
        )
        paths = {line[-1]: path for path, line in self._lines.items()}
        notices = [Notice(CANVAS_PATH, reason) for reason in told]
        notices += undrawn(self._svg, self._by_id, paths, unknown_css)
        super().__init__(name, "svg", size, canvas, [*notices, *self._missing_typefaces()])
        if len(self._lines) > MAX_PARTS:
            raise SourceError(
                f"has {len(self._lines):,} named parts; the limit is {MAX_PARTS:,}.",
                file=name,
                advice="Split the drawing into several files.",
            )

    def _missing_typefaces(self) -> Iterator[Notice]:
        """One notice for each typeface that text asks for and this machine does not have."""
        told: set[str] = set()
        for path, line in self._lines.items():
            if xml.local_name(line[-1].tag) == "g" or path == CANVAS_PATH:
                continue
            yield from _typeface_notices(path, fonts.asked_for(line), told)
        everywhere = [*fonts.asked_for((self._svg,)), *fonts.in_sheets(self._styles)]
        yield from _typeface_notices(CANVAS_PATH, iter(everywhere), told)

    # -- the tree ------------------------------------------------------------------------

    def _parts(self, element: Element, parent: str, line: Line) -> Iterator[Part]:
        """Named descendants of ``element``, topmost (last drawn) first."""
        for child in reversed(element):
            kind = KINDS.get(xml.local_name(child.tag))
            if kind is None:
                continue
            raw = raw_name(child)
            if raw:
                yield self._part(child, kind, raw, parent, (*line, child))
            elif kind is Kind.GROUP:
                yield from self._parts(child, parent, (*line, child))

    def _part(self, element: Element, kind: Kind, raw: str, parent: str, line: Line) -> Part:
        name, tags = split_tags(raw)
        path = self._paths.path(parent, name or (tag_name(tags[0]) if tags else kind.value))
        self._lines[path] = line
        children = tuple(self._parts(element, path, line)) if kind is Kind.GROUP else ()
        return Part(
            path,
            element.get("id", ""),
            name,
            kind,
            tags,
            is_shown(element),
            number(own_property(element, "opacity"), 1.0),
            own_property(element, "mix-blend-mode").replace("normal", "") or "src-over",
            scalable=not self._shows_bitmap(element),
            children=children,
        )

    def _shows_bitmap(self, element: Element) -> bool:
        return has_bitmap(element) or any(
            has_bitmap(self._by_id[ref]) for ref in self._isolator.needed_by([element])
        )

    # -- drawing -------------------------------------------------------------------------

    def _part_alone(self, part: Part, whole: bool) -> Element:
        without = () if whole else self._stray_lines(part)
        gone = frozenset(line[-1] for line in without)
        return self._isolator.alone(self._lines[part.path], part.visible, gone)

    def _drawn(self, root: Element, line: Line, region: Rect, scale: float) -> pyvips.Image:
        return self._painter.draw(root, region, scale, self._reaches.of(line))

    def _filter_work(self, canvas: Size) -> float:
        root, by_id = self._svg, self._by_id
        sheets = " ".join(sheet.text or "" for sheet in self._styles)
        if "filter" in sheets:
            _, twins, problem = self._styled
            if not problem:
                root, sheets = twins[self._svg], ""
                by_id = {e.get("id", ""): e for e in root.iter() if e.get("id")}
        reaches = Reaches(root, by_id, (), canvas)
        return filter_work(root, by_id, canvas, reaches.scale, sheets)

    # -- where parts are -----------------------------------------------------------------

    def measure(self, parts: Sequence[Part]) -> None:
        self._everything()
        on_all_cores(self.extent, parts)

    def extent(self, part: Part) -> Rect:
        if part.path == CANVAS_PATH:
            return self.canvas_rect
        if part.path not in self._extents:
            root = self._part_alone(part, whole=True)
            line = self._lines[part.path]
            rough = self._found(root, line)
            self._extents[part.path] = self._exactly(root, line, rough, part.path)
        return self._extents[part.path]

    def _exactly(self, root: Element, line: Line, rough: Rect, path: str = "") -> Rect:
        if rough.empty or not self._painter.can_draw(rough):
            return rough
        pixels = with_alpha(self._drawn(root, line, rough, 1.0)).numpy()
        box = box_of(pixels[..., 3])
        if path:
            self._likenesses[path] = likeness_of(inside(pixels, box))
        return box.moved(rough.x, rough.y) if not box.empty else NOWHERE

    def _found(self, root: Element, line: Line) -> Rect:
        """The visible region of ``root``, found coarsely, near the canvas and far from it."""
        longer = max(self.size.width, self.size.height)
        slack = _FAR * longer // 200
        window = self.canvas_rect.grown(ceil(longer / 4))
        near = self._look(root, line, window, _NEAR_SIDE)
        if self._is_seen(line) and _covers(window, self._everything(), slack):
            return near
        far = self._look(root, line, self.canvas_rect.grown(_FAR * longer), _FAR_SIDE)
        return near if _covers(near, far, slack) else near.union(far)

    def _is_seen(self, line: Line) -> bool:
        """Whether the last element is visible in the whole drawing."""
        return all(
            is_shown(element) and number(own_property(element, "opacity"), 1.0) > 0.05
            for element in line
        )

    def _everything(self) -> Rect:
        """The visible region of the whole drawing, seen from afar."""
        if self._far_seen is None:
            longer = max(self.size.width, self.size.height)
            window = self.canvas_rect.grown(_FAR * longer)
            self._far_seen = self._look(self._svg, (self._svg,), window, _FAR_SIDE)
        return self._far_seen

    def _look(self, root: Element, line: Line, window: Rect, side: int) -> Rect:
        scale = min(1.0, side / max(window.width, window.height))
        box = visible_box(self._drawn(root, line, window, scale))
        if box.empty:
            return NOWHERE
        spare = ceil(1 / scale) + 1
        return Rect(
            window.x + int(box.x / scale),
            window.y + int(box.y / scale),
            ceil(box.width / scale),
            ceil(box.height / scale),
        ).grown(spare)

    def _extent_of(self, line: Line) -> Rect:
        """The extent of an element, which need not be a part."""
        root = self._isolator.alone(line)
        return self._exactly(root, line, self._found(root, line))

    # -- strays --------------------------------------------------------------------------

    def strays(self, part: Part) -> Strays | None:
        lines = self._stray_lines(part)
        if not lines:
            return None
        children = self._drawing_children(part)
        rest = union_all(self._extent_of(line) for line in children if line not in lines)
        return Strays(
            tuple(_called(line[-1]) for line in lines),
            tuple(self._extent_of(line) for line in lines),
            rest,
            self._print(self._part_alone(part, whole=False), rest),
        )

    def _drawing_children(self, part: Part) -> list[Line]:
        line = self._lines[part.path]
        return [(*line, child) for child in line[-1] if xml.local_name(child.tag) in KINDS]

    def _stray_lines(self, part: Part) -> tuple[Line, ...]:
        """Stray children of a group; only searched for if the group reaches far beyond
        the canvas."""
        if part.kind is not Kind.GROUP:
            return ()
        if part.path not in self._strays:
            self._strays[part.path] = self._search_strays(part)
        return self._strays[part.path]

    def _search_strays(self, part: Part) -> tuple[Line, ...]:
        extent = self.extent(part)
        inside = extent.intersection(
            self.canvas_rect.grown(max(self.size.width, self.size.height) // 10)
        )
        if inside.empty or area(extent) < 2 * area(inside):
            return ()
        children = self._drawing_children(part)
        boxes = [self._extent_of(line) for line in children]
        return tuple(children[index] for index in find_strays(boxes, self.canvas_rect))

    # -- asking for parts ----------------------------------------------------------------

    def likeness(self, part: Part) -> str:
        return self._likenesses.get(part.path, "")

    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        scale = width / region.width if part.scalable else 1.0
        return self._drawn(self._part_alone(part, whole), self._lines[part.path], region, scale)

    def render_on(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        scale = width / region.width if self.canvas.scalable else 1.0
        root = self._isolator.up_to(self._lines[part.path])
        return self._drawn(root, (self._svg,), region, scale)

    def fingerprint(self, part: Part) -> str:
        return self._print(self._part_alone(part, whole=True), self.extent(part))

    def _print(self, root: Element, region: Rect) -> str:
        digest = hashlib.sha256(self._painter.text_of(root))
        digest.update(f"{region}".encode())
        return digest.hexdigest()

    # -- as a file that stands alone -----------------------------------------------------

    @cached_property
    def _styled(self) -> tuple[Isolator, dict[Element, Element], str]:
        """An isolator for a copy of the drawing with its style sheets resolved, the copy's elements
        by those of the drawing, and why that was impossible."""
        copy, twins = copy_of(self._svg)
        problem = put_in_styles(copy, [twins[sheet] for sheet in self._styles])
        by_id = {e.get("id", ""): e for e in copy.iter() if e.get("id")}
        return Isolator(copy, by_id, ()), twins, problem

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
        isolator, twins, problem = self._styled
        if problem:
            raise NotDrawable(problem)
        without = () if whole else self._stray_lines(part)
        root = isolator.alone(
            tuple(twins[element] for element in self._lines[part.path]),
            part.visible,
            frozenset(twins[line[-1]] for line in without),
        )
        inner = self._painter.inner(root)
        return standalone(inner, region, size, keep_text=keep_text, matte=matte)

    def render_svg(self, data: bytes, part: Part, region: Rect, width: int) -> pyvips.Image:
        content = list(xml.parse(data, self._file, "the SVG file"))
        reach = self._reaches.of(self._lines[part.path])
        return with_alpha(self._painter.draw_all(content, region, width / region.width, reach))

    def css(self, part: Part) -> str:
        if self._styles or part.path == CANVAS_PATH:
            return ""
        return css_of(self._lines[part.path], self._by_id)

    # -- originals -----------------------------------------------------------------------

    def _stored(self) -> Iterator[tuple[Element, bytes]]:
        for element in self._svg.iter():
            data = embedded(href(element))
            if data:
                yield element, data

    def originals(self) -> list[Original]:
        found = []
        lines = {line[-1]: line for line in _lines_below((self._svg,))}
        paths = {line[-1]: path for path, line in self._lines.items()}
        for number_, (element, data) in enumerate(self._stored()):
            size, media_type = size_of(data), media_type_of(data)
            if size is None or not media_type:
                continue
            line = lines[element]
            path = next((paths[e] for e in reversed(line) if e in paths), CANVAS_PATH)
            hidden = any(xml.local_name(e.tag) in RESOURCES for e in line)
            own = raw_name(element) or path.rpartition("/")[2] or Path(self.name).stem
            found.append(
                Original(
                    str(number_),
                    path,
                    split_tags(own)[0] or own,
                    media_type,
                    size,
                    NOWHERE if hidden else self._extent_of(line),
                    len(data),
                )
            )
        return list(reversed(found))

    def stored_file(self, part: Part) -> StoredFile | None:
        element = self._lines.get(part.path, (self._svg,))[-1]
        found = [data for below in element.iter() if (data := embedded(href(below)))]
        if len(found) != 1:
            return None
        size, kind = size_of(found[0]), sniff(found[0][:4096])
        if size is None or kind is None:
            return None
        return StoredFile(kind.value, size, lambda: found[0], drawn=True)

    def original_bytes(self, key: str) -> bytes:
        for number_, (_, data) in enumerate(self._stored()):
            if str(number_) == key:
                return data
        raise PartMissing(f"holds no original {key!r}.", file=self.name)


def _lines_below(line: Line) -> Iterator[Line]:
    yield line
    for child in line[-1]:
        yield from _lines_below((*line, child))


def _called(element: Element) -> str:
    return split_tags(raw_name(element))[0] or f"unnamed {xml.local_name(element.tag)}"


def _typeface_notices(path: str, asked: Iterator[str], told: set[str]) -> Iterator[Notice]:
    for families in asked:
        name = fonts.missing(families)
        if name and name.lower() not in told:
            told.add(name.lower())
            yield Notice(
                path,
                f"asks for the typeface {name!r}, which is not installed here; its text is drawn"
                " in another one. Install it, or turn the text into outlines",
            )


def _covers(near: Rect, far: Rect, slack: int) -> bool:
    """Whether the box seen from afar lies inside the box seen from near."""
    return far.empty or near.grown(slack).union(far) == near.grown(slack)

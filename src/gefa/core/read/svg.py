"""SVG: a part is a group, image, text, use or shape that has a name."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Iterator, Sequence
from math import ceil
from pathlib import Path
from urllib.parse import unquote_to_bytes
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

import pyvips

from gefa.core.errors import SourceError
from gefa.core.geometry import NOWHERE, Rect, Size
from gefa.core.pixels import visible_box
from gefa.core.read import xml
from gefa.core.read.document import CANVAS_PATH, Document, Kind, Part
from gefa.core.read.limits import MAX_PARTS, check_size
from gefa.core.read.naming import PathBook, split_tags
from gefa.core.read.threads import on_all_cores

SVG = "http://www.w3.org/2000/svg"
DPI = 96
"""CSS px in an inch (CSS Values and Units 4, section 5.2)."""

KINDS = {
    "g": Kind.GROUP,
    "svg": Kind.GROUP,
    "a": Kind.GROUP,
    "switch": Kind.GROUP,
    "image": Kind.IMAGE,
    "text": Kind.TEXT,
    "use": Kind.USE,
    "path": Kind.SHAPE,
    "rect": Kind.SHAPE,
    "circle": Kind.SHAPE,
    "ellipse": Kind.SHAPE,
    "line": Kind.SHAPE,
    "polyline": Kind.SHAPE,
    "polygon": Kind.SHAPE,
}
RESOURCES = frozenset(
    {
        *("defs", "style", "linearGradient", "radialGradient", "pattern", "clipPath", "mask"),
        *("filter", "symbol", "marker", "font", "font-face", "color-profile", "cursor", "view"),
    }
)
"""Elements that show nothing where they stand."""
STYLE = "<style>"
"""stands for a style sheet where ids are noted; no id can be that"""
_UNITS = {"": 1.0, "px": 1.0, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "pt": 96 / 72,
          "pc": 16.0, "q": 96 / 101.6}  # fmt: skip
_LENGTH = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)\s*([a-z]*|%)\s*$", re.I)
_REFERENCE = re.compile(r"""url\(\s*['"]?#([^)'"\s]+)|^\s*#(\S+)\s*$""")
_ALWAYS_SHOWN = "display:inline!important"
_NEUTRAL = (
    f"{_ALWAYS_SHOWN};opacity:1!important;filter:none!important;mix-blend-mode:normal!important"
)
_NEAR_SIDE, _FAR_SIDE = 400, 820
"""px of the longer side when looking for where a part is, near the canvas and far from it"""
_FAR = 20
"""how many canvases away from the canvas a part is looked for"""
_MAX_RENDER_SIDE = 30_000


class Svg(Document):
    """An SVG drawing, opened. Each part is drawn alone by taking the others out."""

    def __init__(self, path: Path, name: str) -> None:
        self._file = name
        self._svg = xml.parse(path.read_bytes(), name, "the drawing")
        if xml.local_name(self._svg.tag) != "svg":
            raise SourceError(
                f"is XML, but its root is <{xml.local_name(self._svg.tag)}>, not <svg>.",
                file=name,
                advice="Export it as SVG and bring it in again.",
            )
        size = _canvas_size(self._svg, name)
        check_size(size, name, "the canvas")
        self._check_images()
        self._ancestors: dict[str, tuple[Element, ...]] = {CANVAS_PATH: (self._svg,)}
        self._by_id = {e.get("id", ""): e for e in self._svg.iter() if e.get("id")}
        self._styles = [e for e in self._svg.iter() if xml.local_name(e.tag) == "style"]
        self._held: dict[Element, frozenset[str]] = {}
        _note_held(self._svg, self._held)
        self._far_seen: Rect | None = None
        self._paths = PathBook()
        self._extents: dict[str, Rect] = {}
        parts = tuple(self._parts(self._svg, "", (self._svg,)))
        canvas = Part(
            CANVAS_PATH,
            CANVAS_PATH,
            Path(name).stem or name,
            Kind.CANVAS,
            scalable=not _has_bitmap(self._svg),
            children=parts,
        )
        super().__init__(name, "svg", size, canvas)
        if len(self._ancestors) > MAX_PARTS:
            raise SourceError(
                f"has {len(self._ancestors):,} named parts; the limit is {MAX_PARTS:,}.",
                file=name,
                advice="Split the drawing into several files.",
            )

    # -- the tree ------------------------------------------------------------------------

    def _parts(self, element: Element, parent: str, line: tuple[Element, ...]) -> Iterator[Part]:
        """Named descendants of ``element``, topmost (last drawn) first."""
        for child in reversed(element):
            kind = KINDS.get(xml.local_name(child.tag))
            if kind is None:
                continue
            raw = _raw_name(child)
            if raw:
                yield self._part(child, kind, raw, parent, (*line, child))
            elif kind is Kind.GROUP:
                yield from self._parts(child, parent, (*line, child))

    def _part(
        self, element: Element, kind: Kind, raw: str, parent: str, line: tuple[Element, ...]
    ) -> Part:
        name, tags = split_tags(raw)
        path = self._paths.path(parent, name or (tags[0] if tags else kind.value))
        self._ancestors[path] = line
        children = tuple(self._parts(element, path, line)) if kind is Kind.GROUP else ()
        return Part(
            path,
            element.get("id", path),
            name,
            kind,
            tags,
            _is_shown(element),
            _number(_property(element, "opacity"), 1.0),
            _property(element, "mix-blend-mode").replace("normal", "") or "src-over",
            scalable=not self._shows_bitmap(element),
            children=children,
        )

    def _shows_bitmap(self, element: Element) -> bool:
        return _has_bitmap(element) or any(
            _has_bitmap(self._by_id[ref]) for ref in self._closure([element])
        )

    # -- one part alone ------------------------------------------------------------------

    def _closure(self, roots: list[Element]) -> set[str]:
        """Ids that ``roots`` refer to, directly or through what they refer to."""
        found: set[str] = set()
        waiting = list(roots)
        while waiting:
            for reference in _references(waiting.pop()):
                if reference in self._by_id and reference not in found:
                    found.add(reference)
                    waiting.append(self._by_id[reference])
        return found

    def _alone(self, part: Part) -> Element:
        """The drawing with only this part and what it refers to."""
        line = self._ancestors[part.path]
        if len(line) == 1:
            return self._svg
        shells = [_shell(element) for element in line[:-1]]
        wanted = self._closure([line[-1], *shells, *self._styles])
        shown = _copy(line[-1], f"{_ALWAYS_SHOWN};mix-blend-mode:normal!important")
        if not part.visible:
            _add_style(shown, "visibility:visible")
        for depth in range(len(line) - 2, -1, -1):
            holder = _shell(line[depth]) if depth == 0 else _copy_shell(line[depth], _NEUTRAL)
            for child in line[depth]:
                if child is line[depth + 1]:
                    holder.append(shown)
                else:
                    holder.extend(self._resources(child, wanted))
            shown = holder
        return shown

    def _resources(self, element: Element, wanted: set[str]) -> Iterator[Element]:
        """What must stay of an element that is not shown: style sheets, and what somebody refers
        to."""
        held = self._held[element]
        if STYLE not in held and held.isdisjoint(wanted):
            return
        name = xml.local_name(element.tag)
        if name == "style":
            yield element
        elif name == "defs":
            kept = [inner for child in element for inner in self._resources(child, wanted)]
            if kept:
                shell = _shell(element)
                shell.extend(kept)
                yield shell
        elif held.isdisjoint(wanted):
            yield from (inner for inner in element.iter() if xml.local_name(inner.tag) == "style")
        elif name in RESOURCES:
            yield element
        else:
            shell = Element(f"{{{SVG}}}defs")
            shell.append(element)
            yield shell

    def _drawn(self, root: Element, region: Rect, scale: float) -> pyvips.Image:
        """``region`` (canvas px) of the drawing under ``root``, ``scale`` times its size."""
        width = max(1, round(region.width * scale))
        height = max(1, round(region.height * scale))
        if max(width, height) > _MAX_RENDER_SIDE:
            raise SourceError(
                f"would be drawn at {width:,} × {height:,} px;"
                f" {_MAX_RENDER_SIDE:,} px a side is the most a drawing can be rendered at.",
                file=self._file,
                advice="Ask for a smaller width.",
            )
        frame = Element(
            f"{{{SVG}}}svg",
            {
                "width": str(width),
                "height": str(height),
                "viewBox": f"{region.x} {region.y} {region.width} {region.height}",
                "preserveAspectRatio": "none",
            },
        )
        frame.append(self._inner(root))
        data = ElementTree.tostring(frame)
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

    def _inner(self, root: Element) -> Element:
        inner = _shell(root)
        inner.attrib.update(
            x="0", y="0", width=str(self.size.width), height=str(self.size.height),
            overflow="visible",
        )  # fmt: skip
        inner.extend(list(root))
        return inner

    # -- asking for parts ----------------------------------------------------------------

    def measure(self, parts: Sequence[Part]) -> None:
        self._everything()
        on_all_cores(self.extent, parts)

    def extent(self, part: Part) -> Rect:
        if part.path == CANVAS_PATH:
            return self.canvas_rect
        if part.path not in self._extents:
            self._extents[part.path] = self._measure(part)
        return self._extents[part.path]

    def _measure(self, part: Part) -> Rect:
        """Find the part coarsely, near and far, then to the pixel."""
        root = self._alone(part)
        longer = max(self.size.width, self.size.height)
        slack = _FAR * longer // 200
        window = self.canvas_rect.grown(ceil(longer / 4))
        rough = self._look(root, window, _NEAR_SIDE)
        if not self._is_seen(part) or not _covers(window, self._everything(), slack):
            far = self._look(root, self.canvas_rect.grown(_FAR * longer), _FAR_SIDE)
            rough = rough if _covers(rough, far, slack) else rough.union(far)
        if rough.empty or max(rough.width, rough.height) > _MAX_RENDER_SIDE:
            return rough
        return visible_box(self._drawn(root, rough, 1.0)).moved(rough.x, rough.y)

    def _is_seen(self, part: Part) -> bool:
        """Whether the part shows when the whole drawing is drawn."""
        return all(
            _is_shown(element) and _number(_property(element, "opacity"), 1.0) > 0.05
            for element in self._ancestors[part.path]
        )

    def _everything(self) -> Rect:
        """Where the whole drawing shows something, seen from afar."""
        if self._far_seen is None:
            longer = max(self.size.width, self.size.height)
            window = self.canvas_rect.grown(_FAR * longer)
            self._far_seen = self._look(self._svg, window, _FAR_SIDE)
        return self._far_seen

    def _look(self, root: Element, window: Rect, side: int) -> Rect:
        scale = min(1.0, side / max(window.width, window.height))
        box = visible_box(self._drawn(root, window, scale))
        if box.empty:
            return NOWHERE
        spare = ceil(1 / scale) + 1
        return Rect(
            window.x + int(box.x / scale),
            window.y + int(box.y / scale),
            ceil(box.width / scale),
            ceil(box.height / scale),
        ).grown(spare)

    def render(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        scale = width / region.width if part.scalable else 1.0
        return self._drawn(self._alone(part), region, scale)

    def fingerprint(self, part: Part) -> str:
        region = self.extent(part)
        digest = hashlib.sha256(ElementTree.tostring(self._inner(self._alone(part))))
        digest.update(f"{region}".encode())
        return digest.hexdigest()

    def _check_images(self) -> None:
        for element in self._svg.iter():
            href = _href(element)
            if href.startswith("data:"):
                _check_embedded(href, self._file)


def _canvas_size(svg: Element, file: str) -> Size:
    box = [_number(v, 0.0) for v in re.split(r"[\s,]+", svg.get("viewBox", "").strip())]
    from_box = (box[2], box[3]) if len(box) == 4 else (0.0, 0.0)
    width = _length(svg.get("width", ""), from_box[0])
    height = _length(svg.get("height", ""), from_box[1])
    if not width and not height:
        width, height = from_box
    elif width and not height and from_box[0]:
        height = width * from_box[1] / from_box[0]
    elif height and not width and from_box[1]:
        width = height * from_box[0] / from_box[1]
    if not (0 < width < 1e9 and 0 < height < 1e9):
        raise SourceError(
            "has neither a usable width and height nor a viewBox.",
            file=file,
            advice="Give the <svg> element a viewBox and bring it in again.",
        )
    return Size(max(1, round(width)), max(1, round(height)))


def _length(text: str, whole: float) -> float:
    """A CSS length in px; a percentage of ``whole``; 0 if it says nothing usable."""
    match = _LENGTH.match(text)
    if not match:
        return 0.0
    value, unit = float(match[1]), match[2].lower()
    if unit == "%":
        return whole * value / 100
    return value * _UNITS.get(unit, 16.0 if unit in ("em", "rem") else 0.0)


def _number(text: str, default: float) -> float:
    try:
        value = float(text.strip().removesuffix("%")) / (100 if text.strip().endswith("%") else 1)
    except ValueError:
        return default
    return value if value == value else default


def _raw_name(element: Element) -> str:
    for child in element:
        if xml.local_name(child.tag) == "title" and (child.text or "").strip():
            return (child.text or "").strip()
    for key, value in element.attrib.items():
        if xml.local_name(key) == "label" and value.strip():
            return value.strip()
    return element.get("id", "").strip()


def _property(element: Element, name: str) -> str:
    """A presentation property of the element itself: its style attribute first."""
    for declaration in element.get("style", "").split(";"):
        key, _, value = declaration.partition(":")
        if key.strip().lower() == name:
            return value.replace("!important", "").strip()
    return element.get(name, "").strip()


def _is_shown(element: Element) -> bool:
    hidden = _property(element, "visibility") in ("hidden", "collapse")
    return not hidden and _property(element, "display") != "none"


def _href(element: Element) -> str:
    for key, value in element.attrib.items():
        if xml.local_name(key) == "href" or key == "href":
            return value.strip()
    return ""


def _references(element: Element) -> Iterator[str]:
    for inner in element.iter():
        for key, value in inner.attrib.items():
            if "#" in value and key != "id":
                for match in _REFERENCE.finditer(value):
                    yield match[1] or match[2]
        if xml.local_name(inner.tag) == "style" and inner.text:
            for match in _REFERENCE.finditer(inner.text):
                yield match[1] or match[2]


def _has_bitmap(element: Element) -> bool:
    return any(xml.local_name(e.tag) in ("image", "feImage") for e in element.iter())


def _shell(element: Element) -> Element:
    return Element(element.tag, dict(element.attrib))


def _copy_shell(element: Element, style: str) -> Element:
    shell = _shell(element)
    _add_style(shell, style)
    return shell


def _copy(element: Element, style: str) -> Element:
    copy = _copy_shell(element, style)
    copy.text = element.text
    copy.extend(list(element))
    return copy


def _add_style(element: Element, style: str) -> None:
    own = element.get("style", "").strip().rstrip(";")
    element.set("style", f"{own};{style}" if own else style)


def _note_held(element: Element, held: dict[Element, frozenset[str]]) -> None:
    """For each element below ``element``: what it holds that others may need, that is the ids in
    it, and ``STYLE`` if there is a style sheet in it."""
    order = list(element.iter())
    for inner in reversed(order):
        own = {inner.get("id", "")} - {""}
        if xml.local_name(inner.tag) == "style":
            own.add(STYLE)
        held[inner] = frozenset(own.union(*(held[child] for child in inner)))


def _covers(near: Rect, far: Rect, slack: int) -> bool:
    """Whether what was seen from afar lies inside what was seen from near."""
    return far.empty or near.grown(slack).union(far) == near.grown(slack)


def _check_embedded(href: str, file: str) -> None:
    head, _, body = href.partition(",")
    try:
        data = base64.b64decode(body) if head.endswith(";base64") else unquote_to_bytes(body)
        image = pyvips.Image.new_from_buffer(data, "", access="sequential")
        size = Size(image.width, image.height)
    except (pyvips.Error, binascii.Error, ValueError):
        return  # the renderer leaves out what it cannot read
    check_size(size, file, "a picture inside the drawing")

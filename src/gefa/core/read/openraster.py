"""OpenRaster: a zip with a stack of layers, each a PNG of its own."""

from __future__ import annotations

import hashlib
import posixpath
import struct
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from urllib.parse import unquote
from xml.etree.ElementTree import Element

import pyvips
from pydantic import BaseModel, ValidationError

from gefa.core.errors import SourceError
from gefa.core.geometry import NOWHERE, Rect, Size, union_all
from gefa.core.pixels import as_image, box_of, inside, one_colour, to_srgb, with_alpha
from gefa.core.read import xml
from gefa.core.read.bitmaps import Bitmap, BitmapCache
from gefa.core.read.blend import (
    EATING,
    OPERATORS,
    PlacedBitmap,
    PlacedGroup,
    compose,
    compose_planes,
    faded,
)
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
from gefa.core.read.likeness import likeness_of
from gefa.core.read.limits import MAX_LAYER_BYTES, check_size
from gefa.core.read.part_names import PathBook, one_line, split_tags, tag_name
from gefa.core.read.scratch import Scratch
from gefa.core.read.strays import find_strays
from gefa.core.threads import on_all_cores

_SAVE_AGAIN = "Save it again from the program that made it, and bring it in anew."
_MEASURED = "layer facts, edition 1"
KEPT_BYTES = 192_000_000
"""of unpacked layers, cached for the next request"""


@dataclass(frozen=True, slots=True)
class _Node:
    """The content of a part: a bitmap in the zip at a position, or children."""

    part: Part
    member: str
    x: int
    y: int
    children: tuple[_Node, ...]


class _LayerFacts(BaseModel):
    """Measurements of a layer's bitmap: ``box`` is its visible rectangle, in its own px."""

    size: Size
    box: Rect
    likeness: str
    colour: str


class OpenRaster(Document):
    """An OpenRaster file; layers are unpacked on request."""

    def __init__(self, path: Path, name: str, scratch: Scratch | None = None) -> None:
        self._scratch = scratch or Scratch()
        self._path = path
        self._file = name
        self._extents: dict[str, Rect] = {}
        self._found: list[Notice] = []
        self._lost: set[str] = set()
        self._facts: dict[str, _LayerFacts] = {}
        self._digests: dict[str, str] = {}
        self._bitmaps = BitmapCache(KEPT_BYTES)
        self._archive = self._zip()
        self._members = {
            posixpath.normpath(info.filename): info for info in self._archive.infolist()
        }
        image = xml.parse(self._unpack("stack.xml"), name, "stack.xml")
        size = Size(_whole(image, "w"), _whole(image, "h"))
        check_size(size, name, "the canvas")
        stack = next((child for child in image if xml.local_name(child.tag) == "stack"), None)
        if stack is None:
            raise SourceError("stack.xml has no stack of layers.", file=name, advice=_SAVE_AGAIN)
        self._paths = PathBook()
        children = tuple(self._nodes(stack, "", 0, 0))
        canvas = Part(
            CANVAS_PATH,
            "",
            Path(name).stem or name,
            Kind.CANVAS,
            children=tuple(node.part for node in children),
        )
        self._root = _Node(canvas, "", 0, 0, children)
        self._node_of = {node.part.path: node for node in _walk(self._root)}
        super().__init__(name, "openraster", size, canvas, self._found)
        self.made_of_parts = True

    # -- reading the stack ---------------------------------------------------------------

    def _nodes(self, stack: Element, parent: str, dx: int, dy: int) -> Iterator[_Node]:
        for element in stack:
            kind = xml.local_name(element.tag)
            if kind in ("stack", "layer"):
                yield self._node(element, kind, parent, dx, dy)
            elif kind:
                name = one_line(element.get("name", ""))[:60] or "without a name"
                reason = (
                    f"<{kind}> {name!r} in stack.xml is not drawn: OpenRaster has no such layer"
                )
                self._found.append(Notice(parent or CANVAS_PATH, reason))

    def _node(self, element: Element, kind: str, parent: str, dx: int, dy: int) -> _Node:
        label, tags = split_tags(element.get("name", ""))
        path = self._paths.path(parent, label or (tag_name(tags[0]) if tags else kind))
        member = self._member_of(element.get("src", "")) if kind == "layer" else ""
        x, y = dx + _whole(element, "x"), dy + _whole(element, "y")
        opacity = _opacity(element)
        blend = self._operator(element, path)
        children = tuple(self._nodes(element, path, x, y)) if kind == "stack" else ()
        isolated = opacity < 1 or blend != "src-over" or element.get("isolation") == "isolate"
        part = Part(
            path,
            _id_of(element),
            label,
            Kind.GROUP if kind == "stack" else Kind.LAYER,
            tags,
            element.get("visibility", "visible") != "hidden",
            opacity,
            blend,
            isolated=isolated,
            children=tuple(node.part for node in children),
        )
        return _Node(part, member, x, y, children)

    def _member_of(self, source: str) -> str:
        """The name of a layer's bitmap inside the zip, never outside it. Whether it exists shows
        when the layer is read."""
        for written in (source, unquote(source)):
            plain = posixpath.normpath(written.replace("\\", "/").lstrip("/"))
            if plain in self._members:
                return plain
        return source

    def _operator(self, element: Element, path: str) -> str:
        named = element.get("composite-op", "svg:src-over").removeprefix("svg:")
        if named in OPERATORS:
            return named
        self._found.append(
            Notice(path, f"has the composite operator {named!r}, which Gefa draws as src-over")
        )
        return "src-over"

    # -- asking for parts ----------------------------------------------------------------

    def measure(self, parts: Sequence[Part]) -> None:
        nodes = [self._node_of[part.path] for part in parts]
        if any(node is self._root for node in nodes):
            nodes = [self._root]
        layers = {node.part.path: node for top in nodes for node in _walk(top)}
        on_all_cores(
            lambda node: self.extent(node.part),
            [node for node in layers.values() if node.part.kind is Kind.LAYER],
        )
        for node in layers.values():
            if node.part.kind is Kind.LAYER:
                self._extent_if_any(node)

    def extent(self, part: Part) -> Rect:
        if part.path not in self._extents:
            self._extents[part.path] = self._measure(self._node_of[part.path])
        return self._extents[part.path]

    def _measure(self, node: _Node) -> Rect:
        if node is self._root:
            return self.canvas_rect
        if node.part.opacity <= 0:
            return NOWHERE
        if node.part.kind is Kind.LAYER:
            return self._measure_layer(node)
        shown = [child for child in node.children if child.part.visible]
        box = union_all(self._extent_if_any(child) for child in shown)
        if box.empty or not any(inner.part.blend in EATING for inner in _walk(node)):
            return box
        return box_of(compose(self._stacked(node, box), box)[..., 3]).moved(box.x, box.y)

    def _extent_if_any(self, node: _Node) -> Rect:
        """The extent, or none if the bitmap cannot be read: the group then loses this
        layer only."""
        try:
            return self.extent(node.part)
        except SourceError as error:
            self._tell_lost(node, error)
            return NOWHERE

    def _tell_lost(self, node: _Node, error: SourceError) -> None:
        if node.part.path not in self._lost:
            self._lost.add(node.part.path)
            reason = f"{error.reason} It is missing wherever it would show"
            self.notices.append(Notice(node.part.path, reason))

    def _measure_layer(self, node: _Node) -> Rect:
        facts = self._layer_facts(node)
        return facts.box.moved(node.x, node.y) if not facts.box.empty else NOWHERE

    def _layer_facts(self, node: _Node) -> _LayerFacts:
        if node.member not in self._facts:
            self._facts[node.member] = self._measured(node)
        return self._facts[node.member]

    def _measured(self, node: _Node) -> _LayerFacts:
        """Measured once for each content, across all revisions."""
        data = self._unpack(node.member)
        key = f"{_MEASURED} {self._noted_digest(node.member, data)}"
        known = self._scratch.measured(key)
        if known is not None:
            with suppress(ValidationError):
                return _LayerFacts.model_validate(known)
        bitmap = self._bitmap(node, data)
        height, width = bitmap.shape[:2]
        box = box_of(bitmap[..., 3])
        visible = inside(bitmap, box)
        facts = _LayerFacts(
            size=Size(width, height),
            box=box,
            likeness=likeness_of(visible),
            colour=one_colour(visible),
        )
        self._scratch.note(key, facts.model_dump(mode="json"))
        return facts

    def likeness(self, part: Part) -> str:
        facts = self._facts_of(part)
        return facts.likeness if facts else ""

    def _facts_of(self, part: Part) -> _LayerFacts | None:
        """Measurements of a layer; None for a group, or before measuring."""
        return self._facts.get(self._node_of[part.path].member)

    def css(self, part: Part) -> str:
        facts = self._facts_of(part)
        colour = facts.colour if facts else ""
        if not colour:
            return ""
        fading = f"; opacity: {part.opacity:.4g}" if part.opacity < 1 else ""
        return f"background: {colour}{fading}"

    def strays(self, part: Part) -> Strays | None:
        node = self._node_of[part.path]
        rest = self._without_strays(node)
        if rest is node:
            return None
        gone = [child for child in node.children if child not in rest.children]
        return Strays(
            tuple(child.part.name or child.part.path for child in gone),
            tuple(self.extent(child.part) for child in gone),
            self._measure(rest),
            self._print(rest, self._measure(rest)),
        )

    def _without_strays(self, node: _Node) -> _Node:
        """The group without its stray children; the group itself if there are none."""
        if node.part.kind is not Kind.GROUP:
            return node
        shown = [child for child in node.children if child.part.visible]
        boxes = [self.extent(child.part) for child in shown]
        strays = {shown[index].part.path for index in find_strays(boxes, self.canvas_rect)}
        if not strays:
            return node
        kept = tuple(child for child in node.children if child.part.path not in strays)
        return replace(node, children=kept)

    def render(self, part: Part, region: Rect, width: int, *, whole: bool = True) -> pyvips.Image:
        node = self._node_of[part.path]
        try:
            return self._draw(node if whole else self._without_strays(node), region)
        except pyvips.Error as error:
            raise self._broken(part.path, str(error).strip().splitlines()[-1]) from error

    def render_on(self, part: Part, region: Rect, width: int) -> pyvips.Image:
        try:
            return self._draw(self._up_to(self._root, part.path), region)
        except pyvips.Error as error:
            raise self._broken(part.path, str(error).strip().splitlines()[-1]) from error

    def _up_to(self, node: _Node, path: str) -> _Node:
        """The node with ``path`` visible, and nothing above that path."""
        if node.part.path == path:
            return replace(node, part=replace(node.part, visible=True))
        for index, child in enumerate(node.children):
            if any(inner.part.path == path for inner in _walk(child)):
                below = (self._up_to(child, path), *node.children[index + 1 :])
                return replace(node, part=replace(node.part, visible=True), children=below)
        return node

    def coverage(self, part: Part, region: Rect, size: Size) -> pyvips.Image:
        node = self._node_of[part.path]
        if part.kind is not Kind.LAYER:
            return super().coverage(part, region, size)
        own = as_image(self._bitmap(node))[3] * part.opacity
        there = own.embed(node.x - region.x, node.y - region.y, region.width, region.height)
        across, down = size.width / region.width, size.height / region.height
        return there.resize(across, vscale=down, kernel="linear").cast("uchar")

    def _draw(self, node: _Node, region: Rect) -> pyvips.Image:
        """The node alone: with its own opacity, without blending."""
        if node.part.kind is Kind.LAYER:
            bitmap = as_image(self._bitmap(node)).embed(
                node.x - region.x, node.y - region.y, region.width, region.height, extend="black"
            )
            return faded(bitmap.copy(interpretation="srgb"), node.part.opacity)
        return as_image(compose(self._stacked(node, region), region, node.part.opacity))

    def _stacked(self, group: _Node, region: Rect) -> Iterator[PlacedBitmap | PlacedGroup]:
        """The bitmaps of a group, bottom first; without layers that cannot be read, which measuring
        has reported."""
        for child in reversed(group.children):
            if not child.part.visible or child.part.opacity <= 0:
                continue
            if child.part.kind is Kind.LAYER:
                with suppress(SourceError):
                    yield self._placed(child, blend=child.part.blend)
            elif not child.part.isolated:
                yield from self._stacked(child, region)
            else:
                inner = compose_planes(self._stacked(child, region), region)
                yield PlacedGroup(inner, region.x, region.y, child.part.opacity, child.part.blend)

    def _placed(self, node: _Node, blend: str) -> PlacedBitmap:
        return PlacedBitmap(self._bitmap(node), node.x, node.y, node.part.opacity, blend)

    def fingerprint(self, part: Part) -> str:
        return self._print(self._node_of[part.path], self.extent(part))

    def _print(self, node: _Node, corner: Rect) -> str:
        digest = hashlib.sha256()
        for line in self._ingredients(node, corner, alone=True):
            digest.update(line.encode())
        return digest.hexdigest()

    def _ingredients(self, node: _Node, corner: Rect, alone: bool) -> Iterator[str]:
        part = node.part
        blend = "src-over" if alone else part.blend
        yield f"{part.kind} {part.opacity} {blend} {part.isolated}\n"
        if part.kind is Kind.LAYER:
            yield f"{self._digest(node.member)} {node.x - corner.x} {node.y - corner.y}\n"
        for child in node.children:
            if child.part.visible:
                yield from self._ingredients(child, corner, alone=False)
        yield "end\n"

    # -- originals -----------------------------------------------------------------------

    def originals(self) -> list[Original]:
        found = []
        for node in _walk(self._root):
            if node.part.kind is not Kind.LAYER:
                continue
            try:
                shown = self.extent(node.part).intersection(self.canvas_rect)
                size = self._layer_facts(node).size
            except SourceError:
                continue
            path, name = node.part.path, node.part.name or node.part.path
            if node.member not in self._members:
                continue
            stored = self._members[node.member].file_size
            found.append(Original(path, path, name, "image/png", size, shown, stored))
        return found

    def stored_file(self, part: Part) -> StoredFile | None:
        if part.kind is not Kind.LAYER:
            return None
        node = self._node_of[part.path]
        return StoredFile("png", self._layer_facts(node).size, lambda: self._unpack(node.member))

    def original_bytes(self, key: str) -> bytes:
        return self._unpack(self._node_of[self.part(key).path].member)

    # -- the zip -------------------------------------------------------------------------

    def _zip(self) -> zipfile.ZipFile:
        try:
            return zipfile.ZipFile(self._path)
        except (zipfile.BadZipFile, OSError, ValueError) as error:
            raise self._broken("the file", f"not a complete zip ({error})") from error

    def _unpack(self, member: str) -> bytes:
        info = self._members.get(member)
        if info is None:
            raise self._broken(repr(member), "it is missing from the file")
        if info.file_size > MAX_LAYER_BYTES:
            raise self._broken(member, f"unpacks to {info.file_size / 1e6:,.0f} MB")
        try:
            return self._archive.read(info)
        except (
            zipfile.BadZipFile,
            zlib.error,
            EOFError,
            OSError,
            NotImplementedError,
            RuntimeError,
            struct.error,
        ) as error:
            raise self._broken(member, _unpacking_trouble(info, error)) from error

    def _digest(self, member: str) -> str:
        if member not in self._digests:
            self._noted_digest(member, self._unpack(member))
        return self._digests[member]

    def _noted_digest(self, member: str, data: bytes) -> str:
        if member not in self._digests:
            self._digests[member] = hashlib.sha256(data).hexdigest()
        return self._digests[member]

    def _bitmap(self, node: _Node, data: bytes | None = None) -> Bitmap:
        known = self._bitmaps.get(node.member)
        if known is None:
            known = self._decoded(node, self._unpack(node.member) if data is None else data)
            self._bitmaps.put(node.member, known)
        return known

    def _decoded(self, node: _Node, data: bytes) -> Bitmap:
        if not data.startswith(b"\x89PNG\r\n\x1a\n"):
            raise self._broken(node.member, "not a PNG")
        try:
            image = pyvips.Image.pngload_buffer(data, fail_on="error")
            size = Size(image.width, image.height)
            check_size(size, self._file, f"the layer {node.part.path!r}")
            return with_alpha(to_srgb(image)).numpy()
        except pyvips.Error as error:
            raise self._broken(node.member, "its PNG is damaged") from error

    def _broken(self, what: str, reason: str) -> SourceError:
        return SourceError(f"{what} cannot be read: {reason}.", file=self._file, advice=_SAVE_AGAIN)


def _unpacking_trouble(info: zipfile.ZipInfo, error: Exception) -> str:
    """The error in our words: Python's own describe the insides of a zip."""
    if info.flag_bits & 1:
        return "it is encrypted; save the file without a password"
    if isinstance(error, NotImplementedError):
        return "it uses an unknown compression; save the file with plain zip compression"
    return "it is damaged or cut off"


def _id_of(element: Element) -> str:
    """The id that the writing program gave the layer, if any."""
    for key, value in element.attrib.items():
        if xml.local_name(key) in ("id", "uuid"):
            return value.strip()
    return ""


def _walk(node: _Node) -> Iterator[_Node]:
    yield node
    for child in node.children:
        yield from _walk(child)


def _whole(element: Element, attribute: str) -> int:
    try:
        return max(-(2**30), min(2**30, round(float(element.get(attribute, "0")))))
    except (ValueError, OverflowError):
        return 0


def _opacity(element: Element) -> float:
    try:
        value = float(element.get("opacity", "1"))
    except ValueError:
        return 1.0
    return max(0.0, min(1.0, value)) if value == value else 1.0

"""From markup to pictures with their files, as a browser sees them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from gefa.core.weigh.addresses import FORMAT_OF_TYPE, FoundFile
from gefa.core.weigh.css_images import CssImage, CssOption, css_images
from gefa.core.weigh.html_page import HtmlPage, HtmlPicture, HtmlPreload, HtmlSource
from gefa.core.weigh.shown import ShownFile, ShownPicture, ShownSource
from gefa.core.weigh.srcset import Candidate, parse_srcset

Find = Callable[[str], FoundFile | str]
"""from an address to its file, or the reason why there is none"""
EVERYWHERE = frozenset({"", "image/gif", "image/bmp", "image/x-icon", "image/apng", "image/*"})
"""types that every browser shows and Gefa does not make"""
WINDOW = "100vw"
"""the default without ``sizes``"""


@dataclass
class ShownMarkup:
    """The pictures of a page, and mistakes in their addresses, with lines."""

    pictures: list[ShownPicture] = field(default_factory=list)
    problems: list[tuple[int, str]] = field(default_factory=list)


def shown_markup(page: HtmlPage, find: Find) -> ShownMarkup:
    """The pictures that a page loads: in elements, in styles, and by preloads that neither
    explains."""
    reader = _Reader(find)
    for picture in page.pictures:
        reader.add(reader.picture(picture))
    for style in page.styles:
        for image in css_images(style):
            reader.add(reader.background(image))
    for preload in page.preloads:
        reader.add(reader.preload(preload))
    return reader.found


class _Reader:
    def __init__(self, find: Find) -> None:
        self._find = find
        self.found = ShownMarkup()

    def add(self, picture: ShownPicture | None) -> None:
        if picture is not None and picture.files:
            self.found.pictures.append(picture)

    def picture(self, one: HtmlPicture) -> ShownPicture:
        sources = [self._source(source, one) for source in one.sources]
        last = self._source(one.img, one, src=one.src)
        shown = [source for source in sources if source is not None]
        everything = (*shown, *([last] if last is not None else []))
        name = one.alt or _name_of(everything) or one.src
        return ShownPicture(name, everything, eager=not one.lazy, alt=one.alt or "", line=one.line)

    def _source(self, source: HtmlSource, one: HtmlPicture, *, src: str = "") -> ShownSource | None:
        """None if no browser uses it: without a candidate, or in an unsupported type."""
        type = FORMAT_OF_TYPE.get(source.type)
        if type is None and source.type not in EVERYWHERE:
            return None
        told, problems = parse_srcset(source.srcset)
        self.found.problems += [(source.line, problem) for problem in problems]
        if src and not any(c.width is not None or c.density == 1 for c in told):
            told.append(Candidate(src))
        files = [(c, file) for c in told if (file := self._file(c.url, source.line)) is not None]
        if not files:
            return None
        return ShownSource(
            *_offered(files, source, one.width, lazy=one.lazy), media=source.media, type=type
        )

    def _file(self, url: str, line: int) -> FoundFile | None:
        found = self._find(url)
        if isinstance(found, FoundFile):
            return found
        if found and (line, found) not in self.found.problems:
            self.found.problems.append((line, found))
        return None

    def background(self, image: CssImage) -> ShownPicture:
        """An option for each type, in order; as wide as its file of density 1."""
        groups: dict[str, list[CssOption]] = {}
        for option in image.options:
            groups.setdefault(option.type, []).append(option)
        sources = []
        for told, options in groups.items():
            type = FORMAT_OF_TYPE.get(told)
            if type is None and told not in EVERYWHERE:
                continue
            candidates = [Candidate(option.url, None, option.density) for option in options]
            files = [(c, f) for c in candidates if (f := self._file(c.url, image.line)) is not None]
            if files:
                shown, sizes = _by_density(files, None)
                sources.append(ShownSource(shown, sizes, type=type))
        return ShownPicture(_name_of(sources), tuple(sources), line=image.line)

    def preload(self, link: HtmlPreload) -> ShownPicture | None:
        """Loaded where its condition matches, whether shown or not. A browser that does not support
        the type loads nothing."""
        source = link.source
        type = FORMAT_OF_TYPE.get(source.type)
        if type is None and source.type not in EVERYWHERE:
            return None
        told, problems = parse_srcset(source.srcset)
        self.found.problems += [(link.line, problem) for problem in problems]
        if not told and link.href:
            told = [Candidate(link.href)]
        files = [(c, f) for c in told if (f := self._file(c.url, link.line)) is not None]
        if not files:
            return None
        shown = ShownSource(*_offered(files, source, None), media=source.media, type=type)
        return ShownPicture(f"preload of {_name_of([shown])}", (shown,), line=link.line)


def _offered(
    files: Sequence[tuple[Candidate, FoundFile]],
    source: HtmlSource,
    width: float | None,
    *,
    lazy: bool = False,
) -> tuple[tuple[ShownFile, ...], str]:
    """Files as the markup offers them, with their ``sizes``; ``width`` is the attribute of an
    ``<img>``."""
    if all(candidate.width is None for candidate, _ in files):
        return _by_density(files, width)
    shown = tuple(_shown(file, float(candidate.width or file.width)) for candidate, file in files)
    sizes = (source.sizes or "").strip() or WINDOW
    if lazy and sizes.lower().startswith("auto"):
        # The browser measures the picture; here its told width has to do.
        sizes = sizes.partition(",")[2].strip() or (f"{width:g}px" if width else WINDOW)
    return shown, sizes


def _by_density(
    files: Sequence[tuple[Candidate, FoundFile]], width: float | None
) -> tuple[tuple[ShownFile, ...], str]:
    """Files offered by density: as wide as the attribute says, else as the first file at its
    density; a single file at most as wide as the window."""
    first, file = files[0]
    css = width or max(1.0, file.width / first.density)
    shown = tuple(_shown(found, candidate.density * css) for candidate, found in files)
    return shown, f"{css:g}px" if len(files) > 1 else f"min(100vw, {css:g}px)"


def _shown(file: FoundFile, offered: float) -> ShownFile:
    return ShownFile(file.path, file.format, offered, file.width, file.height, file.bytes, file.cut)


def _name_of(sources: Sequence[ShownSource]) -> str:
    """The cut's name, else the file name without its ending."""
    files = [file for source in sources for file in source.files]
    if not files:
        return ""
    return files[0].cut or PurePosixPath(files[0].path).stem

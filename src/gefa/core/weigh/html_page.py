"""The pictures of an HTML page, as they stand in its markup.

Read with the parser of Python's library, which knows the line of each element. What stands in
``<template>`` and ``<noscript>`` is not shown, so it is left out.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from html.parser import HTMLParser

from gefa.core.errors import SourceError

MOST_BYTES = 10_000_000
"""of a page"""
_UNSEEN = ("template", "noscript")
Attributes = Mapping[str, str | None]


@dataclass(frozen=True)
class HtmlSource:
    """Attributes of a ``<source>``, or of an ``<img>``."""

    line: int
    srcset: str = ""
    sizes: str | None = None
    media: str = ""
    type: str = ""

    @classmethod
    def of(cls, attributes: Attributes, line: int) -> HtmlSource:
        return cls(
            line,
            attributes.get("srcset") or "",
            attributes.get("sizes"),
            attributes.get("media") or "",
            (attributes.get("type") or "").strip().lower(),
        )


@dataclass(frozen=True)
class HtmlPicture:
    """An ``<img>`` with the ``<source>`` elements before it. ``alt`` is None without such an
    attribute; ``width`` and ``height`` are the attributes, in CSS px."""

    line: int
    sources: tuple[HtmlSource, ...]
    img: HtmlSource
    src: str
    alt: str | None
    width: float | None
    height: float | None
    lazy: bool


@dataclass(frozen=True)
class HtmlPreload:
    """A ``<link>`` that preloads a picture."""

    line: int
    href: str
    source: HtmlSource


@dataclass(frozen=True)
class HtmlStyle:
    """CSS of a ``<style>`` element, or the declarations of one ``style`` attribute."""

    line: int
    text: str
    declarations: bool


@dataclass
class HtmlPage:
    """The pictures of a page, in order."""

    pictures: list[HtmlPicture] = field(default_factory=list)
    preloads: list[HtmlPreload] = field(default_factory=list)
    styles: list[HtmlStyle] = field(default_factory=list)
    base: str = ""


def read_page(data: bytes, file: str) -> HtmlPage:
    """The pictures of a page. SourceError if it is too large, or not HTML."""
    if len(data) > MOST_BYTES:
        raise SourceError(f"has more than {MOST_BYTES // 1_000_000} MB.", file=file)
    if b"\0" in data[:1024]:
        raise SourceError("is not HTML.", file=file)
    return read_markup(data.decode("utf-8", "replace"))


def read_markup(text: str) -> HtmlPage:
    """The pictures of a piece of HTML."""
    reader = _Reader()
    # Behind the last ">" no element ends, and the parser would look for its end again and again.
    reader.feed(text[: text.rfind(">") + 1])
    reader.close()
    return reader.page


class _Reader(HTMLParser):
    """Reads the elements in order."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.page = HtmlPage()
        self._sources: list[HtmlSource] | None = None
        self._unseen: list[str] = []
        self._style: int | None = None

    def parse_html_declaration(self, i: int) -> int:
        """As HTML has it: what is neither a comment nor a doctype ends at the next ">". The library
        expects the marked sections of SGML, and raises where they are odd."""
        if self.rawdata.startswith("<![", i):
            end = self.rawdata.find(">", i)
            return end + 1 if end >= 0 else -1
        return int(super().parse_html_declaration(i))

    def parse_comment(self, i: int, report: bool = True) -> int:
        """A comment that is never closed goes on to the end of the page, as in HTML."""
        end = self.rawdata.find("-->", i + 4)
        return end + 3 if end >= 0 else len(self.rawdata)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        line = self.getpos()[0]
        # Of an attribute that is there twice the first counts, as in HTML.
        attributes = dict(reversed(attrs))
        if tag in _UNSEEN:
            self._unseen.append(tag)
        if self._unseen:
            return
        if style := attributes.get("style"):
            self.page.styles.append(HtmlStyle(line, style, declarations=True))
        if tag == "picture":
            self._sources = []
        elif tag == "source" and self._sources is not None:
            self._sources.append(HtmlSource.of(attributes, line))
        elif tag == "img":
            self._add_img(attributes, line)
        elif tag == "link":
            self._add_link(attributes, line)
        elif tag == "style":
            self._style = line
        elif tag == "base" and not self.page.base:
            self.page.base = attributes.get("href") or ""

    def handle_endtag(self, tag: str) -> None:
        if tag in self._unseen:
            while self._unseen.pop() != tag:
                pass
        elif tag == "picture":
            self._sources = None
        elif tag == "style":
            self._style = None

    def handle_data(self, data: str) -> None:
        if self._style is not None and not self._unseen:
            self.page.styles.append(HtmlStyle(self._style, data, declarations=False))

    def _add_img(self, attributes: Attributes, line: int) -> None:
        self.page.pictures.append(
            HtmlPicture(
                line,
                tuple(self._sources or ()),
                HtmlSource.of(attributes, line),
                (attributes.get("src") or "").strip(),
                (attributes.get("alt") or "") if "alt" in attributes else None,
                _number(attributes.get("width")),
                _number(attributes.get("height")),
                (attributes.get("loading") or "").strip().lower() == "lazy",
            )
        )
        if self._sources is not None:
            self._sources = []  # a second <img> of a <picture> takes none of its sources

    def _add_link(self, attributes: Attributes, line: int) -> None:
        words = (attributes.get("rel") or "").lower().split()
        if "preload" not in words or (attributes.get("as") or "").strip().lower() != "image":
            return
        source = HtmlSource(
            line,
            attributes.get("imagesrcset") or "",
            attributes.get("imagesizes"),
            attributes.get("media") or "",
            (attributes.get("type") or "").strip().lower(),
        )
        href = (attributes.get("href") or "").strip()
        self.page.preloads.append(HtmlPreload(line, href, source))


def _number(text: str | None) -> float | None:
    """A length in px, as HTML reads it: text after the number is ignored."""
    digits = ""
    for character in (text or "").strip():
        if not (character.isascii() and character.isdigit()):
            break
        digits += character
    return float(digits[:9]) if digits else None

"""The pictures that styles name: ``url()`` and ``image-set()`` of backgrounds. CSS Images 4, 5."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import tinycss2

from gefa.core.weigh.html_page import HtmlStyle

_PROPERTIES = ("background", "background-image")
_SETS = ("image-set", "-webkit-image-set")
_RESOLUTIONS = {"x": 1.0, "dppx": 1.0, "dpi": 1 / 96, "dpcm": 2.54 / 96}


@dataclass(frozen=True)
class CssOption:
    """An address with its density and media type; an empty type if none is given."""

    url: str
    density: float = 1.0
    type: str = ""


@dataclass(frozen=True)
class CssImage:
    """A background, as options for a browser to choose from."""

    line: int
    options: tuple[CssOption, ...]


def css_images(style: HtmlStyle) -> list[CssImage]:
    """The backgrounds of a style, in order. In one block the last declaration counts."""
    if style.declarations:
        blocks = [tinycss2.parse_blocks_contents(style.text)]
    else:
        rules = tinycss2.parse_stylesheet(style.text, skip_comments=True, skip_whitespace=True)
        blocks = list(_blocks(rules))
    found = []
    for block in blocks:
        images: list[CssImage] = []
        for one in block:
            if one.type != "declaration" or one.lower_name not in _PROPERTIES:
                continue
            line = style.line + one.source_line - 1
            told = [CssImage(line, options) for options in _images(one.value) if options]
            images = told or images
        found += images
    return found


def _blocks(rules: list[Any], depth: int = 0) -> Iterator[list[Any]]:
    """Blocks of rules, also inside conditions."""
    for rule in rules:
        if rule.type == "qualified-rule":
            yield tinycss2.parse_blocks_contents(rule.content)
        elif rule.type == "at-rule" and rule.content is not None and depth < 8:
            inner = tinycss2.parse_rule_list(rule.content, skip_comments=True, skip_whitespace=True)
            yield from _blocks(inner, depth + 1)


def _images(tokens: list[Any]) -> Iterator[tuple[CssOption, ...]]:
    for token in tokens:
        url = _url(token)
        if url:
            yield (CssOption(url),)
        elif token.type == "function" and token.lower_name in _SETS:
            yield tuple(_options(token.arguments))


def _options(tokens: list[Any]) -> Iterator[CssOption]:
    entry: list[Any] = []
    for one in [*tokens, None]:
        if one is not None and one != ",":
            entry.append(one)
            continue
        option = _option(entry)
        if option is not None:
            yield option
        entry = []


def _option(tokens: list[Any]) -> CssOption | None:
    url, density, type = "", 1.0, ""
    for token in tokens:
        if token.type == "dimension" and token.lower_unit in _RESOLUTIONS:
            density = float(token.value) * _RESOLUTIONS[token.lower_unit]
        elif token.type == "function" and token.lower_name == "type":
            type = "".join(t.value for t in token.arguments if t.type == "string").lower()
        elif token.type == "string":
            url = url or str(token.value)
        else:
            url = url or _url(token)
    return CssOption(url, density, type) if url else None


def _url(token: Any) -> str:
    if token.type == "url":
        return str(token.value)
    if token.type == "function" and token.lower_name == "url":
        return "".join(str(one.value) for one in token.arguments if one.type == "string")
    return ""

"""From a layer's name to a part's name, tags and path."""

from __future__ import annotations

import re
import unicodedata

_TAGS_AT_END = re.compile(r"(?:(?:^|\s)#[\w-]++(?:\s++\w++=\S++)*+)++\s*+$")
_TAG = re.compile(r"#([\w-]++(?:\s++\w++=\S++)*+)")
_NEAR_TAG = re.compile(r"[#＃﹟]\s?([\w-]+)")
"""a number sign of any width before a word, anywhere in a name"""
_MAX_NAME = 300
"""characters"""


def split_tags(raw: str) -> tuple[str, tuple[str, ...]]:
    """``"Skyline #backdrop look=60 #icon"`` to ``("Skyline", ("backdrop look=60", "icon"))``: a
    tag keeps the words ``key=value`` after it."""
    text = one_line(raw)
    found = _TAGS_AT_END.search(text)
    if not found:
        return text, ()
    return text[: found.start()].strip(), tuple(_TAG.findall(found.group()))


def tag_name(tag: str) -> str:
    """``"backdrop"`` of ``"backdrop look=60"``."""
    return tag.partition(" ")[0]


def near_tags(name: str) -> list[str]:
    """Words after a number sign that are not where tags can be, so they stay in the name."""
    return _NEAR_TAG.findall(name)


def tidied(name: str) -> str:
    """The name without such words and the separators around them."""
    kept = _NEAR_TAG.sub(" ", name)
    return " ".join(re.sub(r"[(\[{]\s*[)\]}]|(?<!\w)[.,;:)\]}]+", " ", kept).split())


def one_line(raw: str) -> str:
    """A name on one line, without control or direction-changing characters."""
    # What is far beyond the limit is cut off first: a name may be a book.
    spaced = re.sub(r"\s+", " ", raw[: 100 * _MAX_NAME])
    kept = "".join(c for c in spaced if unicodedata.category(c)[0] != "C")
    return kept.strip()[:_MAX_NAME]


class PathBook:
    """Gives every part of a document a unique path."""

    def __init__(self) -> None:
        self._used: set[str] = set()
        self._counts: dict[str, int] = {}

    def path(self, parent: str, name: str) -> str:
        """``parent/name``; a name used again under the same parent gets ``~2``, ``~3``, …"""
        segment = name.replace("/", "∕") or "unnamed"
        stem = f"{parent}/{segment}" if parent else segment
        path, count = stem, self._counts.get(stem, 1)
        while path in self._used:
            count += 1
            path = f"{stem}~{count}"
        self._counts[stem] = count
        self._used.add(path)
        return path

"""File names that are safe in every file system and every URL, and never clash."""

from __future__ import annotations

import re
from collections.abc import Iterable

from anyascii import anyascii

MAX_SEGMENT = 80
"""characters of one path segment, before the extension"""

_RESERVED = re.compile(r"con|prn|aux|nul|com[0-9]|lpt[0-9]", re.I)
_ALWAYS_TAKEN = ("manifest.json", "markup.html", "layout.html", "layout.css", "layout.json")


def safe(text: str) -> str:
    """``text`` in ASCII letters, digits, ``-`` and ``_``: transliterated, never empty.

    Reserved device names of Windows get a suffix (Naming Files, Paths, and Namespaces).
    """
    plain = re.sub(r"[^A-Za-z0-9_]+", "-", anyascii(text[: 4 * MAX_SEGMENT]))
    plain = plain[:MAX_SEGMENT].strip("-_")
    if not plain:
        return "cut"
    return f"{plain}-cut" if _RESERVED.fullmatch(plain) else plain


class NameBook:
    """Hands out names and paths that no other cut has, whatever the case of letters."""

    def __init__(self, paths: Iterable[str] = (), cuts: Iterable[str] = ()) -> None:
        self._paths = {path.casefold() for path in (*_ALWAYS_TAKEN, *paths)}
        self._cuts = {cut.casefold() for cut in cuts}
        self._clashes: list[str] = []

    def cut(self, wanted: str) -> str:
        """A safe name for a cut: ``hero``, then ``hero-2``, ``hero-3``, …"""
        stem = safe(wanted)
        name, count = stem, 1
        while name.casefold() in self._cuts:
            count += 1
            name = f"{stem}-{count}"
        self._cuts.add(name.casefold())
        return name

    def path(self, template: str, fields: dict[str, str]) -> str:
        """The template filled in, each segment made safe, ``/`` kept as a folder."""
        filled = template.format(**fields)
        folders, _, last = filled.replace("\\", "/").rpartition("/")
        stem, extension = _split_extension(last, fields["ext"])
        parts = [safe(folder) for folder in folders.split("/") if folder.strip(". ")]
        stem = "/".join([*parts, safe(stem)])
        path, count = f"{stem}.{extension}", 1
        if path.casefold() in self._paths:
            self._clashes.append(path)
        while path.casefold() in self._paths:
            count += 1
            path = f"{stem}-{count}.{extension}"
        self._paths.add(path.casefold())
        return path

    def clashes(self) -> list[str]:
        """Paths that were wanted once more since this was asked last; others were given."""
        found, self._clashes = self._clashes, []
        return found


def _split_extension(name: str, extension: str) -> tuple[str, str]:
    suffix = f".{extension}"
    return (name[: -len(suffix)] if name.endswith(suffix) else name), extension

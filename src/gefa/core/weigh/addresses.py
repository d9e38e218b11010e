"""Finds the files behind the addresses in a page."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from urllib.parse import SplitResult, quote, unquote, urljoin, urlsplit

import pyvips

from gefa.core.deliver.manifest import File, Manifest
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.svg_file import sent_bytes

FORMAT_OF_TYPE = {row.media_type: format for format, row in FORMATS.items()}
_OF_ENDING = {
    **{f".{format.value}": format for format in Format},
    ".jpg": Format.JPEG,
}
_HERE = "http://page.invalid/"
MOST_BYTES = 100_000_000
"""of a file whose header is read"""


@dataclass(frozen=True, slots=True)
class FoundFile:
    """A file found at an address. Sizes in px, 0 if unknown."""

    path: str
    format: Format | None
    width: int
    height: int
    bytes: int
    cut: str = ""


FindUpload = Callable[[SplitResult], FoundFile | str | None]
"""from an address to an upload's file, or the reason why there is none; None for any
other address"""


class Addresses:
    """Finds files by their addresses in pages below ``root``: files of a manifest, which lie in
    ``out``, files of uploads, and any other existing file."""

    def __init__(
        self,
        root: Path,
        manifest: Manifest | None = None,
        out: Path | None = None,
        uploads: FindUpload = lambda address: None,
    ) -> None:
        self._root = root.resolve()
        self._uploads = uploads
        self._out = out.resolve() if out is not None else None
        self._made: Mapping[str, File] = {f.path: f for f in manifest.files} if manifest else {}
        self._known: dict[tuple[str, ...], FoundFile | str] = {}
        self.used: set[str] = set()
        """paths in the manifest that some page named"""

    def find(self, url: str, page: str, base: str = "") -> FoundFile | str:
        """The file at ``url`` for the page at a path below the root, or why there is none; empty
        text for data URLs."""
        try:
            address = urljoin(urljoin(_HERE + quote(page), base), url.strip())
            split = urlsplit(address)
        except ValueError:
            return f"{url} is not an address"
        if split.scheme == "data":
            return ""
        upload = self._uploads(split)
        if upload is not None:
            return upload
        if not address.startswith(_HERE):
            return f"{url} is on another server, so it is not weighed"
        path = unquote(split.path).lstrip("/")
        # A page does not say which folder its server calls /: that of the page, or one above it.
        places = _folders_above(page) if url.strip().startswith("/") else ("",)
        key = (path, *places)
        if key not in self._known:
            try:
                self._known[key] = self._found(path, places)
            except (OSError, ValueError):  # no file can be called that
                self._known[key] = f"{path[:200]!r} is not there"
        found = self._known[key]
        if isinstance(found, FoundFile) and found.path in self._made:
            self.used.add(found.path)
        return found

    def unused(self) -> Iterable[File]:
        """Files of the manifest that no page has named."""
        return (file for path, file in self._made.items() if path not in self.used)

    def _found(self, path: str, places: Sequence[str]) -> FoundFile | str:
        on_disk = [(self._root / place / path).resolve() for place in places]
        inside = [disk for disk in on_disk if disk.is_relative_to(self._root)]
        for disk in inside:
            made = self._in_out(disk)
            if made is not None:
                return of_made(made)
        there = next((disk for disk in inside if disk.is_file()), None)
        made = self._by_ending(path)
        if made is not None and (there is None or there.stat().st_size == made.bytes):
            return of_made(made)
        return f"{path} is not there" if there is None else _of_disk(there, path)

    def _in_out(self, disk: Path) -> File | None:
        if self._out is None or not disk.is_relative_to(self._out):
            return None
        return self._made.get(disk.relative_to(self._out).as_posix())

    def _by_ending(self, path: str) -> File | None:
        """The made file with the longest matching end of the path: pages may be served from
        anywhere."""
        parts = PurePosixPath(path).parts
        ends = ("/".join(parts[at:]) for at in range(len(parts)))
        return next((self._made[end] for end in ends if end in self._made), None)


def _folders_above(page: str) -> tuple[str, ...]:
    """Folders above a page's path, the root first."""
    parts = PurePosixPath(page).parent.parts
    return tuple("/".join(parts[:at]) for at in range(len(parts) + 1))


def of_made(file: File) -> FoundFile:
    """A file of a manifest."""
    return FoundFile(file.path, file.format, file.width, file.height, file.sent, file.cut)


def _of_disk(file: Path, path: str) -> FoundFile | str:
    format = _OF_ENDING.get(file.suffix.lower())
    size = file.stat().st_size
    if format is Format.SVG and size <= MOST_BYTES:
        return FoundFile(path, format, 0, 0, sent_bytes(file.read_bytes()))
    try:
        header = pyvips.Image.new_from_file(str(file))
    except pyvips.Error:
        return f"{path} cannot be read as a picture"
    return FoundFile(path, format, header.width, header.height, size)

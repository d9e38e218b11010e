"""Which files of an out folder are Gefa's own. No other file is overwritten or deleted."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Collection, Iterable, Mapping
from functools import lru_cache
from pathlib import Path

from pydantic import ValidationError

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.errors import PlanError, TakenPath
from gefa.core.files import real, sha256_or_empty, stamp, write_whole

HIDDEN = ".gefa"
"""the folder inside the out folder for what Gefa remembers"""
PLACED = f"{HIDDEN}/placed.txt"
"""a line for each file that Gefa put into the folder: SHA-256 and path"""
_LINE = re.compile(r"([0-9a-f]{64}) (.+)")


def previous(out: Path) -> Manifest | None:
    """The manifest of the last export; None if there is no readable one."""
    try:
        text = (out / MANIFEST).read_text("utf-8")
        return Manifest.model_validate_json(text) if '"gefa_manifest"' in text else None
    except (OSError, ValidationError, UnicodeDecodeError):
        return None


@lru_cache(maxsize=8)
def _named(out: Path, saved: tuple[int, ...]) -> frozenset[str]:
    """The files that the manifest names. An export asks for them half a dozen times, and reading
    the manifest of a large site takes a tenth of a second."""
    before = previous(out)
    return before.paths if before else frozenset()


class OwnFiles:
    """The files that Gefa made in ``out``: those that its manifest names, and those that an export
    placed which never wrote a manifest, since it was stopped.

    The latter are known by path and bytes, and are written down before they are placed. So a file
    that somebody else put at such a path is never taken for ours.
    """

    def __init__(self, out: Path) -> None:
        self._out = out
        self._named = _named(out, stamp(out / MANIFEST))
        self._placed = _read(out / PLACED)
        self._inside: dict[Path, bool] = {}

    def check(self, path: str, sha256: str = "") -> None:
        """TakenPath if something lies at ``path`` that Gefa did not make, or if the path leads out
        of the folder. A file with the bytes ``sha256``, which are to be placed there, may stay."""
        target = self._out / path
        if not self._leads_inside(target.parent):
            raise TakenPath(
                f"{path} leads out of {self._out} through a link.", advice="Remove the link."
            )
        if not os.path.lexists(target) or self.has(path):
            return
        if not sha256 or sha256_or_empty(target) != sha256:
            raise TakenPath(
                f"{target} exists, and Gefa did not make it.",
                advice=f"Move it, or allow Gefa to replace it: --overwrite {target}",
            )

    def has(self, path: str) -> bool:
        """Whether Gefa made the file that lies at ``path``."""
        if path in self._named:
            return True
        digests = self._placed.get(path)
        return bool(digests) and sha256_or_empty(self._out / path) in (digests or ())

    def stopped(self, made: Collection[str] = ()) -> list[str]:
        """Files that are here and that neither the manifest nor ``made`` names: those of exports
        that were stopped."""
        return sorted(
            path
            for path in self._placed
            if path not in self._named and path not in made and self.has(path)
        )

    def holds(self, file: Path) -> bool:
        """Whether a file, wherever it lies, is one that Gefa made in this folder."""
        file = real(file)
        folder = real(self._out)
        return file.is_relative_to(folder) and self.has(file.relative_to(folder).as_posix())

    def claim(self, path: str, sha256: str) -> None:
        """Write down that a file with these bytes is about to be placed at ``path``."""
        self._placed.setdefault(path, set()).add(sha256)
        notes = self._out / PLACED
        notes.parent.mkdir(parents=True, exist_ok=True)
        # One write of a short line: lines of several processes do not mix (write(2), O_APPEND).
        handle = os.open(notes, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
        try:
            os.write(handle, f"{sha256} {path}\n".encode())
        finally:
            os.close(handle)

    def adopt(self, path: str) -> None:
        """Take the file that lies at ``path`` for one of Gefa's, since somebody says so."""
        digest = sha256_or_empty(self._out / path)
        if not digest:
            raise TakenPath(f"{self._out / path} is not a file.", advice="Remove it yourself.")
        self.claim(path, digest)

    def write(self, path: str, data: bytes) -> None:
        """Write a file at ``path``. TakenPath as ``check``."""
        self.check(path)
        self.claim(path, hashlib.sha256(data).hexdigest())
        write_whole(self._out / path, data)

    def settle(self, made: Mapping[str, str]) -> None:
        """At the end of an export: keep the notes of files ``made`` (SHA-256 by path), and of
        others that still lie where they were placed."""
        kept = {path: {sha256} for path, sha256 in made.items()}
        for path, digests in _read(self._out / PLACED).items():
            if path not in kept and (digest := sha256_or_empty(self._out / path)) in digests:
                kept[path] = {digest}
        lines = [f"{sha256} {path}\n" for path in sorted(kept) for sha256 in kept[path]]
        write_whole(self._out / PLACED, "".join(lines).encode())
        self._placed = kept

    def _leads_inside(self, folder: Path) -> bool:
        if folder not in self._inside:
            self._inside[folder] = real(folder).is_relative_to(real(self._out))
        return self._inside[folder]


class Sources:
    """The paths of sources, present and former. Nothing is ever written there, or deleted."""

    def __init__(self, paths: Iterable[Path]) -> None:
        self._by_path = {real(path): path for path in paths}
        # By links, and by letters that the disk does not tell apart, a file has several paths.
        self._by_file = {_identity(path): path for path in self._by_path.values()}
        self._by_file.pop(None, None)
        self._resolved: dict[Path, Path] = {}

    def at(self, target: Path) -> Path | None:
        """The source that is, or was, the file at ``target``."""
        parent = self._resolved.get(target.parent)
        if parent is None:
            parent = self._resolved[target.parent] = real(target.parent)
        return self._by_path.get(parent / target.name) or self._by_file.get(_identity(target))

    def refuse(self, out: Path, paths: Iterable[str]) -> None:
        """PlanError if one of ``paths`` in ``out`` is that of a source."""
        for path in paths:
            source = self.at(out / path)
            if source is not None:
                raise PlanError(
                    f"would be written over the source {source}.",
                    file=str(out / path),
                    advice="Choose another out folder, or another name in the recipe.",
                )


def _identity(path: Path) -> tuple[int, int] | None:
    """Device and number of a file; None if there is none."""
    try:
        found = os.stat(path)
    except OSError:
        return None
    return found.st_dev, found.st_ino


def _read(notes: Path) -> dict[str, set[str]]:
    try:
        lines = notes.read_text("utf-8", "replace").splitlines()
    except OSError:
        return {}
    found: dict[str, set[str]] = {}
    for line in lines:
        if match := _LINE.fullmatch(line):
            found.setdefault(match[2], set()).add(match[1])
    return found

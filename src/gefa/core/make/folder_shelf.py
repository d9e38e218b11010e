"""Shelves in an ordinary folder."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from pydantic import ValidationError

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import TakenPath
from gefa.core.files import sha256_or_empty, write_whole
from gefa.core.make.own_files import HIDDEN, OwnFiles, previous
from gefa.core.treat.made import CutFacts, MadeVariant

FRESH = f"{HIDDEN}/fresh"
"""folder for what a running export makes: files under their keys, and what is known of each"""
_RECORD, _FACTS = ".made.json", ".facts.json"


@dataclass
class Kept:
    """What was made before, by key: records, facts, and the files that still have their bytes."""

    made: dict[str, MadeVariant] = field(default_factory=dict)
    facts: dict[str, CutFacts] = field(default_factory=dict)
    places: dict[str, Path] = field(default_factory=dict)

    @classmethod
    def in_manifest(cls, out: Path, manifest: Manifest | None) -> Kept:
        """What a manifest tells of the files in ``out``; files with other bytes have no place."""
        if manifest is None:
            return cls()
        kept = cls.told_by(manifest)
        for file in manifest.files:
            if file.key and sha256_or_empty(out / file.path) == file.sha256:
                kept.places[file.key] = out / file.path
        return kept

    @classmethod
    def told_by(cls, manifest: Manifest) -> Kept:
        """The records and facts in a manifest; files are not looked for."""
        kept = cls(made={file.key: file.as_made() for file in manifest.files if file.key})
        for memory in manifest.memory:
            kept.made |= memory.tried
            if memory.facts is not None:
                kept.facts[memory.facts_key] = memory.facts
        return kept

    @classmethod
    def in_drafts(cls, folder: Path) -> Kept:
        """What a ``DraftShelf`` has left in its folder, also where its process was killed."""
        kept = cls()
        for note in folder.glob(f"*{_RECORD}"):
            key = note.name.removesuffix(_RECORD)
            try:
                made = MadeVariant.model_validate_json(note.read_bytes())
            except (OSError, ValidationError):
                continue
            if not made.sha256:
                kept.made[key] = made
            elif (folder / key).is_file():
                kept.made[key], kept.places[key] = made, folder / key
        for note in folder.glob(f"*{_FACTS}"):
            try:
                facts = CutFacts.model_validate_json(note.read_bytes())
            except (OSError, ValidationError):
                continue
            kept.facts[note.name.removesuffix(_FACTS)] = facts
        return kept


class DraftShelf:
    """Keeps what is made in ``folder``, each file under its key, until somebody places it. A file
    is there whole, with its record, as soon as it is made. ``taken`` are paths at which nothing may
    be placed, with the reasons."""

    def __init__(
        self, folder: Path, kept: Kept | None = None, taken: Mapping[str, str] | None = None
    ) -> None:
        self._drafts, self._taken = folder, taken or {}
        kept = kept or Kept()
        self._made, self._facts = dict(kept.made), dict(kept.facts)
        self._places = dict(kept.places)
        self._new: set[str] = set()

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        return {key: self._made[key] for key in keys if key in self._made}

    def facts(self, key: str) -> CutFacts | None:
        return self._facts.get(key)

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        if data is not None:
            write_whole(self._drafts / key, data)
            self._places[key] = self._drafts / key
        self._made[key] = made
        self._new.add(key)
        self._write(f"{key}{_RECORD}", made.model_dump_json())

    def note(self, key: str, made: MadeVariant) -> None:
        self._made[key] = made
        if key in self._new:
            self._write(f"{key}{_RECORD}", made.model_dump_json())

    def put_facts(self, key: str, facts: CutFacts) -> None:
        self._facts[key] = facts
        self._write(f"{key}{_FACTS}", facts.model_dump_json())

    def load(self, key: str) -> bytes | None:
        try:
            return self._places[key].read_bytes()
        except (KeyError, OSError):
            return None

    def place(self, key: str, path: str) -> bool:
        """Whether the bytes are there. TakenPath if they may not be placed."""
        if path in self._taken:
            raise TakenPath(self._taken[path])
        return key in self._places and self._places[key].is_file()

    def is_new(self, key: str) -> bool:
        return key in self._new

    def _write(self, name: str, text: str) -> None:
        """Not flushed to the disk: what a power cut takes is made again."""
        self._drafts.mkdir(parents=True, exist_ok=True)
        draft = self._drafts / f"{name}.{os.getpid()}.part"
        draft.write_text(text)
        draft.replace(self._drafts / name)


class FolderShelf(DraftShelf):
    """Puts files into a folder at their paths, and knows those that its manifest names."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder / FRESH, Kept.in_manifest(folder, previous(folder)))
        self.folder, self._own = folder, OwnFiles(folder)

    def place(self, key: str, path: str) -> bool:
        """Raises TakenPath if something lies there that Gefa did not make."""
        if not super().place(key, path):
            return False
        place_file(self._own, self._places[key], self.folder, path, self._made[key].sha256)
        return True

    def sweep(self) -> None:
        """Delete files that were made but not placed."""
        shutil.rmtree(self._drafts, ignore_errors=True)


def place_file(own: OwnFiles, file: Path, out: Path, path: str, sha256: str) -> None:
    """Put a file with these bytes at ``path`` in ``out`` too. TakenPath if something else lies
    there that is not one of the ``own`` files.

    A draft gets a second name, since it goes with the export. Anything else is copied: who edits a
    file in the out folder must not change another one, or a server's blob, with it.
    """
    target = out / path
    if file == target:
        return
    own.check(path, sha256)
    own.claim(path, sha256)
    # Among the drafts: what an export leaves that is killed just now goes with them.
    draft = out / FRESH / f"{sha256}-{os.getpid()}.part"
    for folder in (target.parent, draft.parent):
        folder.mkdir(parents=True, exist_ok=True)
    try:
        draft.unlink(missing_ok=True)
        linked = False
        if file.is_relative_to(out / FRESH) and file.stat().st_nlink == 1:
            with suppress(OSError):  # no links on this file system
                os.link(file, draft)
                linked = True
        if not linked:
            shutil.copyfile(file, draft)
        os.replace(draft, target)
    finally:
        draft.unlink(missing_ok=True)

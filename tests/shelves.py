"""A shelf in memory, and a folder that remembers."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.make.folder_shelf import FolderShelf
from gefa.core.make.report import JobReport
from gefa.core.treat.made import CutFacts, MadeVariant


def remember(out: Path, *reports: JobReport) -> None:
    """Write a manifest of what jobs made, as an export does at its end."""
    FolderShelf(out).sweep()
    files = [file for report in reports for file in report.files]
    memory = [report.memory for report in reports]
    (out / MANIFEST).write_text(Manifest(sources=[], files=files, memory=memory).to_json())


class MemoryShelf:
    """Keeps what is placed in ``data`` by path, and everything that was made in ``bytes`` and
    ``made`` by key. ``begin`` starts another job."""

    def __init__(self) -> None:
        self.data: dict[str, bytes] = {}
        self.bytes: dict[str, bytes] = {}
        self.made: dict[str, MadeVariant] = {}
        self.measured: dict[str, CutFacts] = {}
        self._new: set[str] = set()

    def begin(self) -> None:
        self.data.clear()
        self._new.clear()

    def known(self, keys: Iterable[str]) -> dict[str, MadeVariant]:
        return {key: self.made[key] for key in keys if key in self.made}

    def facts(self, key: str) -> CutFacts | None:
        return self.measured.get(key)

    def put(self, key: str, made: MadeVariant, data: bytes | None) -> None:
        if data is not None:
            self.bytes[key] = data
        self.made[key] = made
        self._new.add(key)

    def note(self, key: str, made: MadeVariant) -> None:
        self.made[key] = made

    def put_facts(self, key: str, facts: CutFacts) -> None:
        self.measured[key] = facts

    def load(self, key: str) -> bytes | None:
        return self.bytes.get(key)

    def place(self, key: str, path: str) -> bool:
        if key in self.bytes:
            self.data[path] = self.bytes[key]
        return key in self.bytes

    def is_new(self, key: str) -> bool:
        return key in self._new

"""What an out folder remembers of its sources: surveys, and the names they want."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from pathlib import Path

from pydantic import BaseModel, TypeAdapter, ValidationError

from gefa import __version__
from gefa.core.files import write_whole
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey

HIDDEN = ".gefa"
"""the folder inside the out folder that stores what was made from what"""
_WANTED = "wanted.json"
_PATHS: TypeAdapter[dict[str, list[str]]] = TypeAdapter(dict[str, list[str]])


class Stamp(BaseModel):
    """A file's modification time (ns) and size; ``sha256`` tells whether a file with another time
    is the same."""

    saved: int
    bytes: int
    sha256: str = ""

    @classmethod
    def of(cls, path: Path) -> Stamp:
        """OSError if there is no such file."""
        found = path.stat()
        return cls(saved=found.st_mtime_ns, bytes=found.st_size)

    def hashed(self, path: Path, before: Stamp | None = None) -> Stamp:
        """With the SHA-256, taken from ``before`` if that has the same time."""
        if before is not None and (before.saved, before.bytes) == (self.saved, self.bytes):
            return before
        with path.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        return self.model_copy(update={"sha256": digest})


class Remembered(BaseModel):
    """A source at the last export; ``elsewhere`` gives new paths of parts that the plan names by an
    older one. ``asked`` names what was measured."""

    survey: Survey
    elsewhere: dict[str, str] = {}
    stamp: Stamp | None = None
    asked: str = ""


class SurveyMemory:
    """Everything an out folder remembers of its sources."""

    def __init__(self, out: Path) -> None:
        self._folder = out / HIDDEN / "surveys"
        self._wanted = out / HIDDEN / _WANTED

    def last(self, name: str) -> Remembered | None:
        """The source at its last export."""
        try:
            return Remembered.model_validate_json(self._file(name).read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError):
            return None

    def current(self, name: str, path: Path, asked: str) -> Survey | None:
        """The survey of an unchanged source, if enough of it was measured."""
        last = self.last(name)
        if last is None or last.stamp is None or last.asked != asked:
            return None
        try:
            now = Stamp.of(path)
            if now.bytes != last.stamp.bytes:
                return None
            # A fresh checkout has other times than the one before.
            if now.saved != last.stamp.saved and now.hashed(path).sha256 != last.stamp.sha256:
                return None
        except OSError:
            return None
        return last.survey

    def remember(self, name: str, remembered: Remembered) -> None:
        write_whole(self._file(name), remembered.model_dump_json().encode())

    def _file(self, name: str) -> Path:
        digest = hashlib.sha256(name.encode("utf-8", "surrogateescape")).hexdigest()[:16]
        return self._folder / f"{digest}.json"

    def wanted(self) -> dict[str, list[str]]:
        """The paths that each source's cuts would have alone, so that names do not depend on which
        sources are exported together."""
        try:
            return _PATHS.validate_json(self._wanted.read_bytes())
        except (OSError, ValidationError):
            return {}

    def note_wanted(self, paths: Mapping[str, Iterable[str]], gone: Iterable[str]) -> None:
        """Store the wanted paths of sources; those that are ``gone`` want none."""
        kept = {name: list(p) for name, p in (self.wanted() | dict(paths)).items()}
        for name in gone:
            kept.pop(name, None)
        write_whole(self._wanted, json.dumps(kept, sort_keys=True).encode())


def asked_by(plan: Plan, *, whole: bool) -> str:
    """What to measure of a source by its plan: all of it, or its cuts."""
    what = "all" if whole else plan.model_dump_json(exclude_defaults=True)
    return hashlib.sha256(f"{__version__} {what}".encode()).hexdigest()[:20]

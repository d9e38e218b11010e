"""What is known in an out folder: its sources as they were read, and what was made of them.

All of it is a cache in ``.gefa``. The manifest alone is enough to make nothing again; what is in
both is believed of the manifest, since somebody may have pulled a newer one.
"""

from __future__ import annotations

import hashlib
import logging
import time
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

from pydantic import BaseModel
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlmodel import Session

from gefa import __version__
from gefa.core.deliver.manifest import File, Manifest
from gefa.core.errors import PlanError, TakenPath
from gefa.core.files import sha256_of, sha256_or_empty, stamp
from gefa.core.make.folder_shelf import FRESH, Kept, place_file
from gefa.core.make.job import CutJob
from gefa.core.make.own_files import HIDDEN, OwnFiles, previous
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.folder.older_memory import older_memory, remove_older_memory
from gefa.store import ledger, out_rows
from gefa.store.database import DATABASE, Database, FolderTrouble, is_current
from gefa.store.out_rows import SourceRow

NOTED_AT_ONCE = 100
"""sources that were read and are not written down yet: so many are read again after a kill"""
WRITE_SECONDS = 1.0
log = logging.getLogger("gefa.export")


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
        return self.model_copy(update={"sha256": sha256_of(path)})


class Remembered(BaseModel):
    """A source at the last export; ``elsewhere`` gives new paths of parts that the plan names by an
    older one. ``asked`` names what was measured."""

    survey: Survey
    elsewhere: dict[str, str] = {}
    stamp: Stamp | None = None
    asked: str = ""


class OutMemory:
    """Reads everything at the start, and writes each thing down as soon as it is made.

    With ``forget`` nothing that was made before is known. Without ``writes`` nothing is written.
    """

    def __init__(self, out: Path, *, forget: bool = False, writes: bool = True) -> None:
        self.out = out
        self.own = OwnFiles(out)
        self._forget = forget
        self._database = _opened(out / HIDDEN, writes=writes)
        self._writes = writes
        self._sources: dict[str, SourceRow] = {}
        self._surveys: dict[str, Remembered] = {}
        self._noted: dict[str, Remembered] = {}
        self._wanted: dict[str, list[str]] = {}
        self._placed: dict[str, tuple[str, int]] = {}
        self._made: dict[str, MadeVariant] = {}
        self._facts: dict[str, CutFacts] = {}
        self._looked_up: set[str] = set()
        self._new_made: dict[str, MadeVariant] = {}
        self._new_facts: dict[str, CutFacts] = {}
        self._new_placed: dict[str, tuple[str, int]] = {}
        self._written = time.monotonic()
        self._drafts = Kept.in_drafts(out / FRESH)
        try:
            self._read()
        except DatabaseError:  # damaged where opening it did not show
            self.close()
            self._database = _begun_anew(out / HIDDEN) if writes else None
        self._paths: dict[str, list[str]] = defaultdict(list)
        self._take_older()
        self._take_manifest(previous(out))
        for path, (key, _) in self._placed.items():
            self._paths[key].append(path)

    def _read(self) -> None:
        if self._database is not None:
            with self._database.reading() as session:
                self._sources = out_rows.source_rows(session)
                self._wanted = out_rows.wanted_paths(session)
                self._placed = out_rows.placed_files(session)

    @contextmanager
    def _changing(self) -> Iterator[Session]:
        """A session for changes. What cannot be written down costs time at the next export, and no
        file: it is told once, and nothing more is written."""
        assert self._database is not None
        try:
            with self._database.changing() as session:
                yield session
        except DatabaseError as error:
            self._writes = False
            log.warning(
                "%s cannot be written (%s); the next export goes by the manifest alone",
                self._database.file,
                error.orig,
            )

    def close(self) -> None:
        """Also where an export is stopped: what was made by then is written down."""
        self.flush()
        if self._database is not None:
            self._database.close()

    # -- sources ---------------------------------------------------------------------------

    def last(self, name: str) -> Remembered | None:
        """The source at its last export."""
        if name not in self._surveys and (row := self._sources.get(name)) is not None:
            with suppress(ValueError):  # written by a version with other surveys
                self._surveys[name] = Remembered(
                    survey=Survey.model_validate_json(row.survey),
                    elsewhere=row.elsewhere,
                    stamp=Stamp(saved=row.saved, bytes=row.bytes, sha256=row.sha256),
                    asked=row.asked,
                )
        return self._surveys.get(name)

    def current(self, name: str, path: Path, asked: str) -> Survey | None:
        """The survey of an unchanged source, if enough of it was measured."""
        row = self._sources.get(name)
        if row is not None and row.asked != asked:
            return None  # the survey is large, and would be parsed for nothing
        last = self.last(name)
        if last is None or last.stamp is None or last.asked != asked:
            return None
        try:
            found = Stamp.of(path)
            if found.bytes != last.stamp.bytes:
                return None
            # A fresh checkout has other times than the one before.
            if found.saved != last.stamp.saved and found.hashed(path).sha256 != last.stamp.sha256:
                return None
        except OSError:
            return None
        return last.survey

    def remember(self, name: str, remembered: Remembered) -> None:
        """Keep a source as it was read."""
        self._surveys[name] = self._noted[name] = remembered
        if len(self._noted) >= NOTED_AT_ONCE:
            self.write_down()

    def write_down(self) -> None:
        """Write down what is known of sources and is not yet."""
        if self._database is None or not (self._writes and self._noted):
            return
        rows = {}
        for name, one in self._noted.items():
            found = one.stamp or Stamp(saved=0, bytes=-1)
            row = SourceRow(found.sha256, "", found.saved, found.bytes, one.asked, one.elsewhere)
            rows[name] = row, one.survey
        with self._changing() as session:
            out_rows.write_sources(session, rows)
        self._noted.clear()

    @property
    def wanted(self) -> Mapping[str, list[str]]:
        """The paths that each source's cuts would have alone, so that names do not depend on which
        sources are exported together."""
        return self._wanted

    def note_wanted(self, paths: Mapping[str, Iterable[str]], gone: Iterable[str]) -> None:
        """Keep the wanted paths of sources, and forget those that are ``gone``."""
        self.write_down()
        new = {n: list(found) for n, found in paths.items() if list(found) != self._wanted.get(n)}
        left = [name for name in gone if name in self._sources or name in self._wanted]
        if self._database is None or not (self._writes and (new or left)):
            return
        with self._changing() as session:
            out_rows.write_wanted(session, new)
            out_rows.forget_sources(session, left)
        self._wanted |= new
        for name in left:
            self._wanted.pop(name, None)
            self._sources.pop(name, None)
            self._surveys.pop(name, None)

    # -- what was made ---------------------------------------------------------------------

    def look_up(self, jobs: Iterable[CutJob]) -> None:
        """Read all that is known of these jobs at once: one by one would take ten times as long."""
        if self._database is None or self._forget:
            return
        cuts = list(jobs)
        keys = {v.key for job in cuts for v in job.variants} - self._looked_up
        facts = {job.facts_key for job in cuts if job.variants} - self._looked_up
        if not (keys or facts):
            return
        with self._database.reading() as session:
            self._made = ledger.known(session, sorted(keys)) | self._made
            self._facts = ledger.facts(session, sorted(facts)) | self._facts
        self._looked_up |= keys | facts

    def known_of(self, job: CutJob) -> tuple[dict[str, MadeVariant], CutFacts | None]:
        """The records of a job's variants by key, and the facts of its pixels. ``look_up`` has to
        come first."""
        keys = (variant.key for variant in job.variants)
        made = {key: self._made[key] for key in keys if key in self._made}
        return made, self._facts.get(job.facts_key) if job.variants else None

    def kept_for(self, job: CutJob) -> Kept:
        """What is known of a job's variants, and where their bytes are."""
        if self._forget:
            return Kept()
        self.look_up([job])
        kept = Kept()
        for variant in job.variants:
            made = self._made.get(variant.key)
            if made is None:
                continue
            kept.made[variant.key] = made
            place = self._place_of(variant.key, variant.path)
            if place is not None:
                kept.places[variant.key] = place
        if (facts := self._facts.get(job.facts_key)) is not None:
            kept.facts[job.facts_key] = facts
        return kept

    def taken_for(self, job: CutJob) -> dict[str, str]:
        """The paths of a job's files where something lies that Gefa did not make, with reasons."""
        return dict(self._taken(variant.path for variant in job.variants))

    def _taken(self, paths: Iterable[str]) -> Iterator[tuple[str, str]]:
        for path in paths:
            try:
                self.own.check(path)
            except TakenPath as error:
                yield path, error.told

    def intact(self, key: str, path: str) -> bool:
        """Whether the file of a key lies at that path, with its bytes."""
        placed, made = self._placed.get(path), self._made.get(key)
        if self._forget or placed is None or placed[0] != key or made is None:
            return False
        file = self.out / path
        try:
            found = file.stat()
        except OSError:
            return False
        if found.st_size != made.bytes:
            return False
        if found.st_mtime_ns != placed[1]:
            if sha256_or_empty(file) != made.sha256:
                return False
            self._placed[path] = self._new_placed[path] = key, found.st_mtime_ns
        return True

    def _place_of(self, key: str, path: str) -> Path | None:
        """A file with the bytes of a key: the one at ``path``, if it is."""
        if self.intact(key, path):
            return self.out / path
        if key in self._drafts.places:
            return self._drafts.places[key]
        return next((self.out / p for p in self._paths.get(key, ()) if self.intact(key, p)), None)

    def keep(self, report: JobReport) -> dict[str, str]:
        """Place the files of a report, and write down all that it says. Returns paths that could
        not be used, with the reasons."""
        made = {key: one for key, one in report.made.items() if self._made.get(key) != one}
        facts = {key: one for key, one in report.facts.items() if key not in self._facts}
        self._made |= made
        self._facts |= facts
        taken, placed = {}, {}
        for path, key in report.keys.items():
            if self.intact(key, path):
                continue
            draft = self.out / FRESH / key
            file = draft if draft.is_file() else self._place_of(key, path)
            try:
                if file is None:
                    raise TakenPath(f"{self.out / path} was removed while it was made.")
                placed[path] = self.place(file, path, key, report.made[key])
            except TakenPath as error:
                taken[path] = error.told
        self.write(made, facts, placed)
        return taken

    def place(self, file: Path, path: str, key: str, made: MadeVariant) -> tuple[str, int]:
        """Put a file at a path of the out folder. TakenPath if something else lies there."""
        place_file(self.own, file, self.out, path, made.sha256)
        found = key, (self.out / path).stat().st_mtime_ns
        self._placed[path], self._made[key] = found, made
        self._paths[key].append(path)
        return found

    def write(
        self,
        made: Mapping[str, MadeVariant],
        facts: Mapping[str, CutFacts],
        placed: Mapping[str, tuple[str, int]],
    ) -> None:
        """Write down records by key, facts by key, and placed files: key and time by path. That is
        done at the latest after ``WRITE_SECONDS``: until then drafts have their own records."""
        self._new_made |= made
        self._new_facts |= facts
        self._new_placed |= placed
        if time.monotonic() - self._written > WRITE_SECONDS:
            self.flush()

    def flush(self) -> None:
        """Write down all that is not yet."""
        self._written = time.monotonic()
        if self._database is None or not self._writes:
            return
        if self._new_made or self._new_facts or self._new_placed:
            with self._changing() as session:
                ledger.enter(session, self._new_made, self._new_facts)
                out_rows.write_placed(session, self._new_placed)
        for new in (self._new_made, self._new_facts, self._new_placed):
            new.clear()

    def end(self, gone: Iterable[str]) -> None:
        """At the end of an export: forget files that are ``gone``, and entries unused for long."""
        self.flush()
        if self._database is None or not self._writes:
            return
        with self._changing() as session:
            out_rows.forget_placed(session, gone)
            ledger.keep_used(session, self._looked_up)
            ledger.sweep_ledger(session)

    # -- what others left ------------------------------------------------------------------

    def _take_older(self) -> None:
        """What versions before tables kept in files, and drafts of an export that was stopped."""
        older = older_memory(self.out / HIDDEN)
        placed = {path: found for path, found in older.placed.items() if path not in self._placed}
        self._placed |= placed
        self._made |= older.made | self._drafts.made
        self._facts |= older.facts | self._drafts.facts
        self._wanted = older.wanted | self._wanted
        self.write(self._made, self._facts, placed)
        if self._writes and self._database is not None and older.wanted:
            with self._changing() as session:
                out_rows.write_wanted(session, older.wanted)
        self.flush()
        if self._writes:  # all of it is in tables now
            remove_older_memory(self.out / HIDDEN)

    def _take_manifest(self, manifest: Manifest | None) -> None:
        """Files that the manifest knows otherwise than the database: somebody has pulled them."""
        if manifest is None or self._forget:
            return
        new = [file for file in manifest.files if file.key and self._is_news(file)]
        if not new:
            return
        placed = {file.path: (file.key, 0) for file in new}
        told = Kept.told_by(manifest)
        self._placed |= placed
        self._made |= told.made
        self._facts |= told.facts
        self.write(told.made, told.facts, placed)

    def _is_news(self, file: File) -> bool:
        """Whether the file in the folder is not the one that the database knows."""
        key, saved = self._placed.get(file.path, ("", 0))
        if key == file.key:
            return False
        # An export that was stopped has placed files which the manifest does not name yet.
        return not key or stamp(self.out / file.path)[:1] != (saved,)


def asked_by(plan: Plan, *, whole: bool) -> str:
    """What to measure of a source by its plan: all of it, or its cuts."""
    what = "all" if whole else plan.model_dump_json(exclude_defaults=True)
    return hashlib.sha256(f"{__version__} {what}".encode()).hexdigest()[:20]


def _opened(folder: Path, *, writes: bool) -> Database | None:
    """The database in an out folder; without ``writes`` None if there is none that can be read as
    it is. One that is damaged, or of another version, is begun anew: the manifest has the rest."""
    file = folder / DATABASE
    try:
        if not writes:
            if not file.exists() or not is_current(file):
                return None
            # Beside another program that writes, SQLite has to see that one's log and locks.
            busy = file.with_name(f"{DATABASE}-wal").exists()
            return Database(file, cached=True, immutable=not busy)
        return Database(file, cached=True)
    except OperationalError as error:  # full, locked or not ours to write: it is not damaged
        if not writes:
            return None
        raise PlanError(
            f"cannot be used: {error.orig}.",
            file=str(file),
            advice="Check who owns it and whether its disk is full, or delete it: it is a cache.",
        ) from error
    except (DatabaseError, FolderTrouble):
        return _begun_anew(folder) if writes else None


def _begun_anew(folder: Path) -> Database:
    """An empty database instead of one that cannot be used."""
    file = folder / DATABASE
    for left in folder.glob(f"{DATABASE}*"):
        left.unlink(missing_ok=True)
    return Database(file, cached=True)

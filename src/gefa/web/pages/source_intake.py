"""Brings in the pictures, designs and zips of a form."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from zipfile import BadZipFile

from gefa.core.errors import GefaError
from gefa.core.read import kind_of
from gefa.core.read.sniff import HEAD_BYTES, KINDS_IN_WORDS, sniff
from gefa.core.read.zips import Member, is_pack, is_zip, members
from gefa.core.units import weight
from gefa.store.blobs import Blob
from gefa.store.sources import bring_in, is_here
from gefa.web.file_form import Received
from gefa.web.problems import Problem
from gefa.web.services import Services

MAX_FILES = 5_000
"""in one form: enough for a site of 3,000 sources, and still read in seconds"""
MOST_FULL = 16
"""files of the largest size in the largest form"""


@dataclass(frozen=True)
class SourceIntake:
    """An ``Intake`` of files up to ``max_bytes`` that Gefa reads, or zips of them."""

    max_bytes: int
    max_files: int = MAX_FILES

    @property
    def max_form_bytes(self) -> int:
        return self.max_bytes * MOST_FULL

    def refusal(self, name: str, size: int, head: bytes) -> Problem | None:
        if not size:
            return Problem(422, "Empty file", "is empty. Save it again, and check its size.")
        if size > self.max_bytes:
            return Problem(
                413,
                "Too large",
                f"is larger than {weight(self.max_bytes)}, the most for one file here. Save it"
                " smaller, or start the server with a larger --max-source.",
            )
        if sniff(head) is None and not is_zip(head):
            return Problem(
                415,
                "Not read",
                f"is not a picture or design that Gefa reads. It reads {KINDS_IN_WORDS}.",
            )
        return None

    def too_much(self) -> Problem:
        return Problem(
            413,
            "Too large",
            f"Send at most {weight(self.max_form_bytes)} at once, the rest after that.",
            {"Connection": "close"},
        )


@dataclass(frozen=True)
class Brought:
    """The result of one file: ``source_id``, or the problem. ``same``: the source already had these
    bytes."""

    path: str
    source_id: str = ""
    same: bool = False
    problem: Problem | None = None


def brought_in(given: Services, files: list[Received]) -> list[Brought]:
    """Bring in files: one result for each, or for each file in a zip."""
    return [result for file in files for result in _results(given, file)]


def _results(given: Services, file: Received) -> list[Brought]:
    name = file.path or file.name
    if file.blob is None:
        return [Brought(name, problem=file.problem)]
    path = given.store.blobs.path(file.blob.sha256)
    if is_pack(path):
        return _from_zip(given, name, file.blob)
    try:
        kind = kind_of(path, name)
    except GefaError as error:
        return [_refused(name, error)]
    return [_kept(given, name, file.blob, kind.value)]


def _kept(given: Services, name: str, blob: Blob, kind: str) -> Brought:
    with given.store.changing() as session:
        same = is_here(session, name, blob)
        source, _ = bring_in(session, name, blob, kind)
        return Brought(name, source.id, same)


def _refused(name: str, error: GefaError) -> Brought:
    return Brought(name, problem=Problem(422, "Not read", f"{error.reason} {error.advice}".strip()))


def _from_zip(given: Services, name: str, pack: Blob) -> list[Brought]:
    """Bring in every file of a zip; a broken one costs no other."""
    results = []
    try:
        for member in members(given.store.blobs.path(pack.sha256), name):
            results.append(_from_member(given, member))
    except GefaError as error:
        results.append(_refused(name, error))
    return results


def _from_member(given: Services, member: Member) -> Brought:
    name = member.name
    try:
        with member.open() as packed:
            head = packed.read(HEAD_BYTES)
        if sniff(head) is None and not is_zip(head):
            detail = "is not a picture or design that Gefa reads."
            return Brought(name, problem=Problem(415, "Not read", detail))
        with member.open() as packed:
            blob = given.store.blobs.take(packed)
        kind = kind_of(given.store.blobs.path(blob.sha256), name)
    except GefaError as error:
        return _refused(name, error)
    except (OSError, zlib.error, BadZipFile) as error:
        return _refused(name, member.broken(error))
    return _kept(given, name, blob, kind.value)

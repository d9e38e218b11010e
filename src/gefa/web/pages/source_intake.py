"""Bringing in what came as a form: pictures, designs, and zips of them."""

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
from gefa.store.sources import bring_in
from gefa.web.file_form import Received
from gefa.web.problems import Problem
from gefa.web.services import Services

MAX_FILES = 5_000
"""at once: a site of 3,000 sources fits, and the form is still read in seconds"""
MOST_FULL = 16
"""so many files of the largest size make the largest form"""


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


def brought_in(given: Services, files: list[Received]) -> list[dict[str, str]]:
    """What became of the files: one result for each, or one for each file in a zip."""
    return [result for file in files for result in _results(given, file)]


def _results(given: Services, file: Received) -> list[dict[str, str]]:
    if file.blob is None:
        return [_result(file.name, problem=file.problem.detail if file.problem else "")]
    path = given.store.blobs.path(file.blob.sha256)
    if is_pack(path):
        return _from_zip(given, file.name, file.blob)
    try:
        kind = kind_of(path, file.name)
    except GefaError as error:
        return [_result(file.name, problem=f"{error.reason} {error.advice}")]
    with given.store.changing() as session:
        source, _ = bring_in(session, file.name, file.blob, kind.value)
        return [_result(file.name, source.id)]


def _result(name: str, source: str = "", problem: str = "") -> dict[str, str]:
    return {"name": name, "source": source, "problem": problem}


def _from_zip(given: Services, name: str, pack: Blob) -> list[dict[str, str]]:
    """Bring in every file of a zip; one that cannot be read costs no other."""
    results = []
    try:
        for member in members(given.store.blobs.path(pack.sha256), name):
            results.append(_from_member(given, member))
    except GefaError as error:
        results.append(_result(name, problem=f"{error.reason} {error.advice}"))
    return results


def _from_member(given: Services, member: Member) -> dict[str, str]:
    try:
        with member.open() as packed:
            head = packed.read(HEAD_BYTES)
        if sniff(head) is None and not is_zip(head):
            return _result(member.name, problem="is not a picture or design that Gefa reads.")
        with member.open() as packed:
            blob = given.store.blobs.take(packed)
        kind = kind_of(given.store.blobs.path(blob.sha256), member.name)
    except (GefaError, OSError, zlib.error, BadZipFile) as error:
        return _result(member.name, problem=f"cannot be unpacked: {error}")
    with given.store.changing() as session:
        source, _ = bring_in(session, member.name, blob, kind.value)
        return _result(member.name, source.id)

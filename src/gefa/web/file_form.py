"""Files and fields of a multipart form, put into the blob store as they come.

Each file has its own limit, so that one that is too large costs no other.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

import anyio
import anyio.to_thread
from fastapi import Request
from python_multipart.exceptions import FormParserError
from python_multipart.multipart import MultipartParser, parse_options_header
from starlette.requests import ClientDisconnect

from gefa.core.read.sniff import HEAD_BYTES
from gefa.core.read.source_paths import clean_path
from gefa.store.blobs import Blob, BlobStore, Draft
from gefa.web.bodies import expect
from gefa.web.incoming import clean_name
from gefa.web.problems import Problem
from gefa.web.services import Services

if TYPE_CHECKING:
    from python_multipart.multipart import MultipartCallbacks

FILE_FIELD = "file"
FORM_BYTES = 64_000
"""of a form without its files"""


class Intake(Protocol):
    """The limits for a form with files."""

    @property
    def max_files(self) -> int: ...

    @property
    def max_bytes(self) -> int:
        """of one file"""

    @property
    def max_form_bytes(self) -> int:
        """of everything"""

    def refusal(self, name: str, size: int, head: bytes) -> Problem | None:
        """Why a file of ``size`` bytes that begins with ``head`` is refused, if it is."""

    def too_much(self) -> Problem:
        """The problem for a form larger than ``max_form_bytes``."""


@dataclass
class Received:
    """One file of a form: stored, or the problem with it. ``head`` is its beginning, ``path`` its
    name with the folders that were sent."""

    name: str
    head: bytes = b""
    blob: Blob | None = None
    problem: Problem | None = None
    path: str = ""

    @property
    def stored(self) -> Blob:
        """Its blob; Problem if there is none."""
        if self.blob is None:
            raise self.problem or Problem(422, "Not accepted", f"{self.name} was not accepted.")
        return self.blob


@dataclass
class Form:
    """A received form: its files in order, and its fields, each with all its values."""

    files: list[Received] = field(default_factory=list)
    fields: dict[str, list[str]] = field(default_factory=dict)

    def values_for(self, index: int) -> dict[str, str]:
        """The fields for the file of that index: its own value if there are several, otherwise the
        common one."""
        return {
            name: values[index] if len(values) > 1 else values[0]
            for name, values in self.fields.items()
        }


async def receive_form(request: Request, given: Services, intake: Intake) -> Form:
    """The form of a request. Problem if it is not a form, or has no file. A refused file has its
    problem in its place."""
    media_type, options = parse_options_header(request.headers.get("content-type", ""))
    if media_type == b"multipart/form-data" and not options.get(b"boundary"):
        raise Problem(400, "Form cannot be read", "Its Content-Type names no boundary.")
    if media_type != b"multipart/form-data":
        raise Problem(
            415, "Not a form", "Send multipart/form-data with the picture in the field 'file'."
        )
    expect(request, intake.max_form_bytes)
    announced = request.headers.get("content-length", "")
    if announced.isdigit() and int(announced) > intake.max_form_bytes:
        raise intake.too_much()
    size = int(announced) if announced.isdigit() else 0
    await anyio.to_thread.run_sync(given.check_room, size)
    reader = _Reader(given.store.blobs, intake)
    try:
        await _read(request, reader, options[b"boundary"])
        if not reader.whole:
            raise Problem(400, "Form cannot be read", "It ends too early. Send it again.")
        if not reader.files:
            raise Problem(422, "No file", "Put the picture into the form field 'file'.")
        _check_counts(reader)
        received = [await anyio.to_thread.run_sync(reader.settled, part) for part in reader.files]
        return Form(received, reader.fields)
    finally:
        with anyio.CancelScope(shield=True):
            await anyio.to_thread.run_sync(reader.drop)


def _check_counts(reader: _Reader) -> None:
    """Problem if it is unclear which file a field is for."""
    files = len(reader.files)
    for name, values in reader.fields.items():
        if len(values) not in (1, files):
            raise Problem(
                422,
                "A field for which file?",
                f"The field {name!r} came {len(values)} times, with {files} files. Send it once for"
                " all of them, or once for each, in their order.",
            )


async def _read(request: Request, reader: _Reader, boundary: bytes) -> None:
    parser = MultipartParser(boundary, reader.callbacks)
    come = 0
    try:
        async for chunk in request.stream():
            come += len(chunk)
            if come > reader.intake.max_form_bytes:
                raise reader.intake.too_much()
            # It writes to the disk.
            await anyio.to_thread.run_sync(parser.write, chunk)
        parser.finalize()
    except ClientDisconnect:
        raise Problem(
            400, "Request interrupted", "The form arrived incomplete. Send it again."
        ) from None
    except FormParserError as error:
        raise Problem(
            400,
            "Form cannot be read",
            f"{str(error).rstrip('.')}. Send the picture in the field 'file' of a multipart form.",
        ) from error


@dataclass
class _Part:
    """A part of the form while it arrives; ``head`` is the beginning of a file."""

    name: str
    file_name: str | None
    path: str = ""
    draft: Draft | None = None
    text: bytearray = field(default_factory=bytearray)
    head: bytearray = field(default_factory=bytearray)
    bytes: int = 0


class _Reader:
    """Handles the parser's events."""

    def __init__(self, blobs: BlobStore, intake: Intake) -> None:
        self.intake = intake
        self.files: list[_Part] = []
        self.fields: dict[str, list[str]] = {}
        self.whole = False
        self._blobs = blobs
        self._headers: dict[str, bytes] = {}
        self._field, self._value = bytearray(), bytearray()
        self._part: _Part | None = None
        self._besides = 0

    @property
    def callbacks(self) -> MultipartCallbacks:
        return {
            "on_part_begin": self._begin,
            "on_header_field": lambda data, start, end: self._field.extend(data[start:end]),
            "on_header_value": lambda data, start, end: self._value.extend(data[start:end]),
            "on_header_end": self._header,
            "on_headers_finished": self._open,
            "on_part_data": self._data,
            "on_part_end": self._close,
            "on_end": self._end,
        }

    def _begin(self) -> None:
        self._headers = {}

    def _header(self) -> None:
        self._count(len(self._field) + len(self._value))
        self._headers[self._field.decode("latin-1").lower()] = bytes(self._value)
        self._field.clear()
        self._value.clear()

    def _open(self) -> None:
        _, options = parse_options_header(self._headers.get("content-disposition", b""))
        name = _text(options.get(b"name", b""))
        file_name = options.get(b"filename")
        part = _Part(name, None)
        if file_name is not None:
            part.file_name, part.path = clean_name(_text(file_name)), clean_path(_text(file_name))
        if part.file_name and name != FILE_FIELD:
            raise Problem(
                422,
                "Wrong field for a file",
                f"{part.file_name!r} came in the field {name[:80]!r}. Send files in the field"
                f" {FILE_FIELD!r}.",
            )
        if part.file_name is not None and name == FILE_FIELD:
            most = self.intake.max_files
            if len(self.files) == most:
                raise Problem(413, "Too many files", f"Send at most {most:,} at once.")
            part.draft = self._blobs.draft()
            self.files.append(part)
        self._part = part

    def _data(self, data: bytes, start: int, end: int) -> None:
        part = self._part
        if part is None:
            return
        if part.draft is None:
            self._count(end - start)
            part.text += data[start:end]
            return
        part.bytes += end - start
        if len(part.head) < HEAD_BYTES:
            part.head += data[start : min(end, start + HEAD_BYTES - len(part.head))]
        if part.bytes <= self.intake.max_bytes:
            part.draft.write(data[start:end])

    def _count(self, more: int) -> None:
        self._besides += more
        if self._besides > FORM_BYTES:
            raise Problem(413, "Too much text", f"The fields have more than {FORM_BYTES:,} bytes.")

    def _close(self) -> None:
        part = self._part
        if part is not None and part.draft is not None:
            part.draft.close()  # thousands may come, and open files are few
        elif part is not None:
            self.fields.setdefault(part.name, []).append(part.text.decode("utf-8", "replace"))
        self._part = None

    def _end(self) -> None:
        self.whole = True

    def settled(self, part: _Part) -> Received:
        """A complete file: kept, or refused."""
        name, head = part.file_name or "unnamed", bytes(part.head)
        problem = self.intake.refusal(name, part.bytes, head)
        if problem is not None or part.draft is None:
            return Received(name, head, problem=problem, path=part.path)
        return Received(name, head, part.draft.keep(), path=part.path)

    def drop(self) -> None:
        for part in self.files:
            if part.draft is not None:
                part.draft.drop()


def _text(raw: bytes) -> str:
    """Browsers send names as UTF-8; others that do not say send Latin-1."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")

"""Chooses a file by ``Accept`` and width, for a request that names none."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar

from gefa.core.treat.formats import FORMATS, Format

NOT_WANTED = 0.0


class Servable(Protocol):
    """A file to choose from: format, width in px, bytes, animated or not."""

    @property
    def format(self) -> str: ...

    @property
    def width(self) -> int: ...

    @property
    def bytes(self) -> int: ...

    @property
    def moves(self) -> bool: ...


File = TypeVar("File", bound=Servable)


class Sized(Protocol):
    """A file with a width in px and a weight in bytes."""

    @property
    def width(self) -> int: ...

    @property
    def bytes(self) -> int: ...


AnySized = TypeVar("AnySized", bound=Sized)


def sent_to_large_screens(files: Iterable[AnySized]) -> AnySized | None:
    """The lightest of a cut's widest files: what most visitors with a large screen load. None if
    there are no files."""
    return min(files, key=lambda file: (-file.width, file.bytes), default=None)


def preferences(accept: str) -> dict[Format, float]:
    """The client's preference for each format, 0..1, from its ``Accept``.

    RFC 9110, section 12.5.1. Wildcards count only for formats that every browser shows: programs
    say ``*/*`` without knowing AVIF. Without ``Accept``, ``*/*`` is assumed.
    """
    asked = _weighed(accept or "*/*")
    return {format: _weight(format, asked) for format in Format}


def _weighed(accept: str) -> dict[str, float]:
    found: dict[str, float] = {}
    for part in accept.split(","):
        media_range, *parameters = (piece.strip() for piece in part.split(";"))
        weight = 1.0
        for parameter in parameters:
            name, _, value = parameter.partition("=")
            if name.strip().lower() == "q":
                weight = _quality(value)
        if media_range:
            found[media_range.lower()] = weight
    return found


def _quality(value: str) -> float:
    try:
        weight = float(value)
    except ValueError:
        return NOT_WANTED
    return weight if 0 <= weight <= 1 else NOT_WANTED


def _weight(format: Format, asked: dict[str, float]) -> float:
    """The most specific range that matches counts."""
    able = FORMATS[format]
    if able.media_type in asked:
        return asked[able.media_type]
    if able.modern:
        return NOT_WANTED
    return asked.get("image/*", asked.get("*/*", NOT_WANTED))


def pick(files: Sequence[File], accept: str, width: float | None) -> File | None:
    """The file to send: the narrowest of at least ``width`` px, else the widest (also if no width
    is asked for); of the accepted formats, the lightest. An animated file comes before a still,
    however light the still is. A client that accepts none of the formats gets one that every
    browser shows. None only if there is no file."""
    wanted = preferences(accept)
    shown = [f for f in files if wanted[Format(f.format)] > NOT_WANTED]
    shown = shown or [f for f in files if not FORMATS[Format(f.format)].modern] or list(files)
    shown = [f for f in shown if f.moves] or shown
    if not shown:
        return None
    widths = {file.width for file in shown}
    enough = [have for have in widths if width is not None and have >= width]
    chosen = min(enough, default=max(widths))
    here = [file for file in shown if file.width == chosen]
    return min(here, key=lambda file: (-wanted[Format(file.format)], file.bytes))

"""Chooses a file by ``Accept`` and width, for a request that names none."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar

from gefa.core.treat.formats import FORMATS, Format

NOT_WANTED = 0.0


class Servable(Protocol):
    """A file as choosing needs it: format, width in px, bytes, whether it moves."""

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
    """A file of some width in px and weight in bytes."""

    @property
    def width(self) -> int: ...

    @property
    def bytes(self) -> int: ...


AnySized = TypeVar("AnySized", bound=Sized)


def sent_to_large_screens(files: Iterable[AnySized]) -> AnySized | None:
    """The lightest of a cut's widest files: most visitors with a large screen are sent this one.
    None if there are no files."""
    return min(files, key=lambda file: (-file.width, file.bytes), default=None)


def preferences(accept: str) -> dict[Format, float]:
    """How much a client wants each format, 0..1, from its ``Accept`` (RFC 9110, section 12.5.1).

    A wildcard counts for the formats that every browser shows only: programs say ``*/*`` without
    knowing AVIF. Without an ``Accept`` it is as if ``*/*`` were sent.
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
    """The most specific range that covers it counts."""
    able = FORMATS[format]
    if able.media_type in asked:
        return asked[able.media_type]
    if able.modern:
        return NOT_WANTED
    return asked.get("image/*", asked.get("*/*", NOT_WANTED))


def pick(files: Sequence[File], accept: str, width: float | None) -> File | None:
    """The file to send: narrowest of those at least ``width`` px wide, else the widest (also where
    no width is asked for); of the formats that are wanted the lightest. Of an animation those that
    move come first, however light a still is. A client that wants none of them is sent what every
    browser shows. None only where there is no file."""
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

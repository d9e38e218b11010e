"""What can go wrong with somebody's file, said so that they can act on it."""

from __future__ import annotations

from typing import Any


class GefaError(Exception):
    """A problem with something a person gave us: which file, what is wrong, what to do."""

    def __init__(self, reason: str, *, file: str = "", advice: str = "") -> None:
        super().__init__(reason)
        self.reason = reason
        self.file = file
        self.advice = advice

    def __str__(self) -> str:
        where = f"{self.file}: " if self.file else ""
        advice = f" {self.advice}" if self.advice else ""
        return f"{where}{self.reason}{advice}"

    def __reduce__(self) -> tuple[Any, ...]:
        # Errors cross from worker processes; keyword arguments do not pickle by themselves.
        return (_rebuild, (type(self), self.reason, self.file, self.advice))


class SourceError(GefaError):
    """A source that cannot be read: truncated, lying about itself, or too large."""


class UnsupportedSource(SourceError):
    """A file of a kind that Gefa does not read."""


class PartMissing(GefaError):
    """A part path that the document does not have."""


class PlanError(GefaError):
    """A plan file, a recipe or a cut that cannot be followed."""


class EncodeError(GefaError):
    """A variant that its format cannot hold, or that the encoder refused."""


def _rebuild(kind: type[GefaError], reason: str, file: str, advice: str) -> GefaError:
    return kind(reason, file=file, advice=advice)

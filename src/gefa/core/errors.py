"""Every error about a file. Its text says which file, what is wrong and what to do.

GefaError
├── SourceError           a source cannot be read
│   └── UnsupportedSource   it is of a kind that Gefa does not read
├── PartMissing           a design has no part of that path
├── PlanError             a plan, recipe, rule or cut cannot be followed
│   └── PlanUnreadable      a stored plan is none           (store.sources)
├── NotDrawable           a part cannot be an SVG file that stands alone
├── EncodeError           a format cannot hold a picture, or its encoder refused it
├── BucketError           a bucket cannot be used           (store.bucket)
├── TakenPath           a file that Gefa did not make lies where one should be written
└── Crashed               a process died over a picture     (work.pool)

Each says which file, what is wrong and what to do. Nothing else of Gefa raises for what a person
gave it; any other exception is a mistake of ours.
"""

from __future__ import annotations

from typing import Any


class GefaError(Exception):
    """A problem with something a person gave us. The message says which file, what is wrong and
    what to do."""

    def __init__(self, reason: str, *, file: str = "", advice: str = "") -> None:
        super().__init__(reason)
        self.reason = reason
        self.file = file
        self.advice = advice

    @property
    def told(self) -> str:
        """What is wrong and what to do, for screens that show the file's name beside it."""
        return f"{self.reason} {self.advice}".strip()

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


class NotDrawable(GefaError):
    """A part that cannot be an SVG file which shows the same to everybody. The reason reads on
    after "SVG is left out:"."""


class TakenPath(GefaError):
    """A path in an out folder at which something lies that Gefa did not make."""


class EncodeError(GefaError):
    """A variant that its format cannot hold, or that the encoder refused."""


def _rebuild(kind: type[GefaError], reason: str, file: str, advice: str) -> GefaError:
    return kind(reason, file=file, advice=advice)

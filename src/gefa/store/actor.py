"""Who makes the present change: a person, a key, or a program."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True)
class Actor:
    """Somebody or something that acts, by a name for people; empty if nobody signs in.
    ``person_id`` is only for people, ``address`` only for requests."""

    name: str = ""
    person_id: str = ""
    address: str = ""


_UNKNOWN = Actor()
_acting: ContextVar[Actor] = ContextVar("actor", default=_UNKNOWN)


def actor() -> Actor:
    """The current actor."""
    return _acting.get()


@contextmanager
def acting(as_who: Actor) -> Iterator[None]:
    """Changes in this block are made by ``as_who``, also in threads started from it with its
    context."""
    token = _acting.set(as_who)
    try:
        yield
    finally:
        _acting.reset(token)

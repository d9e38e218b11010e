"""Who makes the present change: a person, a key, or a program."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True)
class Actor:
    """A name as people read it; empty where nobody signs in. ``person_id`` only for people,
    ``address`` only for who came through the network."""

    name: str = ""
    person_id: str = ""
    address: str = ""


_UNKNOWN = Actor()
_acting: ContextVar[Actor] = ContextVar("actor", default=_UNKNOWN)


def actor() -> Actor:
    """Who acts now."""
    return _acting.get()


@contextmanager
def acting(as_who: Actor) -> Iterator[None]:
    """Let what is changed in this block be done by ``as_who``; threads that are started from it
    with its context take it along."""
    token = _acting.set(as_who)
    try:
        yield
    finally:
        _acting.reset(token)

"""Sign-ins: the browsers that people are signed in with."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.store.actor import Actor, actor
from gefa.store.models import now
from gefa.store.people import digest
from gefa.store.person_models import Person, PersonLink, SignIn
from gefa.store.trail import Deed, note

LASTS = timedelta(days=30)


def sign_in(session: Session, person: Person, device: str) -> str:
    """Sign a person in; returns the cookie for the browser. Only its digest is stored."""
    token = secrets.token_urlsafe(32)
    session.add(
        SignIn(digest=digest(token), person_id=person.id, device=device[:200], ends=now() + LASTS)
    )
    session.flush()
    note(session, Deed.SIGNED_IN, person.name, by=as_actor(person))
    return token


def signed_in(session: Session, token: str) -> tuple[Person, SignIn] | None:
    """The person of a valid cookie."""
    found = session.exec(
        select(Person, SignIn)
        .join(SignIn, col(SignIn.person_id) == col(Person.id))
        .where(SignIn.digest == digest(token), SignIn.ends > now())
    ).first()
    return (found[0], found[1]) if found else None


def sign_out(session: Session, token: str) -> None:
    """End the sign-in of that cookie."""
    found = signed_in(session, token)
    if found is not None:
        session.delete(found[1])
        note(session, Deed.SIGNED_OUT, found[0].name)


def sign_out_everywhere(session: Session, person: Person) -> None:
    """End all sign-ins of a person."""
    session.execute(delete(SignIn).where(col(SignIn.person_id) == person.id))
    note(session, Deed.SIGNED_OUT, person.name, "everywhere")


def sign_ins_of(session: Session, person: Person) -> Sequence[SignIn]:
    """The person's sign-ins, newest first."""
    return session.exec(
        select(SignIn)
        .where(SignIn.person_id == person.id, SignIn.ends > now())
        .order_by(col(SignIn.created).desc())
    ).all()


def as_actor(person: Person) -> Actor:
    """The person as the actor, with the address of the request."""
    return Actor(person.name, person.id, actor().address)


def sweep_sign_ins(session: Session) -> None:
    """Delete expired sign-ins and links."""
    for table in (SignIn, PersonLink):
        session.execute(delete(table).where(col(table.ends) < now()))

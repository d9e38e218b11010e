"""People: who may sign in, with what roles, and the links that let them choose how."""

from __future__ import annotations

import hashlib
import secrets
import unicodedata
from collections.abc import Collection, Sequence
from datetime import datetime, timedelta

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.core.errors import GefaError
from gefa.store.models import now
from gefa.store.person_models import Person, PersonLink, SignIn
from gefa.store.roles import Role
from gefa.store.trail import Deed, note

LONGEST_NAME = 80
LINK_LASTS = timedelta(days=1)


def add_person(session: Session, name: str, roles: Collection[Role]) -> Person:
    """Add a person; GefaError if the name is empty or taken, or if there is no role."""
    shown = " ".join(name.split())
    if not shown or len(shown) > LONGEST_NAME or not shown.isprintable():
        raise GefaError(
            f"{shown[:LONGEST_NAME]!r} is not a name.",
            advice=f"Use 1 to {LONGEST_NAME} characters: a name, or an e-mail address.",
        )
    if person_named(session, shown) is not None:
        raise GefaError(f"somebody is already named {shown!r}.", advice="Choose another name.")
    person = Person(name=shown, name_key=name_key(shown), roles=_in_order(roles))
    session.add(person)
    session.flush()
    note(session, Deed.PERSON_ADDED, shown, ", ".join(person.roles))
    return person


def person_named(session: Session, name: str) -> Person | None:
    """A person by name, in any capitalisation."""
    return session.exec(select(Person).where(Person.name_key == name_key(name))).first()


def all_people(session: Session) -> Sequence[Person]:
    return session.exec(select(Person).order_by(col(Person.name_key))).all()


def has_people(session: Session) -> bool:
    return session.exec(select(Person.id).limit(1)).first() is not None


def has_owner(session: Session) -> bool:
    return bool(_owners(session))


def set_roles(session: Session, person: Person, roles: Collection[Role]) -> None:
    """Set a person's roles; GefaError if no owner would be left."""
    if Role.OWNER not in roles:
        _check_owner_left(session, person)
    before, person.roles = person.roles, _in_order(roles)
    if before != person.roles:
        session.add(person)
        change = f"{', '.join(before)} → {', '.join(person.roles)}"
        note(session, Deed.PERSON_CHANGED, person.name, change)


def remove_person(session: Session, person: Person) -> None:
    """Remove a person for good; GefaError if others, but no owner, would be left."""
    if len(all_people(session)) > 1:
        _check_owner_left(session, person)
    for table in (SignIn, PersonLink):
        session.execute(delete(table).where(col(table.person_id) == person.id))
    session.delete(person)
    session.flush()
    note(session, Deed.PERSON_REMOVED, person.name)


def choose_passphrase(session: Session, person: Person, kept: str) -> None:
    """Store the hash of a new passphrase. Ends all links and sign-ins of the person."""
    person.passphrase = kept
    _chosen(session, person, "passphrase")


def choose_account(session: Session, person: Person, account: str) -> None:
    """Link an account of the sign-in service. GefaError if another person has it."""
    other = person_with(session, account)
    if other is not None and other.id != person.id:
        raise GefaError(
            f"this account already belongs to {other.name}.",
            advice="Sign in there with another one.",
        )
    person.account = account
    _chosen(session, person, "account")


def _chosen(session: Session, person: Person, what: str) -> None:
    session.add(person)
    for table in (SignIn, PersonLink):
        session.execute(delete(table).where(col(table.person_id) == person.id))
    session.flush()
    note(session, Deed.SIGN_IN_CHOSEN, person.name, what)


def person_with(session: Session, account: str) -> Person | None:
    """The person with that account of the sign-in service."""
    return session.exec(select(Person).where(Person.account == account)).first()


# -- links ------------------------------------------------------------------------------------


def new_link(session: Session, person: Person) -> str:
    """A token with which the person can choose how to sign in, once, within a day. Earlier ones
    end. Only its digest is stored."""
    session.execute(delete(PersonLink).where(col(PersonLink.person_id) == person.id))
    token = secrets.token_urlsafe(24)
    session.add(PersonLink(digest=digest(token), person_id=person.id, ends=now() + LINK_LASTS))
    session.flush()
    note(session, Deed.LINK_MADE, person.name)
    return token


def person_of_link(session: Session, token: str) -> Person | None:
    """The person of a link that is valid and unused."""
    link = session.exec(
        select(PersonLink).where(PersonLink.digest == digest(token), PersonLink.ends > now())
    ).first()
    return session.get(Person, link.person_id) if link else None


def open_links(session: Session) -> dict[str, datetime]:
    """The expiry (UTC) of unused links, by person id."""
    found = session.exec(select(PersonLink).where(PersonLink.ends > now())).all()
    return {link.person_id: link.ends for link in found}


def digest(token: str) -> str:
    """The stored form of a token of at least 192 random bits, which nobody can guess."""
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


def _owners(session: Session) -> list[Person]:
    return [person for person in all_people(session) if Role.OWNER in person.roles]


def _check_owner_left(session: Session, without: Person) -> None:
    owners = _owners(session)
    if without.id in {one.id for one in owners} and len(owners) == 1:
        raise GefaError(
            f"{without.name} is the only owner.", advice="Make somebody else an owner first."
        )


def _in_order(roles: Collection[Role]) -> list[str]:
    if not roles:
        raise GefaError("a person needs a role.", advice=f"Use {', '.join(Role)}.")
    return [role.value for role in Role if role in roles]


def name_key(name: str) -> str:
    """Names with the same key are the same name: letters of other widths or styles, and case, do
    not tell people apart."""
    return unicodedata.normalize("NFKC", " ".join(name.split())).casefold()[:320]

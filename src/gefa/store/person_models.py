"""The tables of people: accounts, sign-ins, and the trail."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import DateTime
from sqlmodel import Field, SQLModel

from gefa.store.models import json_field, new_id, time_field


class Person(SQLModel, table=True):
    """Somebody who signs in. ``name_key`` is the name as it is compared, ``roles`` are Role values.
    ``passphrase`` is an argon2id hash, ``account`` names an account with the sign-in service
    (OpenID Connect); either is empty until it is chosen."""

    __tablename__ = "person"

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str = Field(max_length=80)
    name_key: str = Field(unique=True, max_length=320)
    roles: list[str] = json_field(list)
    passphrase: str = ""
    account: str | None = Field(default=None, unique=True)
    created: datetime = time_field()


class SignIn(SQLModel, table=True):
    """A browser in which a person is signed in; only the SHA-256 of its cookie is stored.
    ``device`` is the browser's own description."""

    __tablename__ = "sign_in"

    digest: str = Field(primary_key=True)
    person_id: str = Field(foreign_key="person.id", index=True)
    device: str = ""
    created: datetime = time_field()
    ends: datetime = Field(sa_type=DateTime(timezone=True), index=True)


class PersonLink(SQLModel, table=True):
    """A link with which a person can choose how to sign in, once. Only its SHA-256 is stored."""

    __tablename__ = "person_link"

    digest: str = Field(primary_key=True)
    person_id: str = Field(foreign_key="person.id", index=True)
    ends: datetime = Field(sa_type=DateTime(timezone=True))


class TrailEntry(SQLModel, table=True):
    """An entry of the audit trail: ``kind`` is a Deed value, ``subject`` the thing it was done to,
    ``who`` and ``address`` as they were then."""

    __tablename__ = "trail"

    id: str = Field(default_factory=new_id, primary_key=True)
    time: datetime = time_field()
    who: str = ""
    person_id: str = ""
    address: str = ""
    kind: str = Field(index=True)
    subject: str = ""
    detail: str = ""

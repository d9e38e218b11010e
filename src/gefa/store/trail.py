"""The trail: who did what, and when."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from enum import StrEnum

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.store.actor import Actor, actor
from gefa.store.models import now
from gefa.store.person_models import TrailEntry

KEPT = timedelta(days=400)
"""so that a whole year can be reviewed"""
REFUSED_KEPT = timedelta(days=30)
"""of refused sign-ins, of which strangers can cause many"""


class Deed(StrEnum):
    """Kinds of entries; the values are for people."""

    SIGNED_IN = "signed in"
    SIGN_IN_REFUSED = "sign-in refused"
    SIGNED_OUT = "signed out"
    SIGN_IN_CHOSEN = "passphrase or account chosen"
    PERSON_ADDED = "person added"
    PERSON_CHANGED = "roles changed"
    PERSON_REMOVED = "person removed"
    LINK_MADE = "link made"
    KEY_MADE = "key made"
    KEY_REVOKED = "key revoked"
    SOURCE_BROUGHT_IN = "source brought in"
    FOLDER_WATCHED = "folder watched"
    SOURCE_REMOVED = "source removed"
    PLAN_CHANGED = "plan changed"
    RECIPE_CHANGED = "recipe changed"
    SETTINGS_CHANGED = "slot settings changed"
    RUN_STARTED = "run started"
    RUN_REPEATED = "run repeated"
    RUN_STOPPED = "run stopped"
    RUN_REMOVED = "run removed"
    SLOT_ADDED = "slot added"
    SLOT_REMOVED = "slot removed"
    UPLOAD_SENT = "upload sent"
    UPLOAD_DESCRIBED = "upload described"
    UPLOAD_REPLACED = "upload replaced"
    UPLOAD_APPROVED = "upload approved"
    UPLOAD_REJECTED = "upload rejected"
    UPLOAD_REMOVED = "upload removed"
    UPLOAD_RESTORED = "upload restored"
    UPLOADS_REMADE = "uploads made again"


def note(
    session: Session, kind: Deed, subject: str, detail: str = "", *, by: Actor | None = None
) -> None:
    """Record that the actor, or ``by``, did something."""
    who = by or actor()
    session.add(
        TrailEntry(
            who=who.name,
            person_id=who.person_id,
            address=who.address,
            kind=kind.value,
            subject=subject[:400],
            detail=detail[:1000],
        )
    )


def entries(
    session: Session, *, who: str = "", kind: str = "", before: str = "", most: int = 100
) -> Sequence[TrailEntry]:
    """Entries, newest first; of one name, of one kind, before the entry of an id."""
    query = select(TrailEntry)
    if who:
        query = query.where(TrailEntry.who == who)
    if kind:
        query = query.where(TrailEntry.kind == kind)
    if before:
        query = query.where(TrailEntry.id < before)
    return session.exec(query.order_by(col(TrailEntry.id).desc()).limit(most)).all()


def names(session: Session) -> list[str]:
    """All names in the trail."""
    return sorted(name for name in session.exec(select(TrailEntry.who).distinct()) if name)


def sweep_trail(session: Session) -> None:
    """Delete entries that are too old."""
    session.execute(delete(TrailEntry).where(col(TrailEntry.time) < now() - KEPT))
    session.execute(
        delete(TrailEntry).where(
            col(TrailEntry.kind) == Deed.SIGN_IN_REFUSED,
            col(TrailEntry.time) < now() - REFUSED_KEPT,
        )
    )

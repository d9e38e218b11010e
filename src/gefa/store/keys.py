"""Keys of slots and of the site: what each may do, when it was last used, whether it is revoked."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection, Sequence
from datetime import datetime
from enum import StrEnum

from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.store.database import USES
from gefa.store.models import SiteKey, Slot, SlotKey, now
from gefa.store.store import Store
from gefa.store.trail import Deed, note


class Right(StrEnum):
    """The rights of a slot's key: send, describe, replace and remove pictures; list them; decide on
    held ones."""

    UPLOAD = "upload"
    READ = "read"
    REVIEW = "review"


class SiteRight(StrEnum):
    """The rights of a site key: bring in, run and remove sources; view and download."""

    BUILD = "build"
    READ = "read"


def new_key(session: Session, slot: Slot, name: str, rights: Collection[Right]) -> str:
    """Create a key for the slot. Only its digest is stored: it is shown this once."""
    if not rights:
        raise PlanError("a key needs at least one right.", advice="Tick at least one.")
    key = _new()
    in_order = [right.value for right in Right if right in rights]
    named = _named(name)
    session.add(SlotKey(slot_id=slot.id, digest=_digest(key), name=named, rights=in_order))
    session.flush()
    note(session, Deed.KEY_MADE, slot.name, f"{named}: {', '.join(in_order)}")
    return key


def new_site_key(session: Session, name: str, rights: Collection[SiteRight]) -> str:
    """Create a site key. Only its digest is stored: it is shown this once."""
    if not rights:
        raise PlanError("a key needs at least one right.", advice="Tick at least one.")
    key, named = _new(), _named(name)
    in_order = [right.value for right in SiteRight if right in rights]
    session.add(SiteKey(digest=_digest(key), name=named, rights=in_order))
    session.flush()
    note(session, Deed.KEY_MADE, "the site", f"{named}: {', '.join(in_order)}")
    return key


def found_site_key(session: Session, key: str) -> SiteKey | None:
    """The site key, if it exists and is not revoked."""
    found = session.exec(select(SiteKey).where(SiteKey.digest == _digest(key))).first()
    if found is None or found.revoked is not None:
        return None
    _note_use(session, found.id)
    return found


def site_keys(session: Session) -> Sequence[SiteKey]:
    """All site keys, newest first."""
    return session.exec(select(SiteKey).order_by(col(SiteKey.created).desc())).all()


def revoke_site_key(session: Session, key_id: str) -> None:
    """Revoke a site key."""
    key = session.get(SiteKey, key_id)
    if key is not None and key.revoked is None:
        key.revoked = now()
        session.add(key)
        note(session, Deed.KEY_REVOKED, "the site", key.name)


def _new() -> str:
    return f"gefa_{secrets.token_urlsafe(24)}"


def _named(name: str) -> str:
    return name.strip()[:80] or "a key"


def _note_use(session: Session, key_id: str) -> None:
    uses = session.info.get(USES)
    if isinstance(uses, dict):
        uses[key_id] = now()


def found_key(session: Session, key: str) -> SlotKey | None:
    """The key, if it exists and is not revoked. Its use is queued for ``note_uses``, since reading
    must not write."""
    found = session.exec(select(SlotKey).where(SlotKey.digest == _digest(key))).first()
    if found is None or found.revoked is not None:
        return None
    _note_use(session, found.id)
    return found


def note_uses(session: Session, uses: dict[str, datetime]) -> None:
    """Write down when keys were last used."""
    for key_id, time in uses.items():
        key = session.get(SlotKey, key_id) or session.get(SiteKey, key_id)
        if key is not None:
            key.used = time
            session.add(key)


def name_of_key(store: Store, key: str) -> str | None:
    """The name of a valid key; None if it is not valid."""
    if not key:
        return None
    with store.reading() as session:
        of_slot = session.exec(select(SlotKey).where(SlotKey.digest == _digest(key))).first()
        of_site = session.exec(select(SiteKey).where(SiteKey.digest == _digest(key))).first()
    found = of_slot or of_site
    return found.name if found is not None and found.revoked is None else None


def keys_of(session: Session, slot: Slot) -> Sequence[SlotKey]:
    """The slot's keys, newest first."""
    return session.exec(
        select(SlotKey).where(SlotKey.slot_id == slot.id).order_by(col(SlotKey.created).desc())
    ).all()


def revoke(session: Session, slot: Slot, key_id: str) -> None:
    key = session.get(SlotKey, key_id)
    if key is not None and key.slot_id == slot.id and key.revoked is None:
        key.revoked = now()
        session.add(key)
        note(session, Deed.KEY_REVOKED, slot.name, key.name)


def _digest(key: str) -> str:
    # A key is 192 random bits, so a plain hash is enough: there is nothing to guess.
    return hashlib.sha256(key.encode()).hexdigest()

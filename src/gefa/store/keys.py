"""The keys that open slots: what each may do, when it was last used, whether it still may."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection, Sequence
from datetime import datetime
from enum import StrEnum

from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.store.models import Slot, SlotKey, now
from gefa.store.store import USES, Store


class Right(StrEnum):
    """What a key may do: send, describe, replace and remove pictures; list them; decide on those
    that are held."""

    UPLOAD = "upload"
    READ = "read"
    REVIEW = "review"


def new_key(session: Session, slot: Slot, name: str, rights: Collection[Right]) -> str:
    """A new key for the slot. Only its digest is kept: this is the one time it can be seen."""
    if not rights:
        raise PlanError("a key without any right opens nothing.", advice="Tick at least one.")
    key = f"gefa_{secrets.token_urlsafe(24)}"
    in_order = [right.value for right in Right if right in rights]
    session.add(
        SlotKey(
            slot_id=slot.id, digest=_digest(key), name=name.strip()[:80] or "a key", rights=in_order
        )
    )
    session.flush()
    return key


def found_key(session: Session, key: str) -> SlotKey | None:
    """The key, unless it was revoked or never was. Its use is remembered for ``note_uses``: reading
    must not need to write."""
    found = session.exec(select(SlotKey).where(SlotKey.digest == _digest(key))).first()
    if found is None or found.revoked is not None:
        return None
    uses = session.info.get(USES)
    if isinstance(uses, dict):
        uses[found.id] = now()
    return found


def note_uses(session: Session, uses: dict[str, datetime]) -> None:
    """Write down when keys were used last."""
    for key_id, time in uses.items():
        key = session.get(SlotKey, key_id)
        if key is not None:
            key.used = time
            session.add(key)


def is_key(store: Store, key: str) -> bool:
    """Whether a key opens anything."""
    if not key:
        return False
    with store.reading() as session:
        found = session.exec(select(SlotKey).where(SlotKey.digest == _digest(key))).first()
    return found is not None and found.revoked is None


def keys_of(session: Session, slot: Slot) -> Sequence[SlotKey]:
    """The slot's keys, the newest first."""
    return session.exec(
        select(SlotKey).where(SlotKey.slot_id == slot.id).order_by(col(SlotKey.created).desc())
    ).all()


def revoke(session: Session, slot: Slot, key_id: str) -> None:
    key = session.get(SlotKey, key_id)
    if key is not None and key.slot_id == slot.id and key.revoked is None:
        key.revoked = now()
        session.add(key)


def _digest(key: str) -> str:
    # A key is 192 random bits, so a plain hash is enough: there is nothing to guess.
    return hashlib.sha256(key.encode()).hexdigest()

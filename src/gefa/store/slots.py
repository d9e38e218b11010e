"""Slots, the keys that open them, and the pictures uploaded to them."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence

from sqlmodel import Session, col, select

from gefa.core.cut.gather import FLAT_DEFAULT
from gefa.core.plan import Plan
from gefa.core.treat.recipe import BUILT_IN
from gefa.store.blobs import Blob
from gefa.store.models import Job, JobKind, Slot, SlotKey, Upload, UploadState, Variant
from gefa.store.recipes import shelf_of_recipes
from gefa.store.sources import marks_for


def slot_named(session: Session, name: str) -> Slot | None:
    return session.exec(select(Slot).where(Slot.name == name)).first()


def add_slot(session: Session, name: str, recipe: str, max_bytes: int) -> Slot:
    slot = Slot(name=name, recipe=recipe, max_bytes=max_bytes)
    session.add(slot)
    session.flush()
    return slot


def new_key(session: Session, slot: Slot) -> str:
    """A new key for the slot. Only its digest is kept: this is the one time it can be seen."""
    key = f"gefa_{secrets.token_urlsafe(24)}"
    session.add(SlotKey(slot_id=slot.id, digest=_digest(key)))
    session.flush()
    return key


def slots_of_key(session: Session, key: str) -> set[str]:
    """Ids of the slots that the key opens."""
    keys = session.exec(select(SlotKey).where(SlotKey.digest == _digest(key))).all()
    return {found.slot_id for found in keys}


def _digest(key: str) -> str:
    # A key is 192 random bits, so a plain hash is enough: there is nothing to guess.
    return hashlib.sha256(key.encode()).hexdigest()


def accept(
    session: Session,
    slot: Slot,
    *,
    name: str,
    blob: Blob,
    format: str,
    alt: str = "",
    focal: tuple[float, float] | None = None,
) -> Upload:
    """Note an upload and queue its treatment, by the slot's recipe as it is now."""
    recipe = shelf_of_recipes(session).get(slot.recipe, BUILT_IN[FLAT_DEFAULT])
    upload = Upload(
        slot_id=slot.id,
        name=name,
        alt=alt,
        focal_x=focal[0] if focal else None,
        focal_y=focal[1] if focal else None,
        blob=blob.sha256,
        bytes=blob.bytes,
        format=format,
        state=UploadState.PROCESSING,
    )
    session.add(upload)
    session.flush()
    session.add(
        Job(
            kind=JobKind.UPLOAD,
            upload_id=upload.id,
            task={
                "blob": blob.sha256,
                "name": name,
                "alt": alt,
                "recipe": recipe.model_dump(mode="json"),
                "marks": marks_for(session, Plan(recipes={slot.recipe: recipe})),
            },
        )
    )
    return upload


def variants_of_upload(session: Session, upload_id: str) -> Sequence[Variant]:
    return session.exec(
        select(Variant)
        .where(Variant.upload_id == upload_id)
        .order_by(col(Variant.format), col(Variant.width))
    ).all()


def variant_at(session: Session, upload_id: str, path: str) -> Variant | None:
    return session.exec(
        select(Variant).where(Variant.upload_id == upload_id, Variant.path == path)
    ).first()

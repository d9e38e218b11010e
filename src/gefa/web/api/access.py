"""Who may do what with a slot: by the key that comes with a request."""

from __future__ import annotations

from dataclasses import dataclass

from sqlmodel import Session

from gefa.core.slots.settings import SlotSettings
from gefa.store.keys import Right, found_key
from gefa.store.models import Slot, SlotKey, Upload
from gefa.store.replacement import public_view
from gefa.store.slots import settings_of, slot_named
from gefa.web.bodies import bearer_in, no_key
from gefa.web.problems import Problem
from gefa.web.services import Services


@dataclass(frozen=True)
class OpenSlot:
    """A slot that a key may use, with its current settings."""

    slot: Slot
    settings: SlotSettings


@dataclass(frozen=True)
class Access(OpenSlot):
    """A slot, and the key for it."""

    key: SlotKey

    def may(self, right: Right) -> bool:
        return right in self.key.rights


def slot_opened(given: Services, name: str, authorization: str, right: Right) -> Access:
    """The slot of that name, if the key has the right."""
    with given.store.session() as session:
        key = _key(session, authorization)
        slot = slot_named(session, name)
        if slot is None:
            raise Problem(404, "No such slot", f"There is no slot named {name!r}.")
        return _access(session, slot, key, right)


def upload_opened(
    session: Session, upload_id: str, authorization: str, *rights: Right
) -> tuple[Upload, Access]:
    """The upload, if the key has one of the ``rights`` to its slot."""
    key = _key(session, authorization)
    upload = session.get(Upload, upload_id)
    if upload is None or upload.slot_id != key.slot_id:
        # Another slot's uploads are none of this key's business, not even whether they exist.
        raise Problem(404, "No such upload", "It may have been removed for good.")
    return upload, _access(session, session.get_one(Slot, upload.slot_id), key, *rights)


def seen_by(access: Access | None, upload: Upload) -> Upload:
    """What a key may see of an upload: everything with the right to send or review, its texts with
    the right to read, otherwise the public view."""
    if access is None:
        return public_view(upload)
    if access.may(Right.REVIEW) or access.may(Right.UPLOAD):
        return upload
    return public_view(upload, words=True)


def access_if_any(session: Session, slot: Slot, authorization: str) -> Access | None:
    """The access of the request's key to the slot, if a key was sent."""
    key = found_key(session, bearer_in(authorization))
    if key is None or key.slot_id != slot.id:
        return None
    return Access(slot, settings_of(session, slot), key)


def _key(session: Session, authorization: str) -> SlotKey:
    key = found_key(session, bearer_in(authorization))
    if key is None:
        raise no_key()
    return key


def _access(session: Session, slot: Slot, key: SlotKey, *rights: Right) -> Access:
    if key.slot_id != slot.id:
        raise Problem(403, "Wrong slot", f"This key does not open the slot {slot.name!r}.")
    if not any(right in key.rights for right in rights):
        wanted = " or ".join(right.value for right in rights)
        raise Problem(403, "Not with this key", f"Use a key with the right to {wanted}; see Slots.")
    return Access(slot, settings_of(session, slot), key)

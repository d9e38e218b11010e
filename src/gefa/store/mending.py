"""Has files made again that were lost or damaged on disk."""

from __future__ import annotations

from sqlmodel import Session, select

from gefa.core.errors import GefaError
from gefa.store.blobs import BlobStore
from gefa.store.models import Slot, Task, TaskState, Upload, Variant
from gefa.store.store import Store
from gefa.store.uploads import treat


def mend_upload(store: Store, upload_id: str, sha256: str) -> bool:
    """Make an upload's files again if ``sha256`` cannot be read. False if that is impossible: an
    earlier file, which is served on for a while, is not made any more, and is forgotten."""
    store.blobs.set_aside(sha256)
    if store.blobs.touch(sha256):
        return True  # the trash had it
    with store.changing() as session:
        rows = session.exec(
            select(Variant).where(Variant.upload_id == upload_id, Variant.sha256 == sha256)
        ).all()
        if rows and all(row.retired is not None for row in rows):
            for row in rows:
                session.delete(row)
            return False
        return mended_by_treating(session, store.blobs, upload_id)


def mended_by_treating(session: Session, blobs: BlobStore, upload_id: str) -> bool:
    """Queue an upload's files again, unless that is in progress. False if that is impossible."""
    upload = session.get(Upload, upload_id)
    if upload is None or upload.original_gone or blobs.checked(upload.blob) is None:
        return False
    under_way = session.exec(
        select(Task.id).where(Task.upload_id == upload_id, Task.state == TaskState.QUEUED)
    ).first()
    if under_way is None:
        try:
            treat(session, upload, session.get_one(Slot, upload.slot_id))
        except GefaError:
            return False  # its slot names a recipe that is gone
    return True

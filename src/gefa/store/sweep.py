"""Clears away files that no page, run or upload uses any more."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from sqlalchemy import String, cast, delete, select
from sqlmodel import Session, SQLModel, col
from sqlmodel import select as rows

from gefa.store.blobs import BlobStore
from gefa.store.models import (
    EstimateEntry,
    FactsEntry,
    MadeEntry,
    Notification,
    Resumable,
    Revision,
    Task,
    TaskState,
    Upload,
    Variant,
    now,
)
from gefa.store.variants import SERVED_AFTER

NAMES_FILE = "backup.names"
"""in the data folder: the contents of the newest backup, which the sweep leaves alone"""
REMOVED_AFTER = timedelta(days=30)
"""how long a removed upload can be restored"""
RESUMED_WITHIN = timedelta(days=2)
"""how long an interrupted upload can be resumed"""
NOTICES_AFTER = timedelta(days=30)
ORIGINALS_AT_ONCE = 500
"""in one transaction: others wait for it"""
FRESH_SECONDS = 60.0
"""somebody may be sending an original this young again"""
UNUSED_SECONDS = 24 * 3600.0
"""how long unreferenced blobs are kept: trials, proofs, earlier files"""
MOST_AT_ONCE = 0.1
"""of all blobs: more than this looks like a damaged database"""
FEW = 20
"""blobs that can always be swept: in a small site, one trial leaves more than a tenth"""
TRASH_SECONDS = 7 * 24 * 3600.0
_NAME = re.compile(r"[0-9a-f]{64}")


def backed_up(folder: Path) -> set[str]:
    """The blobs in the newest backup: after restoring its database they are needed."""
    try:
        return set((folder / NAMES_FILE).read_text().split())
    except OSError:
        return set()


def sweep_originals(session: Session, blobs: BlobStore, fresh: float = FRESH_SECONDS) -> int:
    """Delete originals that their slots do not keep; returns how many."""
    leaving = session.exec(
        rows(Upload)
        .where(col(Upload.original_gone).is_(True), Upload.blob != "")
        .limit(ORIGINALS_AT_ONCE)
    ).all()
    needed = _needed(session, {upload.blob for upload in leaving}) if leaving else set()
    gone = 0
    for upload in leaving:
        if upload.blob in needed or blobs.delete(upload.blob, fresh):
            # Where something else needs the same bytes they stay, but not for this upload.
            upload.blob = ""
            session.add(upload)
            gone += 1
    session.flush()
    return gone


def _needed(session: Session, asked: set[str]) -> set[str]:
    """Those of the blobs that something besides uploads without originals needs. Each table is read
    once, however many blobs are asked for."""
    found: set[str] = set()
    for question in (
        rows(Upload.blob).where(col(Upload.blob).in_(asked), ~col(Upload.original_gone)),
        rows(Revision.blob).where(col(Revision.blob).in_(asked)),
        rows(Variant.sha256).where(col(Variant.sha256).in_(asked)),
    ):
        found.update(session.exec(question))
    for texts in (
        rows(cast(Upload.earlier, String)).where(cast(Upload.earlier, String) != "{}"),
        rows(cast(Task.task, String)).where(Task.state == TaskState.QUEUED),
    ):
        for text in session.exec(texts):
            found.update(asked.intersection(_NAME.findall(text)))
    return found


def sweep_rows(session: Session) -> list[str]:
    """Delete files replaced long ago, uploads removed long ago, old notices, and old interrupted
    uploads; returns the ids of the last."""
    time = now()
    session.execute(delete(Variant).where(col(Variant.retired) < time - SERVED_AFTER))
    session.execute(
        delete(Notification).where(
            col(Notification.created) < time - NOTICES_AFTER, col(Notification.due).is_(None)
        )
    )
    for upload in session.exec(
        rows(Upload).where(col(Upload.removed) < time - REMOVED_AFTER)
    ).all():
        forget_upload(session, upload)
    old = session.exec(rows(Resumable).where(col(Resumable.created) < time - RESUMED_WITHIN)).all()
    for resumable in old:
        session.delete(resumable)
    session.flush()
    return [resumable.id for resumable in old]


def forget_upload(session: Session, upload: Upload) -> None:
    """Delete an upload; its blobs go when nothing else needs them."""
    session.execute(delete(Variant).where(col(Variant.upload_id) == upload.id))
    session.execute(delete(Task).where(col(Task.upload_id) == upload.id))
    session.delete(upload)


@dataclass(frozen=True)
class Sweep:
    """The result of a sweep: blobs moved to the trash, and blobs left because they were
    too many."""

    taken: int = 0
    refused: int = 0
    blobs: int = 0

    @property
    def told(self) -> str:
        """Why the sweep stopped; empty if it did not."""
        if not self.refused:
            return ""
        return (
            f"{self.refused:,} of {self.blobs:,} files are named by nothing in the database, which"
            " is more than a tenth, so none was cleared away. If that is right (much was removed),"
            " run `gefa sweep --anyway`; if not, bring the database back with `gefa restore`."
        )


def sweep_blobs(
    session: Session,
    blobs: BlobStore,
    unused: float = UNUSED_SECONDS,
    *,
    kept: Collection[str] = (),
    anyway: bool = False,
) -> Sweep:
    """Move blobs to the trash that the database does not need and that are not ``kept``.

    Moves none if they are more than a tenth of all, unless ``anyway``.
    """
    there = set(blobs.all())
    count = len(there)
    there.difference_update(named(session), kept)
    old = [blob for blob in there if (blobs.age(blob) or 0.0) > unused]
    if len(old) > max(count * MOST_AT_ONCE, FEW) and not anyway:
        return Sweep(refused=len(old), blobs=count)
    for blob in old:
        blobs.discard(blob)
    return Sweep(taken=len(old), blobs=count)


def named(session: Session) -> set[str]:
    """The blobs that the database needs. The ledger only knows blobs, and needs none."""
    found: set[str] = set()
    for text in _texts(session):
        found.update(_NAME.findall(text))
    return found


_LEDGER = frozenset(entry.__tablename__ for entry in (MadeEntry, FactsEntry, EstimateEntry))


def _texts(session: Session) -> Iterator[str]:
    """All texts in the database that name needed blobs. The ledger only knows blobs."""
    for table in SQLModel.metadata.sorted_tables:
        if table.name in _LEDGER:
            continue
        for column in table.columns:
            for value in session.execute(select(column.cast(String))).scalars():
                if value:
                    yield str(value)

"""What nobody needs is cleared away, and nothing else."""

from __future__ import annotations

import os
import time
from datetime import timedelta
from typing import Any

from sqlmodel import Session, select

from gefa.store.blobs import BlobStore
from gefa.store.models import Task, Upload, UploadState, Variant, now
from gefa.store.slots import add_slot
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.sweep import (
    REMOVED_AFTER,
    TRASH_SECONDS,
    sweep_blobs,
    sweep_originals,
    sweep_rows,
)
from gefa.store.task_kinds import TaskKind
from gefa.store.variants import SERVED_AFTER


def old(blobs: BlobStore, data: bytes, seconds: float = 10 * 24 * 3600) -> str:
    """A blob that was put a while ago; its name."""
    sha256 = blobs.put(data).sha256
    then = time.time() - seconds
    os.utime(blobs.path(sha256), (then, then))
    return sha256


def upload(session: Session, blob: str, **fields: Any) -> Upload:
    slot = add_slot(session, f"slot-{len(session.exec(select(Upload)).all())}")
    made = Upload(
        slot_id=slot.id,
        name="a.jpg",
        blob=blob,
        bytes=1,
        format="jpeg",
        state=UploadState.LIVE,
        **fields,
    )
    session.add(made)
    session.flush()
    return made


def variant(session: Session, of: Upload, sha256: str, **fields: Any) -> Variant:
    job = Task(kind=TaskKind.UPLOAD, upload_id=of.id)
    session.add(job)
    session.flush()
    made = Variant(
        job_id=job.id,
        upload_id=of.id,
        cut="whole",
        path=f"{sha256[:9]}.jpg",
        format="jpeg",
        width=1,
        height=1,
        bytes=1,
        sha256=sha256,
        **fields,
    )
    session.add(made)
    session.flush()
    return made


def test_blobs_that_nothing_refers_to_go_after_a_day(store: Store) -> None:
    blobs = store.blobs
    with store.session() as session:
        used = [old(blobs, data) for data in (b"source", b"upload", b"variant", b"queued")]
        bring_in(session, "a.png", blobs.put(b"source"), "png")
        os.utime(blobs.path(used[0]), (0, 0))
        variant(session, upload(session, used[1]), used[2])
        session.add(Task(kind=TaskKind.TRIAL, task={"blob": used[3]}))
        session.flush()
        unused, fresh = old(blobs, b"unused"), blobs.put(b"just now").sha256
        again = old(blobs, b"wanted again")
        assert blobs.put(b"wanted again").sha256 == again
        assert sweep_blobs(session, blobs).taken == 1
    there = set(blobs.all())
    assert unused not in there
    assert there == {*used, fresh, again}


def test_what_is_swept_can_be_had_back_for_a_week(store: Store) -> None:
    blobs = store.blobs
    unused = old(blobs, b"unused")
    with store.reading() as session:
        sweep_blobs(session, blobs)
    assert not blobs.path(unused).exists()
    assert blobs.sweep_trash(TRASH_SECONDS) == 0
    assert blobs.touch(unused), "out of the trash"
    assert blobs.path(unused).read_bytes() == b"unused"
    blobs.discard(unused)
    os.utime(blobs.trash / unused, (0, 0))
    assert blobs.sweep_trash(TRASH_SECONDS) == 1
    assert not blobs.touch(unused)


def test_a_database_that_lost_its_rows_takes_no_pictures_with_it(store: Store) -> None:
    """Nor does it while the newest backup needs them."""
    blobs = store.blobs
    names = [old(blobs, f"picture {number}".encode()) for number in range(60)]
    with store.reading() as session:
        stopped = sweep_blobs(session, blobs)
        assert (stopped.taken, stopped.refused) == (0, 60)
        assert "gefa sweep --anyway" in stopped.told
        assert set(blobs.all()) == set(names)
        kept = sweep_blobs(session, blobs, kept=names[:55])
        assert (kept.taken, kept.told) == (5, "")
        assert sweep_blobs(session, blobs, anyway=True).taken == 55


def test_originals_go_once_unless_something_else_needs_the_bytes(store: Store) -> None:
    blobs = store.blobs
    with store.session() as session:
        alone = upload(session, old(blobs, b"alone"), original_gone=True)
        shared = upload(session, old(blobs, b"shared"), original_gone=True)
        upload(session, shared.blob)
        queued = upload(session, old(blobs, b"queued"), original_gone=True)
        session.add(Task(kind=TaskKind.UPLOAD, upload_id=queued.id, task={"blob": queued.blob}))
        fresh = upload(session, blobs.put(b"fresh").sha256, original_gone=True)
        kept = upload(session, old(blobs, b"kept"))
        names = [one.blob for one in (alone, shared, queued, fresh, kept)]
        sweep_originals(session, blobs)
        assert [one.blob != "" for one in (alone, shared, queued, fresh, kept)] == [
            False,
            False,
            False,
            True,
            True,
        ]
    assert [blobs.path(name).exists() for name in names] == [False, True, True, True, True]


def test_what_was_followed_or_removed_is_forgotten_after_a_month(store: Store) -> None:
    with store.session() as session:
        there = upload(session, "b" * 64)
        current = variant(session, there, "1" * 64)
        lately = variant(session, there, "2" * 64, retired=now() - timedelta(days=2))
        variant(session, there, "3" * 64, retired=now() - SERVED_AFTER - timedelta(hours=1))
        gone = upload(session, "c" * 64, removed=now() - REMOVED_AFTER - timedelta(hours=1))
        variant(session, gone, "4" * 64)
        back = upload(session, "d" * 64, removed=now() - timedelta(days=3))
        sweep_rows(session)
        assert {v.id for v in session.exec(select(Variant)).all()} == {current.id, lately.id}
        assert {u.id for u in session.exec(select(Upload)).all()} == {there.id, back.id}
        assert {job.upload_id for job in session.exec(select(Task)).all()} == {there.id}


def test_pieces_that_belong_to_nothing_are_deleted_after_a_while(store: Store) -> None:
    """Of a slot that was removed while somebody uploaded to it."""
    old, fresh = store.pieces("old"), store.pieces("fresh")
    for path in (old, fresh):
        path.write_bytes(b"half a picture")
    os.utime(old, (0, 0))
    store.sweep_pieces(3600)
    assert (old.exists(), fresh.exists()) == (False, True)

"""The files of uploads: served, waiting for review, or retired."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from sqlmodel import Session, col, select

from gefa.core.deliver.manifest import File
from gefa.store.models import Variant, now

SERVED_AFTER = timedelta(days=30)
"""how long a replaced file is still served"""
_IN_ORDER = (col(Variant.cut), col(Variant.format), col(Variant.width))


def variants_of_upload(session: Session, upload_id: str) -> Sequence[Variant]:
    """The files that are served now, by crop, format and width."""
    return session.exec(
        select(Variant)
        .where(
            Variant.upload_id == upload_id,
            col(Variant.retired).is_(None),
            col(Variant.waiting).is_(False),
        )
        .order_by(*_IN_ORDER)
    ).all()


def newest_variants(session: Session, upload_id: str) -> Sequence[Variant]:
    """The newest files, served or waiting for review."""
    job = newest_revision(session, upload_id)
    return session.exec(
        select(Variant)
        .where(Variant.upload_id == upload_id, Variant.job_id == job)
        .order_by(*_IN_ORDER)
    ).all()


def variants_of_uploads(
    session: Session, upload_ids: Sequence[str], *, newest: bool
) -> dict[str, list[Variant]]:
    """The same for a page of uploads in one query, by id: the ``newest`` files, or the served
    ones."""
    found: dict[str, list[Variant]] = {id: [] for id in upload_ids}
    current = select(Variant).where(
        col(Variant.upload_id).in_(upload_ids), col(Variant.retired).is_(None)
    )
    for variant in session.exec(current.order_by(*_IN_ORDER)):
        found[variant.upload_id or ""].append(variant)
    if not newest:
        return {id: [v for v in variants if not v.waiting] for id, variants in found.items()}
    revisions = {id: max((v.job_id for v in one), default="") for id, one in found.items()}
    return {id: [v for v in one if v.job_id == revisions[id]] for id, one in found.items()}


def newest_revision(session: Session, upload_id: str) -> str | None:
    """Names the newest files: the id of the task that made them."""
    return session.exec(
        select(Variant.job_id)
        .where(Variant.upload_id == upload_id, col(Variant.retired).is_(None))
        .order_by(col(Variant.job_id).desc())
        .limit(1)
    ).first()


def _current(session: Session, upload_id: str) -> Sequence[Variant]:
    return session.exec(
        select(Variant).where(Variant.upload_id == upload_id, col(Variant.retired).is_(None))
    ).all()


def exchange(
    session: Session, upload_id: str, job_id: str, files: Sequence[File], *, waiting: bool
) -> bool:
    """Replace the files with ``files``, at once, or, if they are ``waiting``, when they are
    released. True if any file differs."""
    known = {
        (variant.path, variant.sha256): variant
        for variant in session.exec(select(Variant).where(Variant.upload_id == upload_id)).all()
    }
    before = {key for key, variant in known.items() if variant.retired is None}
    for file in files:
        variant = known.pop((file.path, file.sha256), None)
        if variant is None:
            fields = file.model_dump(mode="json", exclude={"limit", "budget"})
            variant = Variant(job_id=job_id, upload_id=upload_id, waiting=waiting, **fields)
        else:
            variant.waiting = waiting and (variant.waiting or variant.retired is not None)
            variant.job_id, variant.retired, variant.moves = job_id, None, file.moves
        session.add(variant)
    for variant in known.values():
        if variant.retired is None:
            _outlive(session, variant, waiting)
    session.flush()
    return before != {(file.path, file.sha256) for file in files}


def _outlive(session: Session, variant: Variant, waiting: bool) -> None:
    if variant.waiting:
        session.delete(variant)  # nobody was ever told of it
    elif not waiting:
        variant.retired = now()
        session.add(variant)


def release(session: Session, upload_id: str) -> None:
    """Serve the newest files instead of the earlier ones."""
    newest = newest_revision(session, upload_id)
    for variant in _current(session, upload_id):
        if variant.job_id == newest:
            variant.waiting = False
        else:
            variant.retired = now()
        session.add(variant)
    session.flush()


def drop_waiting(session: Session, upload_id: str) -> None:
    """Delete files that wait to replace the served ones."""
    current = _current(session, upload_id)
    for variant in current:
        if variant.waiting:
            session.delete(variant)
    served = [variant for variant in current if not variant.waiting]
    # A file that both jobs made carries the id of the newer job, whose other files are gone now.
    newest = max((variant.job_id for variant in served), default="")
    for variant in served:
        variant.job_id = newest
        session.add(variant)
    session.flush()


def withhold(session: Session, upload_id: str) -> None:
    """Serve none of its files, retired ones neither."""
    every = session.exec(select(Variant).where(Variant.upload_id == upload_id)).all()
    for variant in every:
        if variant.retired is None:
            variant.waiting = True
            session.add(variant)
        else:
            session.delete(variant)
    session.flush()

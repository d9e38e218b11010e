"""Sources and their revisions."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, NamedTuple

from sqlalchemy import select as sql_select
from sqlmodel import Session, col, func, select

from gefa.core.make.stems import stems
from gefa.core.read.survey import Survey
from gefa.store.blobs import Blob
from gefa.store.contracts import ReadBody
from gefa.store.models import Revision, RevisionState, Source
from gefa.store.task_rows import enqueue
from gefa.store.trail import Deed, note

MOST_VALUES = 900


def bring_in(session: Session, name: str, blob: Blob, format: str) -> tuple[Source, Revision]:
    """Add a source, or a revision to the source of that name; queues its reading.

    The same bytes again add nothing. A removed source of that name is restored.
    """
    source = session.exec(select(Source).where(Source.name == name)).first()
    if source is None:
        source = Source(name=name)
        session.add(source)
        session.flush()
    if source.removed is not None:
        source.removed = None
        session.add(source)
        note(session, Deed.SOURCE_BROUGHT_IN, name, "restored")
    newest = latest_revision(session, source.id)
    if newest and _is(newest, blob):
        return source, newest
    number = newest.number + 1 if newest else 1
    revision = Revision(
        source_id=source.id, number=number, blob=blob.sha256, bytes=blob.bytes, format=format
    )
    session.add(revision)
    session.flush()
    enqueue(session, ReadBody(blob=blob.sha256, name=name), revision_id=revision.id)
    note(session, Deed.SOURCE_BROUGHT_IN, name, f"revision {number}")
    return source, revision


def is_here(session: Session, name: str, blob: Blob) -> bool:
    """Whether a source of that name exists with exactly these bytes."""
    source = session.exec(select(Source).where(Source.name == name)).first()
    if source is None or source.removed is not None:
        return False
    newest = latest_revision(session, source.id)
    return newest is not None and _is(newest, blob)


def _is(revision: Revision, blob: Blob) -> bool:
    return revision.blob == blob.sha256 and revision.state is not RevisionState.FAILED


def latest_revision(session: Session, source_id: str) -> Revision | None:
    return session.exec(
        select(Revision)
        .where(Revision.source_id == source_id)
        .order_by(col(Revision.number).desc())
        .limit(1)
    ).first()


def present(session: Session) -> Sequence[Source]:
    """All sources that are not removed, by name."""
    return session.exec(
        select(Source).where(col(Source.removed).is_(None)).order_by(col(Source.name))
    ).all()


class Newest(NamedTuple):
    """A source and its newest revision, without the survey."""

    source_id: str
    name: str
    revision_id: str
    state: RevisionState


def newest_revisions(session: Session) -> list[Newest]:
    """All sources with their newest revisions, by name, without surveys, which can be large and
    slow to load."""
    newest = newest_numbers()
    found = session.execute(
        sql_select(col(Source.id), col(Source.name), col(Revision.id), col(Revision.state))
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .where(col(Source.removed).is_(None))
        .order_by(col(Source.name))
    )
    return [Newest(*row) for row in found]


def all_sources(
    session: Session, ids: Collection[str] | None = None
) -> Sequence[tuple[Source, Revision]]:
    """All sources with their newest revisions, or those with these ids; newest first."""
    newest = newest_numbers()
    # SQLite takes so many values at once; more are as well picked from all.
    few = list(ids) if ids is not None and len(ids) <= MOST_VALUES else None
    wanted = col(Source.id).is_not(None) if few is None else col(Source.id).in_(few)
    found = session.exec(
        select(Source, Revision)
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .where(col(Source.removed).is_(None), wanted)
        .order_by(col(Revision.created).desc(), col(Source.name))
    ).all()
    if ids is None or few is not None:
        return found
    kept = set(ids)
    return [row for row in found if row[0].id in kept]


def source_stems(session: Session) -> dict[str, str]:
    """The stems of sources that share theirs with another one of their folder, by name."""
    return stems(session.exec(select(Source.name).where(col(Source.removed).is_(None))))


def newest_numbers() -> Any:
    """The number of each source's newest revision."""
    return (
        select(Revision.source_id, func.max(Revision.number).label("number"))
        .group_by(col(Revision.source_id))
        .subquery()
    )


def survey_of(revision: Revision) -> Survey:
    return Survey.model_validate(revision.survey)


def revision_before(session: Session, revision: Revision) -> Revision | None:
    """The newest earlier revision that could be read."""
    return session.exec(
        select(Revision)
        .where(
            Revision.source_id == revision.source_id,
            Revision.number < revision.number,
            Revision.state == RevisionState.READY,
        )
        .order_by(col(Revision.number).desc())
        .limit(1)
    ).first()

"""Sources, their revisions, and what hands decided about their parts."""

from __future__ import annotations

from collections.abc import Sequence

from sqlmodel import Session, col, func, select

from gefa.core.plan import CutEntry, Plan
from gefa.core.read.survey import Survey
from gefa.store.blobs import Blob
from gefa.store.models import Choice, Job, JobKind, Revision, RevisionState, Source


def bring_in(session: Session, name: str, blob: Blob, format: str) -> tuple[Source, Revision]:
    """A new source, or a new revision of the source of that name; its reading is queued.

    The same bytes again add nothing.
    """
    source = session.exec(select(Source).where(Source.name == name)).first()
    if source is None:
        source = Source(name=name)
        session.add(source)
        session.flush()
    newest = latest_revision(session, source.id)
    if newest and newest.blob == blob.sha256 and newest.state is not RevisionState.FAILED:
        return source, newest
    number = newest.number + 1 if newest else 1
    revision = Revision(
        source_id=source.id, number=number, blob=blob.sha256, bytes=blob.bytes, format=format
    )
    session.add(revision)
    session.flush()
    session.add(
        Job(
            kind=JobKind.READ,
            revision_id=revision.id,
            task={"blob": blob.sha256, "name": name},
        )
    )
    return source, revision


def latest_revision(session: Session, source_id: str) -> Revision | None:
    return session.exec(
        select(Revision)
        .where(Revision.source_id == source_id)
        .order_by(col(Revision.number).desc())
        .limit(1)
    ).first()


def all_sources(session: Session) -> Sequence[tuple[Source, Revision]]:
    """Every source with its newest revision, the newest first."""
    newest = (
        select(Revision.source_id, func.max(Revision.number).label("number"))
        .group_by(col(Revision.source_id))
        .subquery()
    )
    return session.exec(
        select(Source, Revision)
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .order_by(col(Revision.created).desc(), col(Source.name))
    ).all()


def survey_of(revision: Revision) -> Survey:
    return Survey.model_validate(revision.survey)


def choices(session: Session, source_id: str) -> dict[str, Choice]:
    """What hands decided, by part path."""
    found = session.exec(select(Choice).where(Choice.source_id == source_id)).all()
    return {choice.part: choice for choice in found}


def plan_of(session: Session, source_id: str) -> Plan:
    """The plan that the hands' decisions make."""
    return Plan(
        cuts=tuple(
            CutEntry(
                part=choice.part,
                name=choice.name,
                recipe=recipe,
                leave_out=choice.leave_out,
            )
            for choice in choices(session, source_id).values()
            for recipe in (choice.recipe.split(",") if choice.recipe else [None])
        )
    )


def decide(
    session: Session,
    source_id: str,
    part: str,
    *,
    cut: bool,
    name: str | None = None,
    recipe: str | None = None,
) -> None:
    """Note a hand's decision about a part. What is None stays as it was decided before; an empty
    name is the part's own."""
    choice = choices(session, source_id).get(part) or Choice(source_id=source_id, part=part)
    choice.leave_out = not cut
    choice.name = choice.name if name is None else name or None
    choice.recipe = recipe or choice.recipe
    session.add(choice)
    session.flush()


def undecide(session: Session, source_id: str, part: str) -> None:
    """Take a hand's decision back; tag and rule count again."""
    choice = choices(session, source_id).get(part)
    if choice is not None:
        session.delete(choice)
        session.flush()

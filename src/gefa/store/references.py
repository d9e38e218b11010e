"""Which blobs the database names, and what each is."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

from sqlmodel import Session, col, select

from gefa.store.contracts import Preview
from gefa.store.models import Revision, Source, Task, TaskState, Upload, Variant
from gefa.store.task_kinds import TaskKind

_NAME = re.compile(r"[0-9a-f]{64}")


class Role(StrEnum):
    """The role of a blob. All but originals can be made again from an original."""

    ORIGINAL = "original"
    VARIANT = "variant"
    DRAWN = "drawn"


@dataclass(frozen=True, slots=True)
class Reference:
    """A blob that is needed: ``what`` says by what, ``task`` is the job that made it, if any. A
    ``retired`` file was replaced, and is still served."""

    sha256: str
    role: Role
    what: str
    task: str = ""
    upload: str = ""
    revision: str = ""
    retired: bool = False


def references(session: Session) -> Iterator[Reference]:
    """Every blob that the database needs; some appear several times."""
    yield from _of_sources(session)
    yield from _of_uploads(session)
    yield from _of_variants(session)
    yield from _of_reports(session)


def _of_sources(session: Session) -> Iterator[Reference]:
    names = dict(session.exec(select(Source.id, Source.name)).all())
    rows = select(Revision.id, Revision.source_id, Revision.number, Revision.blob)
    previews = dict(session.exec(select(Revision.id, Revision.preview)).all())
    for revision, source, number, blob in session.exec(rows):
        what = f"source {names[source]!r}, revision {number}"
        preview = previews[revision]
        yield Reference(blob, Role.ORIGINAL, what)
        for drawn in _names(Preview.model_validate(preview).model_dump()):
            yield Reference(drawn, Role.DRAWN, f"preview of {what}", revision=revision)


def _of_uploads(session: Session) -> Iterator[Reference]:
    for upload in session.exec(select(Upload)):
        what = f"upload {upload.name!r} ({upload.id})"
        states = [(upload.blob, upload.original_gone, upload.preview)]
        if upload.earlier:
            before = upload.earlier
            states.append((before["blob"], before["original_gone"], before["preview"]))
        for blob, gone, preview in states:
            if blob and not gone:
                yield Reference(blob, Role.ORIGINAL, what, upload=upload.id)
            if preview:
                yield Reference(preview, Role.DRAWN, f"preview of {what}", upload=upload.id)


def _of_variants(session: Session) -> Iterator[Reference]:
    rows = select(Variant.sha256, Variant.path, Variant.job_id)
    told = session.exec(select(Variant.upload_id, Variant.retired).order_by(col(Variant.id)))
    found = session.exec(rows.order_by(col(Variant.id)))
    for (sha256, path, job), (upload, retired) in zip(found, told, strict=True):
        old = retired is not None
        yield Reference(sha256, Role.VARIANT, path, task=job, upload=upload or "", retired=old)


def _of_reports(session: Session) -> Iterator[Reference]:
    """Documents and originals of runs, for people to download."""
    kinds = (TaskKind.PDF, TaskKind.TAKE)
    rows = select(Task.id, Task.name, Task.report).where(
        col(Task.kind).in_(kinds), Task.state == TaskState.DONE
    )
    for task, name, report in session.exec(rows):
        for sha256 in _names(report):
            yield Reference(sha256, Role.VARIANT, name or "PDF of a run", task=task)


def _names(value: object) -> Iterator[str]:
    """Blob names anywhere in a JSON value."""
    if isinstance(value, str):
        if _NAME.fullmatch(value):
            yield value
    elif isinstance(value, dict):
        for inner in value.values():
            yield from _names(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _names(inner)

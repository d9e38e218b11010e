"""What the database of an out folder says of its sources and of the files placed there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from sqlalchemy import String, delete, type_coerce
from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.read.survey import Survey
from gefa.store.models import Outlook, Revision, RevisionState, Source, new_id, now
from gefa.store.out_models import PlacedFile, SourceFile
from gefa.store.upsert import upsert


class SourceRow(NamedTuple):
    """A source as it was read last. ``survey`` is JSON: parsing all of a site's takes a while."""

    sha256: str
    survey: str
    saved: int
    bytes: int
    asked: str
    elsewhere: dict[str, str]


def source_rows(session: Session) -> dict[str, SourceRow]:
    """All sources, by name."""
    found = session.execute(
        sql_select(
            col(Source.name),
            col(Revision.blob),
            type_coerce(col(Revision.survey), String),
            col(SourceFile.saved),
            col(SourceFile.bytes),
            col(SourceFile.asked),
            col(SourceFile.elsewhere),
        )
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(SourceFile, col(SourceFile.source_id) == col(Source.id))
    )
    return {name: SourceRow(*row) for name, *row in found}


def write_sources(session: Session, rows: Mapping[str, tuple[SourceRow, Survey]]) -> None:
    """Keep sources as they were read, by name, instead of what was kept of them."""
    ids = _ids_of(session, rows)
    for id in ids.values():
        session.execute(delete(Revision).where(col(Revision.source_id) == id))
    # Not as objects: making them takes longer than writing them.
    revisions = [
        {"id": new_id(), "source_id": ids[name], "number": 1, "blob": row.sha256,
         "bytes": row.bytes, "format": survey.format, "state": RevisionState.READY, "problem": "",
         "survey": survey.model_dump(mode="json"), "preview": {}, "changes": {}, "created": now()}
        for name, (row, survey) in rows.items()
    ]  # fmt: skip
    upsert(session, Revision, revisions, ["id"])
    fields = ("saved", "bytes", "asked", "elsewhere")
    files = [
        {"source_id": ids[name]} | {field: getattr(row, field) for field in fields}
        for name, (row, _) in rows.items()
    ]
    upsert(session, SourceFile, files, ["source_id"])


def _ids_of(session: Session, names: Iterable[str]) -> dict[str, str]:
    """The ids of sources, by name; new names get new ones."""
    known = source_ids(session)
    new = {name: new_id() for name in names if name not in known}
    rows = [{"id": id, "name": name, "created": now(), "watched": ""} for name, id in new.items()]
    upsert(session, Source, rows, ["id"])
    known |= new
    return {name: known[name] for name in names}


def wanted_paths(session: Session) -> dict[str, list[str]]:
    """The paths that each source's files would have if it were alone, by name."""
    found = session.execute(
        sql_select(col(Source.name), col(Outlook.paths)).join(
            Source, col(Source.id) == col(Outlook.source_id)
        )
    )
    return {name: list(paths) for name, paths in found}


def write_wanted(session: Session, paths: Mapping[str, Iterable[str]]) -> None:
    """Keep the wanted paths of sources, by name."""
    ids = _ids_of(session, paths)
    rows = [
        {"source_id": ids[n], "basis": "", "recipes": {}, "cuts": 0, "files": 0, "bytes": 0,
         "paths": list(wanted), "problem": ""}
        for n, wanted in paths.items()
    ]  # fmt: skip
    upsert(session, Outlook, rows, ["source_id"])


def source_ids(session: Session) -> dict[str, str]:
    """The ids of all sources, by name."""
    found = session.execute(sql_select(col(Source.name), col(Source.id)))
    return {str(name): str(id) for name, id in found}


def forget_sources(session: Session, names: Iterable[str]) -> None:
    """Delete what is kept of sources that are gone."""
    known = source_ids(session)
    for id in [known[name] for name in names if name in known]:
        for table in (SourceFile, Revision, Outlook):
            session.execute(delete(table).where(col(table.source_id) == id))
        session.execute(delete(Source).where(col(Source.id) == id))


def placed_files(session: Session) -> dict[str, tuple[str, int]]:
    """Key and time of each placed file, by path."""
    found = session.execute(
        sql_select(col(PlacedFile.path), col(PlacedFile.key), col(PlacedFile.saved))
    )
    return {path: (key, saved) for path, key, saved in found}


def write_placed(session: Session, files: Mapping[str, tuple[str, int]]) -> None:
    """Keep key and time of placed files, by path."""
    rows = [{"path": path, "key": key, "saved": saved} for path, (key, saved) in files.items()]
    upsert(session, PlacedFile, rows, ["path"])


def forget_placed(session: Session, paths: Iterable[str]) -> None:
    for path in paths:
        session.execute(delete(PlacedFile).where(col(PlacedFile.path) == path))

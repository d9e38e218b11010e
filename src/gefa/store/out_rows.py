"""What the database of an out folder says of its sources and of the files placed there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from sqlalchemy import String, delete, type_coerce
from sqlalchemy import select as sql_select
from sqlalchemy.dialects.sqlite import insert
from sqlmodel import Session, col, select

from gefa.core.read.survey import Survey
from gefa.store.models import Outlook, Revision, RevisionState, Source, new_id
from gefa.store.out_models import PlacedFile, SourceFile


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


def write_source(session: Session, name: str, row: SourceRow, survey: Survey) -> None:
    """Keep a source as it was read, instead of what was kept of it."""
    known = session.exec(select(Source.id).where(Source.name == name)).first()
    id = known or new_id()
    if known is None:
        session.add(Source(id=id, name=name))
        session.flush()
    session.execute(delete(Revision).where(col(Revision.source_id) == id))
    session.add(
        Revision(
            source_id=id,
            number=1,
            blob=row.sha256,
            bytes=row.bytes,
            format=survey.format,
            state=RevisionState.READY,
            survey=survey.model_dump(mode="json"),
        )
    )
    fields = ("saved", "bytes", "asked", "elsewhere")
    file = {"source_id": id} | {name: getattr(row, name) for name in fields}
    _upsert(session, SourceFile, [file], ["source_id"])


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
    ids = source_ids(session)
    for name in paths.keys() - ids.keys():
        source = Source(name=name)
        session.add(source)
        ids[name] = source.id
    session.flush()
    rows = [
        {"source_id": ids[n], "basis": "", "recipes": {}, "cuts": 0, "files": 0, "bytes": 0,
         "paths": list(wanted), "problem": ""}
        for n, wanted in paths.items()
    ]  # fmt: skip
    _upsert(session, Outlook, rows, ["source_id"])


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
    _upsert(session, PlacedFile, rows, ["path"])


def forget_placed(session: Session, paths: Iterable[str]) -> None:
    for path in paths:
        session.execute(delete(PlacedFile).where(col(PlacedFile.path) == path))


def _upsert(
    session: Session, table: type[Any], rows: list[dict[str, Any]], keys: list[str]
) -> None:
    for start in range(0, len(rows), 500):
        statement = insert(table).values(rows[start : start + 500])
        newer = {n: statement.excluded[n] for n in rows[0] if n not in keys}
        session.execute(statement.on_conflict_do_update(index_elements=keys, set_=newer))

"""The database: opened, migrated, and read and changed in sessions."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Engine, event, inspect
from sqlmodel import Session, create_engine

from gefa.core.errors import GefaError

DATABASE = "gefa.sqlite3"
USES = "uses"
"""key in a session's ``info`` for the ``uses`` of its store"""
MIGRATIONS = Path(__file__).parent / "migrations"
STEPS = sorted(path.name[:4] for path in (MIGRATIONS / "versions").glob("[0-9]*.py"))
"""the steps from one state of the tables to the next, by number"""


class FolderTrouble(GefaError):
    """A data folder that cannot be used as it is."""


class Database:
    """One SQLite file with all tables, brought to the present state of the tables when it is
    opened.

    FolderTrouble if it was written by a version that this one does not know. ``cached`` says that
    losing the last moments before a power cut is no harm; the file stays whole either way. One that
    is ``immutable`` is read as it is, and nothing beside it is written, not even a lock.
    """

    def __init__(self, file: Path, *, cached: bool = False, immutable: bool = False) -> None:
        self.file = file
        self.uses: dict[str, datetime] = {}
        """when keys were used that is not written down yet, by id"""
        self.engine = _reader(file) if immutable else _engine(file, cached=cached)
        if not immutable:
            _migrate(self.engine)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits when the block succeeds, and otherwise rolls back."""
        with self._session() as session:
            yield session
            session.commit()

    def _session(self) -> Session:
        return Session(self.engine, expire_on_commit=False, info={USES: self.uses})

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A read-only session: everything read is from one moment, whatever others change. It
        refuses changes."""
        with self._session() as session:
            connection = session.connection()
            connection.exec_driver_sql("PRAGMA query_only = ON")
            try:
                connection.exec_driver_sql("BEGIN")
                yield session
            finally:
                connection.exec_driver_sql("PRAGMA query_only = OFF")

    @contextmanager
    def changing(self) -> Iterator[Session]:
        """A session for changes that depend on what they read: nobody else can write between its
        first line and its last, so keep it short."""
        with self.session() as session:
            session.connection().exec_driver_sql("BEGIN IMMEDIATE")
            yield session

    def close(self) -> None:
        self.engine.dispose()


def _engine(file: Path, *, cached: bool) -> Engine:
    # Before each commit FULL waits for the disk, NORMAL does not (sqlite.org/pragma.html).
    synchronous = "NORMAL" if cached else "FULL"
    engine = create_engine(f"sqlite:///{file}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        for setting in ("journal_mode=WAL", "foreign_keys=ON", f"synchronous={synchronous}"):
            cursor.execute(f"PRAGMA {setting}")
        cursor.close()

    return engine


def _reader(file: Path) -> Engine:
    return create_engine(f"sqlite:///file:{quote(str(file))}?immutable=1&uri=true")


def is_current(file: Path) -> bool:
    """Whether a database that exists can be read without a change of its tables."""
    # Where there is a log, the last changes are in it; without one nothing need be written.
    immutable = "" if file.with_name(f"{file.name}-wal").exists() else "&immutable=1"
    try:
        name = f"file:{quote(str(file))}?mode=ro{immutable}"
        with closing(sqlite3.connect(name, uri=True)) as database:
            found = database.execute("SELECT version_num FROM alembic_version").fetchone()
    except sqlite3.Error:
        return False
    return bool(found == (STEPS[-1],))


def _step_of(engine: Engine) -> str:
    """The last step that the database has taken; empty for an empty database. FolderTrouble if this
    version does not know it."""
    with engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return ""
        found = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar()
    if found in STEPS:
        return str(found)
    if found is not None and str(found) < STEPS[0]:
        raise FolderTrouble(
            "the data was written by a version of Gefa from before 0.1.0.",
            file=DATABASE,
            advice="Start the version of 27 November 2026 with it once (commit 4a0b0b9).",
        )
    raise FolderTrouble(
        "the data was written by a newer version of Gefa.",
        file=DATABASE,
        advice="Start that version, or restore a backup from before.",
    )


def _migrate(engine: Engine) -> None:
    if _step_of(engine) == STEPS[-1]:
        return
    # Loaded only where there is something to do: it takes 0.1 s.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.connect() as connection:
        # Tables that others refer to are made anew in some steps (sqlite.org/lang_altertable.html,
        # "Making Other Kinds Of Table Schema Changes").
        connection.exec_driver_sql("PRAGMA foreign_keys=OFF")
        connection.commit()
        try:
            with connection.begin():
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        finally:
            connection.exec_driver_sql("PRAGMA foreign_keys=ON")

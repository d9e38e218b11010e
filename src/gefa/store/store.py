"""One folder that keeps everything: the database and the blobs."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, event, inspect
from sqlalchemy.exc import DatabaseError
from sqlmodel import Session, create_engine

from gefa.store.folder import (
    DATABASE,
    FolderTrouble,
    check_database,
    note_life,
    recognise,
    write_mark,
)
from gefa.store.places import blobs_for

USES = "uses"
"""key in a session's ``info`` for the ``uses`` of its store"""
MIGRATIONS = Path(__file__).parent / "migrations"
STEPS = sorted(path.name[:4] for path in (MIGRATIONS / "versions").glob("[0-9]*.py"))
"""the steps from one state of the tables to the next, by number"""


class Store:
    """Opens the data folder, migrates its database, and gives out sessions.

    FolderTrouble if the folder has pictures that its database does not know; ``begin_anew``
    continues without them.
    """

    def __init__(self, folder: Path, *, begin_anew: bool = False) -> None:
        self.folder = folder
        self.uses: dict[str, datetime] = {}
        """when keys were used that is not written down yet, by id"""
        folder.mkdir(parents=True, exist_ok=True)
        self.blobs = blobs_for(folder)
        self.database = folder / DATABASE
        check_database(folder, self.blobs, begin_anew=begin_anew)
        self.engine = _engine(self.database)
        try:
            _migrate(self.engine)
            with self.changing() as session:
                recognise(session, folder, begin_anew=begin_anew)
            self.show_life()
        except DatabaseError as error:
            raise FolderTrouble(
                f"{self.database} cannot be used: {error.orig}.",
                advice="Check who owns it and whether its disk is full; if it is damaged, bring it"
                " back with `gefa restore`.",
            ) from error

    def show_life(self) -> None:
        """Note that the folder is in use, so that an older database is not taken for this one."""
        with self.changing() as session:
            mark = note_life(session)
        write_mark(self.folder, mark)

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

    def pieces(self, resumable_id: str) -> Path:
        """The folder for files that arrive in pieces."""
        folder = self.folder / "resumable"
        folder.mkdir(exist_ok=True)
        return folder / resumable_id

    def sweep_pieces(self, seconds: float) -> None:
        """Delete pieces that nobody added to for so long: those of a slot that was removed are in
        no table any more."""
        for path in self.pieces("").iterdir():
            with suppress(FileNotFoundError):
                if path.stat().st_mtime < time.time() - seconds:
                    path.unlink()

    def close(self) -> None:
        self.engine.dispose()


def _engine(file: Path) -> Engine:
    engine = create_engine(f"sqlite:///{file}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        for setting in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=FULL"):
            cursor.execute(f"PRAGMA {setting}")
        cursor.close()

    return engine


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

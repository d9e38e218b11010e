"""One folder that keeps everything: the database and the blobs."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, event
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


def migration_config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    return config


def _refuse_newer(connection: Connection, config: Config) -> None:
    """FolderTrouble for a database with a step that this version does not know."""
    known = {step.revision for step in ScriptDirectory.from_config(config).walk_revisions()}
    here = set(MigrationContext.configure(connection).get_current_heads())
    if not here <= known:
        raise FolderTrouble(
            "the data was written by a newer version of Gefa.",
            file=DATABASE,
            advice="Start that version, or restore a backup from before.",
        )


def _migrate(engine: Engine) -> None:
    config = migration_config()
    with engine.connect() as connection:
        # Tables that others refer to are made anew in some steps (sqlite.org/lang_altertable.html,
        # "Making Other Kinds Of Table Schema Changes").
        connection.exec_driver_sql("PRAGMA foreign_keys=OFF")
        connection.commit()
        try:
            with connection.begin():
                config.attributes["connection"] = connection
                _refuse_newer(connection, config)
                command.upgrade(config, "head")
        finally:
            connection.exec_driver_sql("PRAGMA foreign_keys=ON")

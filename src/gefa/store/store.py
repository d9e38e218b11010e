"""One folder that keeps everything: the database and the blobs."""

from __future__ import annotations

import time
from contextlib import suppress
from pathlib import Path

from sqlalchemy.exc import DatabaseError

from gefa.store.database import DATABASE, Database, FolderTrouble
from gefa.store.folder import check_database, note_life, recognise, write_mark
from gefa.store.places import blobs_for


class Store(Database):
    """The data folder: its database and its blobs.

    FolderTrouble if the folder has pictures that its database does not know; ``begin_anew``
    continues without them.
    """

    def __init__(self, folder: Path, *, begin_anew: bool = False) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self.blobs = blobs_for(folder)
        self.database = folder / DATABASE
        check_database(folder, self.blobs, begin_anew=begin_anew)
        try:
            super().__init__(self.database)
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

"""Watched folders: files that appear or are saved there are brought in."""

from __future__ import annotations

from collections.abc import Sequence

from sqlmodel import Session, col, select

from gefa.store.models import Source, WatchedFolder
from gefa.store.trail import Deed, note


def watched_folders(session: Session) -> Sequence[WatchedFolder]:
    """All of them, by their paths."""
    return session.exec(select(WatchedFolder).order_by(col(WatchedFolder.path))).all()


def watch(session: Session, path: str) -> None:
    """Watch the folder at that path from now on."""
    if session.get(WatchedFolder, path) is None:
        session.add(WatchedFolder(path=path))
        note(session, Deed.FOLDER_WATCHED, path)


def stop_watching(session: Session, path: str) -> None:
    """Watch it no more; what came from it stays."""
    folder = session.get(WatchedFolder, path)
    if folder is None:
        return
    session.delete(folder)
    for source in session.exec(select(Source).where(Source.watched == path)):
        source.watched = ""
        session.add(source)
    note(session, Deed.FOLDER_WATCHED, path, "not watched any more")

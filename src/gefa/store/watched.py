"""Watched folders: files that appear or are saved there are brought in."""

from __future__ import annotations

from collections.abc import Sequence

from sqlmodel import Session, col, func, select

from gefa.store.models import Source, WatchedFolder
from gefa.store.trail import Deed, note


def watched_folders(session: Session) -> Sequence[WatchedFolder]:
    """All watched folders, by path."""
    return session.exec(select(WatchedFolder).order_by(col(WatchedFolder.path))).all()


def sources_by_folder(session: Session) -> dict[str, int]:
    """The number of sources from each watched folder, by its path."""
    by_folder = select(Source.watched, func.count()).where(
        col(Source.removed).is_(None), Source.watched != ""
    )
    return dict(session.exec(by_folder.group_by(Source.watched)).all())


def watch(session: Session, path: str) -> None:
    """Watch the folder at that path."""
    if session.get(WatchedFolder, path) is None:
        session.add(WatchedFolder(path=path))
        note(session, Deed.FOLDER_WATCHED, path)


def stop_watching(session: Session, path: str) -> None:
    """Stop watching it; its sources stay."""
    folder = session.get(WatchedFolder, path)
    if folder is None:
        return
    session.delete(folder)
    for source in session.exec(select(Source).where(Source.watched == path)):
        source.watched = ""
        session.add(source)
    note(session, Deed.FOLDER_WATCHED, path, "not watched any more")

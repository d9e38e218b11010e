"""Writes many rows at once, new ones or instead of those with the same key."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy.dialects.sqlite import insert
from sqlmodel import Session


def upsert(
    session: Session, table: type[Any], rows: Sequence[dict[str, Any]], keys: Sequence[str]
) -> None:
    """Write rows that all have the same columns; ``keys`` are those of a unique index.

    One statement for all: SQLAlchemy does not keep compiled ones with ON CONFLICT, and compiling
    takes longer than writing a hundred rows.
    """
    if not rows:
        return
    session.flush()
    statement = insert(table.__table__)
    newer = {name: statement.excluded[name] for name in rows[0] if name not in keys}
    session.connection().execute(
        statement.on_conflict_do_update(index_elements=list(keys), set_=newer), list(rows)
    )

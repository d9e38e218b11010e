"""The feed: uploads newest first, searched and filtered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import column, table
from sqlmodel import Session, col, func, select
from sqlmodel.sql.expression import SelectOfScalar

from gefa.store.feed_models import UploadCount, UploadNumber, UploadTag
from gefa.store.models import Slot, Upload, UploadState

Row = TypeVar("Row")


class FeedQuery(BaseModel):
    """Filters of the feed: ``q``, beginnings of words in name, alt text or tags; a slot; a tag; a
    state; from a day to a day, inclusive; after the upload of an id. Removed uploads only with the
    state ``removed``."""

    model_config = ConfigDict(extra="ignore")

    q: str = Field(default="", max_length=200)
    slot: str = ""
    tag: str = Field(default="", max_length=60)
    state: UploadState | Literal["", "removed", "missing-alt"] = ""
    since: date | Literal[""] = ""
    until: date | Literal[""] = ""
    after: str = Field(default="", max_length=40)

    @property
    def words(self) -> list[str]:
        """The words of ``q``. A full-text search would end at a NUL."""
        return self.q.replace("\0", " ").split()

    @property
    def filters(self) -> dict[str, str]:
        """The active filters, for links."""
        return {
            name: str(value)
            for name, value in self.model_dump(mode="json", exclude={"after"}).items()
            if value
        }


@dataclass(frozen=True)
class Page:
    """A page of the feed, the number of all matches, and the id after which the next
    page starts."""

    uploads: Sequence[Upload]
    total: int
    next: str | None


def feed(session: Session, wanted: FeedQuery, most: int, *, held: bool = True) -> Page:
    """The first ``most`` uploads that match; without those that are ``held``, only what everybody
    may see."""
    chosen = _chosen(select(Upload), wanted)
    counted = _chosen(select(func.count()).select_from(Upload), wanted)
    if not held:
        chosen, counted = _served(chosen, wanted), _served(counted, wanted)
    total = session.exec(counted).one()
    if wanted.after:
        chosen = chosen.where(Upload.id < wanted.after)
    found = session.exec(chosen.order_by(col(Upload.id).desc()).limit(most + 1)).all()
    rest = found[:most]
    return Page(rest, total, rest[-1].id if len(found) > most else None)


def _chosen(query: SelectOfScalar[Row], wanted: FeedQuery) -> SelectOfScalar[Row]:
    removed = col(Upload.removed)
    query = query.where(removed.is_not(None) if wanted.state == "removed" else removed.is_(None))
    if isinstance(wanted.state, UploadState):
        query = query.where(Upload.state == wanted.state)
    elif wanted.state == "missing-alt":
        query = query.where(Upload.alt == "", col(Upload.decorative).is_(False))
    if wanted.slot:
        named = select(Slot.id).where(Slot.name == wanted.slot).scalar_subquery()
        query = query.where(Upload.slot_id == named)
    if wanted.tag:
        tagged = select(UploadTag.upload_id).where(UploadTag.tag == wanted.tag)
        query = query.where(col(Upload.id).in_(tagged))
    if wanted.words:
        query = query.where(col(Upload.id).in_(_mentioning(wanted.words)))
    return _within(query, wanted)


def _served(query: SelectOfScalar[Row], wanted: FeedQuery) -> SelectOfScalar[Row]:
    """Only uploads that are served."""
    replaced = func.json_type(Upload.earlier, "$.name").is_not(None)
    live = col(Upload.state) == UploadState.LIVE
    # The name of a file that waits to replace another is not searched: who may not see it would
    # learn what is in it.
    return query.where(
        col(Upload.removed).is_(None),
        live & ~replaced if wanted.words else live | replaced,
    )


def _mentioning(asked: list[str]) -> Any:
    """The ids of uploads with a word in name, alt text or tags that begins with each word that is
    ``asked`` for, whatever its case and accents."""
    # FTS5 takes a string in quotes as it is; within, a quote is doubled (sqlite.org/fts5.html).
    quoted = " ".join('"{}"*'.format(word.replace('"', '""')) for word in asked)
    words = table("upload_words", column("rowid"), column("upload_words"))
    return (
        select(UploadNumber.upload_id)
        .join(words, words.c.rowid == UploadNumber.number)
        .where(words.c.upload_words.op("MATCH")(quoted))
    )


def _within(query: SelectOfScalar[Row], wanted: FeedQuery) -> SelectOfScalar[Row]:
    if wanted.since:
        query = query.where(Upload.created >= datetime.combine(wanted.since, time()))
    if wanted.until and wanted.until < date.max:
        after = datetime.combine(wanted.until, time()) + timedelta(days=1)
        query = query.where(Upload.created < after)
    return query


def all_tags(session: Session, *, held: bool = True) -> list[str]:
    """All tags of uploads; on request without those of ``held`` uploads."""
    tags = session.exec(select(UploadTag.tag).distinct())
    return sorted(tag for tag in tags if held or _is_live(session, tag))


def _is_live(session: Session, tag: str) -> bool:
    """Whether any upload with the tag is live: for most tags one of the first is."""
    found = (
        select(Upload.id)
        .join(UploadTag, col(UploadTag.upload_id) == Upload.id)
        .where(UploadTag.tag == tag, Upload.state == UploadState.LIVE)
    )
    return session.exec(found.limit(1)).first() is not None


def counts(session: Session) -> dict[tuple[str, UploadState], int]:
    """The number of uploads by slot id and state."""
    found = session.exec(select(UploadCount).where(UploadCount.number > 0))
    return {(one.slot_id, one.state): one.number for one in found}


def latest_live(session: Session, slot_id: str, most: int) -> Sequence[Upload]:
    """The newest live uploads of a slot that have a preview."""
    return session.exec(
        select(Upload)
        .where(
            Upload.slot_id == slot_id,
            Upload.state == UploadState.LIVE,
            col(Upload.removed).is_(None),
            Upload.preview != "",
        )
        .order_by(col(Upload.id).desc())
        .limit(most)
    ).all()


def uploads_of(session: Session, slot: Slot) -> tuple[int, int]:
    """The number of uploads in a slot, and of removed ones that can be restored."""
    gone = col(Upload.removed).is_not(None)
    of_slot = select(func.count(), func.count().filter(gone)).where(Upload.slot_id == slot.id)
    count, removed = session.exec(of_slot).one()
    return count - removed, removed

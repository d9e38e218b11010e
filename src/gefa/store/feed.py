"""The feed: uploads newest first, searched and filtered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import exists, join, true
from sqlalchemy import select as sql_select
from sqlmodel import Session, col, func, or_, select
from sqlmodel.sql.expression import SelectOfScalar

from gefa.store.models import Slot, Upload, UploadState

Row = TypeVar("Row")


class FeedQuery(BaseModel):
    """Filters of the feed: ``q`` in name, alt text or tags; a slot; a tag; a state; from a day to a
    day, inclusive; after the upload of an id. Removed uploads only with the state ``removed``."""

    model_config = ConfigDict(extra="ignore")

    q: str = Field(default="", max_length=200)
    slot: str = ""
    tag: str = Field(default="", max_length=60)
    state: UploadState | Literal["", "removed", "missing-alt"] = ""
    since: date | Literal[""] = ""
    until: date | Literal[""] = ""
    after: str = Field(default="", max_length=40)

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
        named = select(Slot.id).where(Slot.name == wanted.slot)
        query = query.where(col(Upload.slot_id).in_(named))
    if wanted.tag:
        query = query.where(_tagged(lambda tag: tag == wanted.tag))
    if wanted.q.strip():
        query = query.where(_mentions(wanted.q.strip()))
    return _within(query, wanted)


def _served(query: SelectOfScalar[Row], wanted: FeedQuery) -> SelectOfScalar[Row]:
    """Only uploads that are served."""
    replaced = func.json_type(Upload.earlier, "$.name").is_not(None)
    live = col(Upload.state) == UploadState.LIVE
    # The name of a file that waits to replace another is not searched: who may not see it would
    # learn what is in it.
    return query.where(
        col(Upload.removed).is_(None),
        live & ~replaced if wanted.q.strip() else live | replaced,
    )


def _tagged(matches: Callable[[Any], Any]) -> Any:
    """Whether any tag of an upload matches."""
    tag = func.json_each(Upload.tags).table_valued("value", name="tag")
    return exists(sql_select(tag.c.value).where(matches(tag.c.value)))


def _mentions(words: str) -> Any:
    return or_(
        col(Upload.name).icontains(words, autoescape=True),
        col(Upload.alt).icontains(words, autoescape=True),
        _tagged(lambda tag: tag.icontains(words, autoescape=True)),
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
    tag = func.json_each(Upload.tags).table_valued("value", name="tag")
    query = sql_select(tag.c.value).select_from(join(Upload, tag, true())).distinct()
    if not held:
        query = query.where(col(Upload.state) == UploadState.LIVE)
    found = session.execute(query)
    return sorted(str(row[0]) for row in found)


def counts(session: Session) -> dict[tuple[str, UploadState], int]:
    """The number of uploads by slot id and state."""
    found = session.exec(
        select(Upload.slot_id, Upload.state, func.count())
        .where(col(Upload.removed).is_(None))
        .group_by(col(Upload.slot_id), col(Upload.state))
    ).all()
    return {(slot_id, UploadState(state)): number for slot_id, state, number in found}


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
        .order_by(col(Upload.created).desc())
        .limit(most)
    ).all()


def uploads_of(session: Session, slot: Slot) -> tuple[int, int]:
    """The number of uploads in a slot, and of removed ones that can be restored."""
    removed = session.exec(select(Upload.removed).where(Upload.slot_id == slot.id)).all()
    gone = sum(time is not None for time in removed)
    return len(removed) - gone, gone

"""Webhook notices, kept until the address has accepted them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import func
from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.store.models import Notification, Slot, Upload, now

RETRIES = tuple(timedelta(seconds=s) for s in (5, 30, 120, 600, 3_600, 21_600, 86_400))
"""the wait after each failed attempt"""
AT_ONCE = 20
"""notices of a slot sent before looking for others"""
SHOWN = 20
"""notices on a slot's page"""


def notify(session: Session, slot: Slot, upload: Upload, url: str, kind: str) -> None:
    """Queue a notice to ``url``, unless an equal one is waiting."""
    if not url:
        return
    waiting = session.exec(
        select(Notification).where(
            Notification.upload_id == upload.id,
            Notification.kind == kind,
            col(Notification.due).is_not(None),
        )
    ).first()
    if waiting is None:
        waiting = Notification(slot_id=slot.id, upload_id=upload.id, url=url, kind=kind)
    waiting.url, waiting.due = url, now()
    session.add(waiting)


def due_by_slot(session: Session) -> dict[str, list[str]]:
    """Ids of notices due now for each slot, longest waiting first; AT_ONCE of a slot at most."""
    place = func.row_number().over(
        partition_by=col(Notification.slot_id), order_by=col(Notification.due)
    )
    ranked = (
        sql_select(col(Notification.slot_id), col(Notification.id), place.label("place"))
        .where(col(Notification.due) <= now())
        .subquery()
    )
    found: dict[str, list[str]] = {}
    for slot_id, id in session.execute(
        sql_select(ranked.c.slot_id, ranked.c.id)
        .where(ranked.c.place <= AT_ONCE)
        .order_by(ranked.c.place)
    ):
        found.setdefault(slot_id, []).append(id)
    return found


def tried(session: Session, notice: Notification, problem: str) -> None:
    """Record an attempt; ``problem`` is empty if it succeeded."""
    notice.tries += 1
    notice.problem = problem[:400]
    if not problem:
        notice.due, notice.told = None, now()
    elif notice.tries > len(RETRIES):
        notice.due = None
    else:
        notice.due = now() + RETRIES[notice.tries - 1]
    session.add(notice)


def tell_again(session: Session, notice: Notification) -> None:
    notice.due, notice.tries, notice.told = now(), 0, None
    session.add(notice)


def notices_of(session: Session, slot: Slot) -> Sequence[Notification]:
    """A slot's latest notices, newest first."""
    return session.exec(
        select(Notification)
        .where(Notification.slot_id == slot.id)
        .order_by(col(Notification.created).desc())
        .limit(SHOWN)
    ).all()

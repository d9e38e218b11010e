"""Webhook notices, kept until the address has accepted them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

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


def due(session: Session) -> Sequence[Notification]:
    """Notices due now, longest waiting first."""
    return session.exec(
        select(Notification).where(col(Notification.due) <= now()).order_by(col(Notification.due))
    ).all()


def due_by_slot(session: Session) -> dict[str, list[str]]:
    """Ids of notices due now for each slot, longest waiting first."""
    found: dict[str, list[str]] = {}
    for notice in due(session):
        notices = found.setdefault(notice.slot_id, [])
        if len(notices) < AT_ONCE:
            notices.append(notice.id)
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

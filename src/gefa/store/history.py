"""The history of plans, recipes and settings: their earlier contents, for undo.

A ``subject`` names a thing. Its steps are numbered from 1; 0 is the empty content before them.
Undoing goes back a step, redoing forward; a new change forgets what was undone.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.store.actor import actor
from gefa.store.models import History, Step

MAX_STEPS = 200
"""changes of one subject that can be undone"""


class Ways(NamedTuple):
    """The changes that can be undone and redone, in words; empty if there are none."""

    undo: str
    redo: str


def change(
    session: Session, subject: str, content: dict[str, Any], said: str, batch: str = ""
) -> None:
    """Add a content as the next step; ``said`` describes the change. Steps of several subjects that
    are one change share a ``batch``."""
    history = session.get(History, subject) or History(subject=subject)
    session.execute(
        delete(Step).where(
            col(Step.subject) == subject,
            (col(Step.number) > history.number) | (col(Step.number) < history.number - MAX_STEPS),
        )
    )
    history.number += 1
    session.add(history)
    session.add(
        Step(
            subject=subject,
            number=history.number,
            content=content,
            said=said,
            who=actor().name,
            batch=batch,
        )
    )
    session.flush()


def begin(session: Session, subject: str, content: dict[str, Any]) -> None:
    """Set the first content, which cannot be undone."""
    forget(session, subject)
    # There is no step 1 that it could go back to.
    session.add(History(subject=subject, number=2))
    session.add(Step(subject=subject, number=2, content=content))
    session.flush()


def current(session: Session, subject: str) -> Step | None:
    """The current step; None before any change."""
    history = session.get(History, subject)
    return _step(session, subject, history.number) if history else None


def step_with(session: Session, subject: str, id: str) -> Step | None:
    """A step by its id; None if it is gone. Numbers are reused after an undo, ids are not."""
    step = session.get(Step, id)
    return step if step is not None and step.subject == subject else None


def undo(session: Session, subject: str) -> str:
    """Undo a step; returns its description, empty if there was none."""
    now = current(session, subject)
    if now is None or not _can_go_back(session, now):
        return ""
    _go(session, subject, now.number - 1)
    return now.said


def redo(session: Session, subject: str) -> str:
    """Redo an undone step; returns its description, empty if there was none."""
    after = following(session, subject)
    if after is None:
        return ""
    _go(session, subject, after.number)
    return after.said


def beside(session: Session, step: Step) -> list[str]:
    """The other subjects that were changed together with a step, and not again since."""
    if not step.batch:
        return []
    found = session.exec(
        select(Step.subject)
        .join(
            History,
            (col(History.subject) == col(Step.subject)) & (col(History.number) == col(Step.number)),
        )
        .where(Step.batch == step.batch, Step.subject != step.subject)
    )
    return sorted(found)


def undone_beside(session: Session, step: Step) -> list[str]:
    """The other subjects whose next step to redo belongs to the same batch."""
    if not step.batch:
        return []
    found = session.exec(
        select(Step.subject)
        .join(
            History,
            (col(History.subject) == col(Step.subject))
            & (col(History.number) == col(Step.number) - 1),
        )
        .where(Step.batch == step.batch, Step.subject != step.subject)
    )
    return sorted(found)


def ways(session: Session, subject: str) -> Ways:
    now, after = current(session, subject), following(session, subject)
    back = _by(now) if now is not None and _can_go_back(session, now) else ""
    return Ways(back, _by(after) if after else "")


def _by(step: Step) -> str:
    """The description, with who did it."""
    return f"{step.said} ({step.who})" if step.who else step.said


def forget(session: Session, subject: str) -> None:
    """Delete all steps of a subject that is gone."""
    session.execute(delete(Step).where(col(Step.subject) == subject))
    session.execute(delete(History).where(col(History.subject) == subject))


def _go(session: Session, subject: str, number: int) -> None:
    history = session.get_one(History, subject)
    history.number = number
    session.add(history)
    session.flush()


def following(session: Session, subject: str) -> Step | None:
    """The step undone last."""
    history = session.get(History, subject)
    return _step(session, subject, history.number + 1) if history else None


def _can_go_back(session: Session, step: Step) -> bool:
    return step.number == 1 or _step(session, step.subject, step.number - 1) is not None


def _step(session: Session, subject: str, number: int) -> Step | None:
    return session.exec(select(Step).where(Step.subject == subject, Step.number == number)).first()

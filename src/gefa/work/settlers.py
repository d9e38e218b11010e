"""For each kind of task, the function that processes its outcome."""

from __future__ import annotations

from collections.abc import Callable

from sqlmodel import Session

from gefa.store.models import Task
from gefa.store.task_kinds import TaskKind
from gefa.work.queue import Outcome
from gefa.work.settle import (
    keep_report,
    settle_cut,
    settle_estimate,
    settle_made,
    settle_originals,
    settle_preview,
    settle_reading,
    settle_trial,
)
from gefa.work.settle_upload import settle_upload

Settle = Callable[[Session, Task, Outcome], None]


SETTLERS: dict[TaskKind, Settle] = {
    TaskKind.READ: settle_reading,
    TaskKind.SHOW: settle_preview,
    TaskKind.TAKE: settle_originals,
    TaskKind.PDF: keep_report,
    TaskKind.CUT: settle_cut,
    TaskKind.UPLOAD: settle_upload,
    TaskKind.TRIAL: keep_report,
    TaskKind.TRY: settle_trial,
    TaskKind.PROOF: keep_report,
    TaskKind.CURVE: settle_made,
    TaskKind.ESTIMATE: settle_estimate,
    TaskKind.SCORE: settle_made,
}


def settle(session: Session, task: Task, outcome: Outcome) -> None:
    """Process an outcome. The caller commits."""
    SETTLERS[task.kind](session, task, outcome)

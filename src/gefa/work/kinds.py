"""Every kind of task: the function that does it, and the one that settles it.

A new kind needs a contract in ``gefa.store.contracts`` and a row here. The function that works is
named and not imported: the server, which settles, has nothing to do with pixels.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pkgutil import resolve_name

from pydantic import BaseModel
from sqlmodel import Session

from gefa.store.models import Task, TaskKind
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


@dataclass(frozen=True)
class Kind:
    """``run`` names a function ``(desk, body) -> report`` as ``module:function``; ``settle``
    processes an outcome, in the caller's transaction."""

    run: str
    settle: Settle


KINDS: dict[TaskKind, Kind] = {
    TaskKind.READ: Kind("gefa.work.tasks:read_source", settle_reading),
    TaskKind.SHOW: Kind("gefa.work.tasks:show_source", settle_preview),
    TaskKind.TAKE: Kind("gefa.work.tasks:take_originals", settle_originals),
    TaskKind.PDF: Kind("gefa.work.tasks:write_pdf", keep_report),
    TaskKind.CUT: Kind("gefa.work.tasks:make_cut", settle_cut),
    TaskKind.UPLOAD: Kind("gefa.work.tasks:treat_upload", settle_upload),
    TaskKind.TRIAL: Kind("gefa.work.tasks:treat_upload", keep_report),
    TaskKind.TRY: Kind("gefa.work.tasks:try_recipe", settle_trial),
    TaskKind.PROOF: Kind("gefa.work.tasks:draw_proof", keep_report),
    TaskKind.CURVE: Kind("gefa.work.tasks:draw_curve", settle_made),
    TaskKind.ESTIMATE: Kind("gefa.work.tasks:estimate_cuts", settle_estimate),
    TaskKind.SCORE: Kind("gefa.work.tasks:score_variant", settle_made),
}


def kind_named(name: str) -> TaskKind | None:
    """The kind of that name; None if this version does not know it."""
    return TaskKind(name) if name in set(TaskKind) else None


def function_for(kind: TaskKind) -> Callable[..., BaseModel]:
    """The function for a kind; it takes a desk and a body."""
    function: Callable[..., BaseModel] = resolve_name(KINDS[kind].run)
    return function


def settle(session: Session, task: Task, outcome: Outcome) -> None:
    """Process an outcome. The caller commits."""
    KINDS[task.kind].settle(session, task, outcome)

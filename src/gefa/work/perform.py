"""Does a task in an encoding process: plain values in, plain values out."""

from __future__ import annotations

import resource
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyvips
from pydantic import BaseModel

from gefa.core.errors import GefaError, SourceError
from gefa.core.units import weight
from gefa.store.contracts import CONTRACTS
from gefa.store.task_kinds import TaskKind
from gefa.work import tasks
from gefa.work.allowance import OTHER_SECONDS, computing

FUNCTIONS: dict[TaskKind, Callable[..., BaseModel]] = {
    TaskKind.READ: tasks.read_source,
    TaskKind.SHOW: tasks.show_source,
    TaskKind.TAKE: tasks.take_originals,
    TaskKind.PDF: tasks.write_pdf,
    TaskKind.CUT: tasks.make_cut,
    TaskKind.UPLOAD: tasks.treat_upload,
    TaskKind.TRIAL: tasks.treat_upload,
    TaskKind.TRY: tasks.try_recipe,
    TaskKind.PROOF: tasks.draw_proof,
    TaskKind.CURVE: tasks.draw_curve,
    TaskKind.ESTIMATE: tasks.estimate_cuts,
    TaskKind.SCORE: tasks.score_variant,
}
"""each takes a desk and the body of its contract, and gives the report"""


def perform(
    folder: Path, task: str, kind: str, body: dict[str, Any], threads: int
) -> dict[str, Any]:
    """The report of a task; GefaError if it fails, or if its kind is unknown here."""
    if kind not in set(TaskKind):
        raise GefaError(
            f"this worker does not know tasks of the kind {kind!r}.",
            advice="Use the same version for server and workers.",
        )
    known = TaskKind(kind)
    asked = CONTRACTS[known].body.model_validate(body)
    try:
        with computing(OTHER_SECONDS):
            done = FUNCTIONS[known](tasks.Desk(folder, task, threads), asked)
    except MemoryError:
        raise _too_large(asked) from None
    except pyvips.Error as error:
        if "out of memory" in str(error):
            raise _too_large(asked) from error
        raise
    return done.model_dump(mode="json")


def _too_large(body: BaseModel) -> SourceError:
    most = resource.getrlimit(resource.RLIMIT_DATA)[0]
    return SourceError(
        f"needs more than the {weight(most)} of memory that one picture may use.",
        file=str(getattr(body, "name", "")),
        advice="Save a smaller copy, or start the server with fewer --workers.",
    )

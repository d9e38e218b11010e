"""Doing a task in a process for pixels, from plain values to plain values."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from gefa.core.errors import GefaError
from gefa.store.contracts import CONTRACTS
from gefa.work.kinds import function_for, kind_named
from gefa.work.tasks import Desk


def perform(
    folder: Path, task: str, kind: str, body: dict[str, Any], threads: int
) -> dict[str, Any]:
    """The report of a task; GefaError if it cannot be done, or is of no kind known here."""
    known = kind_named(kind)
    if known is None:
        raise GefaError(
            f"this worker does not know how to do {kind!r}.",
            advice="Let workers and server be of the same version.",
        )
    asked = CONTRACTS[known].body.model_validate(body)
    return function_for(known)(Desk(folder, task, threads), asked).model_dump(mode="json")

"""Does a task in an encoding process: plain values in, plain values out."""

from __future__ import annotations

import resource
from pathlib import Path
from typing import Any

import pyvips
from pydantic import BaseModel

from gefa.core.errors import GefaError, SourceError
from gefa.core.units import weight
from gefa.store.contracts import CONTRACTS
from gefa.work.allowance import OTHER_SECONDS, computing
from gefa.work.kinds import function_for, kind_named
from gefa.work.tasks import Desk


def perform(
    folder: Path, task: str, kind: str, body: dict[str, Any], threads: int
) -> dict[str, Any]:
    """The report of a task; GefaError if it fails, or if its kind is unknown here."""
    known = kind_named(kind)
    if known is None:
        raise GefaError(
            f"this worker does not know tasks of the kind {kind!r}.",
            advice="Use the same version for server and workers.",
        )
    asked = CONTRACTS[known].body.model_validate(body)
    try:
        with computing(OTHER_SECONDS):
            done = function_for(known)(Desk(folder, task, threads), asked)
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

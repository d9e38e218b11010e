"""What all tables of a plan have in common."""

from __future__ import annotations

from pathlib import PurePosixPath
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field


def _inside(path: str) -> str:
    """A path below the plan's folder, with ``/`` between folders."""
    plain = PurePosixPath(path.replace("\\", "/"))
    if plain.is_absolute() or ".." in plain.parts or ":" in path or not path.isprintable():
        raise ValueError(f"{path!r} is not a path below the folder of the plan")
    return "" if str(plain) == "." else str(plain)


SourcePath = Annotated[str, Field(min_length=1, max_length=1000), AfterValidator(_inside)]
Folder = Annotated[str, Field(max_length=400), AfterValidator(_inside)]


class PlanModel(BaseModel):
    """A frozen model that refuses unknown keys."""

    model_config = ConfigDict(frozen=True, extra="forbid")

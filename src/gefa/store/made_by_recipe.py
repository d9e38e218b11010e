"""What each recipe made in the newest run that used it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlmodel import Session, col, func, select

from gefa.store.models import Run, Task, TaskState, Variant
from gefa.store.task_kinds import TaskKind

RUNS_SEEN = 5
"""runs to search, newest first"""
EXAMPLES = 4
SMALLEST = 100
"""px: an example is at least this wide, if one of its files is"""


@dataclass(frozen=True)
class Example:
    """An example file of a cut: ``path`` is within its run; sizes in px."""

    cut: str
    path: str
    width: int
    height: int


@dataclass
class MadeByRecipe:
    """The cuts, files and bytes of one run by one recipe, with the smallest files of a few cuts."""

    run_id: str
    cuts: int
    files: int
    bytes: int
    examples: list[Example] = field(default_factory=list)


def made_by_recipe(session: Session) -> dict[str, MadeByRecipe]:
    """By recipe name; without recipes that no recent run used."""
    runs = session.exec(select(Run.id).order_by(col(Run.created).desc()).limit(RUNS_SEEN)).all()
    found: dict[str, MadeByRecipe] = {}
    for run in runs:
        for name, jobs in _jobs_by_recipe(session, run).items():
            if name not in found:
                weights = [bytes for job in jobs for bytes in job.files]
                found[name] = MadeByRecipe(run, len(jobs), len(weights), sum(weights))
                shown = [job.id for job in jobs if job.files][:EXAMPLES]
                found[name].examples = _examples(session, shown)
    return found


@dataclass(frozen=True)
class _Job:
    id: str
    files: list[int]


def _jobs_by_recipe(session: Session, run: str) -> dict[str, list[_Job]]:
    """The cuts of a run, with the bytes of their files."""
    weights: dict[str, list[int]] = {}
    for job, bytes in session.exec(
        select(Variant.job_id, Variant.bytes).where(Variant.run_id == run)
    ):
        weights.setdefault(job, []).append(bytes)
    found: dict[str, list[_Job]] = {}
    recipe = func.json_extract(Task.report, "$.record.recipe")
    for job, name in session.exec(
        select(Task.id, recipe)
        .where(Task.run_id == run, Task.kind == TaskKind.CUT, Task.state == TaskState.DONE)
        .order_by(col(Task.position))
    ):
        found.setdefault(name, []).append(_Job(job, weights.get(job, [])))
    return found


def _examples(session: Session, jobs: Sequence[str]) -> list[Example]:
    files = session.exec(
        select(Variant).where(col(Variant.job_id).in_(jobs)).order_by(col(Variant.width))
    ).all()
    by_cut: dict[str, list[Variant]] = {}
    for file in files:
        by_cut.setdefault(file.cut, []).append(file)
    shown = (
        min(own, key=lambda file: (file.width < SMALLEST, file.width, file.bytes))
        for own in by_cut.values()
    )
    return [Example(file.cut, file.path, file.width, file.height) for file in shown]

"""The newest files of cuts that pages show, by the cuts' names."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

from sqlmodel import Session, col, func, select

from gefa.core.deliver.manifest import Manifest
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.store.models import Run, Source, Task, TaskState, Variant
from gefa.store.sources import present
from gefa.store.task_kinds import TaskKind

AT_ONCE = 500
"""names in one query; SQLite allows at most 32,766 values"""


@dataclass
class ShownCuts:
    """The files of cuts and the runs that made them, by cut name; ``sources`` are the ids of their
    sources."""

    manifest: Manifest = field(default_factory=lambda: Manifest(sources=[]))
    runs: dict[str, str] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)

    def take(self, task: Task) -> None:
        report = JobReport.model_validate(task.report)
        self.manifest.cuts.append(report.record)
        self.manifest.files += report.files
        self.runs[task.name] = task.run_id or ""
        self.sources[task.name] = task.source_id or ""


def wanted_names(plan: Plan) -> set[str]:
    """Names of cuts that the pages of a plan may show."""
    names = {use.cut for picture in plan.pictures for use in picture.use}
    return names | {one.picture for page in plan.pages for one in page.pictures}


def cuts_mark(session: Session) -> str:
    """A value that changes whenever a cut or source appears, is made again or vanishes; cheap."""
    made = session.exec(
        select(func.count(), func.max(col(Task.created))).where(
            Task.kind == TaskKind.CUT, Task.state == TaskState.DONE
        )
    ).one()
    there = session.exec(
        select(func.count(), func.max(col(Source.created))).where(col(Source.removed).is_(None))
    ).one()
    # A cut that is tried again keeps its task, but has new files.
    newest = session.exec(select(func.max(col(Variant.id)))).one()
    return f"{made} {there} {newest}"


def shown_cuts(
    session: Session, names: Collection[str], *, run: Run | None = None, before: bool = False
) -> ShownCuts:
    """The newest files of the cuts with these names; with a ``run``, as they were after or
    ``before`` it."""
    here = {source.id for source in present(session)}
    found = ShownCuts()
    ordered = sorted(names)
    batches = (ordered[at : at + AT_ONCE] for at in range(0, len(ordered), AT_ONCE))
    for task in (task for batch in batches for task in _tasks(session, batch)):
        if task.name in found.runs or task.source_id not in here:
            continue
        if run is None or task.created < run.created or (task.run_id == run.id and not before):
            found.take(task)
    return found


def _tasks(session: Session, names: Collection[str]) -> Iterable[Task]:
    """The tasks of runs, newest first."""
    return session.exec(
        select(Task)
        .where(
            Task.kind == TaskKind.CUT,
            Task.state == TaskState.DONE,
            col(Task.run_id).is_not(None),
            col(Task.name).in_(names),
        )
        .order_by(col(Task.created).desc(), col(Task.position).desc())
    )

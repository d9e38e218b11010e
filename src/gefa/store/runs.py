"""Runs: start, stop, retry, and describe them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from sqlalchemy import func
from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import Manifest, Totals
from gefa.core.make.job import CutJob
from gefa.core.make.prepare import Prepared
from gefa.core.plan.plan import Plan
from gefa.store.actor import actor
from gefa.store.contracts import CutBody, PdfBody, PdfSource, SourceBody, TakeBody
from gefa.store.models import Run, RunSource, Source, Task, TaskState, Variant, now
from gefa.store.on_demand_jobs import requeue
from gefa.store.run_choice import Chosen, PlannedRun
from gefa.store.run_manifest import divided_by_source, jobs_of, manifest_of, sources_of
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue
from gefa.store.trail import Deed, note
from gefa.store.waiting_runs import is_waiting


def start_run(
    session: Session,
    planned: PlannedRun,
    refused: Sequence[Remark] = (),
    *,
    whole: bool = True,
    run: Run | None = None,
) -> Run:
    """Queue a job for every cut of a planned run: of a new one, or of a ``run`` that waited. A run
    without cuts finishes at once. ``refused`` sources are reported as failed; a run is not
    ``whole`` if it makes something other than the plan says."""
    said: dict[str, list[Remark]] = {"left_out": [], "failed": [*refused], "warnings": []}
    for prepared in planned.prepared:
        said["left_out"] += prepared.left_out
        said["failed"] += prepared.failed
        said["warnings"] += prepared.warnings
        if prepared.gaps:
            said["warnings"].append(Remark(cut="slices", reason=prepared.gaps))
    run = run or Run(who=actor().name)
    run.plan = Plan(recipes=planned.recipes).model_dump(mode="json")
    run.said = {key: [r.model_dump() for r in remarks] for key, remarks in said.items()}
    session.add(run)
    session.flush()
    position = 0
    for one, prepared, basis in zip(planned.chosen, planned.prepared, planned.bases, strict=True):
        own = {n: r for n, r in one.plan.recipes.items() if planned.recipes.get(n) != r}
        plan = one.plan.model_copy(update={"recipes": own})
        session.add(
            RunSource(
                run_id=run.id,
                source_id=one.source.id,
                revision_id=one.revision.id,
                name=one.source.name,
                plan=plan.model_dump(mode="json", exclude_defaults=True),
                basis=basis.digest if whole else "",
                recipes=dict(basis.recipes) if whole else {},
            )
        )
        position = _queue(session, run, one, prepared, position)
    cuts = sum(len(prepared.jobs) for prepared in planned.prepared)
    note(session, Deed.RUN_STARTED, _called(planned.chosen), f"{cuts} cuts")
    session.flush()
    if not position:
        finish(session, run)
    return run


def _called(chosen: Sequence[Chosen]) -> str:
    return chosen[0].source.name if len(chosen) == 1 else f"{len(chosen)} sources"


def _queue(session: Session, run: Run, one: Chosen, prepared: Prepared, position: int) -> int:
    """Queue the jobs of one source; returns the next position."""
    told = SourceBody(blob=one.revision.blob, name=one.source.name)
    for job in prepared.jobs:
        enqueue(
            session,
            CutBody(**told.model_dump(), job=job),
            run_id=run.id,
            source_id=one.source.id,
            position=position,
            created=run.created,
            name=job.cut.name,
            planned=len(job.expected),
            cost=job.cost,
        )
        position += 1
    if prepared.originals:
        enqueue(
            session,
            TakeBody(**told.model_dump(), jobs=prepared.originals),
            run_id=run.id,
            source_id=one.source.id,
            position=position,
            created=run.created,
            name=f"originals of {one.source.name}",
            planned=len(prepared.originals),
            cost=len(prepared.originals) / 10,
        )
        position += 1
    return position


def runs_with(session: Session, source: Source) -> Sequence[Run]:
    """All runs that include a source."""
    return session.exec(
        select(Run)
        .join(RunSource, col(RunSource.run_id) == col(Run.id))
        .where(RunSource.source_id == source.id)
    ).all()


def subtract_totals(session: Session, run: Run, part: Totals) -> None:
    """Take the sums of what was deleted from a run's; it finishes if nothing is left to do."""
    still_open = select(Task.id).where(Task.run_id == run.id, Task.state == TaskState.QUEUED)
    if run.finished is None and not session.exec(still_open).first() and not is_waiting(run):
        finish(session, run)
    elif run.finished is not None:
        before, gone = Totals(**run.totals).model_dump(), part.model_dump()
        run.totals = {name: before[name] - gone[name] for name in before}
        session.add(run)


def stop_run(session: Session, run: Run) -> int:
    """Stop a run; finished files stay. Returns how many cuts are not made. What is left out now is
    not made either when the rest is tried again, so its sources do not count as up to date."""
    if run.finished is not None:
        return 0
    for _, own in sources_of(session, run):
        own.basis = ""
        session.add(own)
    waiting = [job for job in jobs_of(session, run.id) if job.state is TaskState.QUEUED]
    for job in waiting:
        session.delete(job)
    run.stopped = now()
    left = [Remark(cut=job.name, reason="the run was stopped").model_dump() for job in waiting]
    run.said = {**run.said, "left_out": [*run.said.get("left_out", []), *left]}
    session.flush()
    finish(session, run)
    note(session, Deed.RUN_STOPPED, name_of(session, run), f"{len(waiting)} jobs")
    return len(waiting)


def name_of(session: Session, run: Run) -> str:
    """A run's name for people: its source, or the number of sources."""
    names = [own.name for _, own in sources_of(session, run)]
    return names[0] if len(names) == 1 else f"{len(names):,} sources"


def ask_for_pdf(session: Session, run: Run) -> Task:
    """The job that writes a PDF with a page for each cut of the run; queued the first time."""
    known = pdf_task(session, run)
    if known is not None and known.state is not TaskState.FAILED:
        return known
    bodies = [
        CutBody.model_validate(task.task)
        for task in jobs_of(session, run.id)
        if task.kind is TaskKind.CUT
    ]
    by_source: dict[tuple[str, str], list[CutJob]] = {}
    for one in bodies:
        by_source.setdefault((one.blob, one.name), []).append(one.job)
    body = PdfBody(
        name=name_of(session, run),
        sources=[
            PdfSource(blob=blob, name=name, jobs=jobs) for (blob, name), jobs in by_source.items()
        ],
    )
    task = enqueue(session, body, run_id=run.id, position=-1, name="PDF")
    session.flush()
    return task


def pdf_task(session: Session, run: Run) -> Task | None:
    """The job that writes the run's PDF, if there is one."""
    return session.exec(
        select(Task)
        .where(Task.run_id == run.id, Task.kind == TaskKind.PDF)
        .order_by(col(Task.id).desc())
        .limit(1)
    ).first()


class JobOutlook(NamedTuple):
    """A job without its task and report, which are large."""

    id: str
    state: TaskState
    name: str
    planned: int
    cost: float


def outlook(session: Session, run_id: str) -> list[JobOutlook]:
    """All jobs of a run in order, cheap enough to read often."""
    columns = [col(c) for c in (Task.id, Task.state, Task.name, Task.planned, Task.cost)]
    found = session.execute(
        sql_select(*columns)
        .where(col(Task.run_id) == run_id, col(Task.kind) != TaskKind.PDF)
        .order_by(col(Task.position))
    )
    return [JobOutlook(*row) for row in found]


class RunTally(NamedTuple):
    """Counts of a run so far: its sources, all its cuts and those that are done, its files, how
    many of these were there already, and their bytes."""

    sources: int
    cuts: int
    cuts_done: int
    files: int
    reused: int
    bytes: int


def tally(session: Session, run_id: str) -> RunTally:
    """Counts of a run, cheap enough to read often."""
    sources = session.execute(
        sql_select(func.count()).where(col(RunSource.run_id) == run_id)
    ).scalar_one()
    tasks, waiting = session.execute(
        sql_select(func.count(), func.count().filter(col(Task.state) == TaskState.QUEUED)).where(
            col(Task.run_id) == run_id, col(Task.kind) != TaskKind.PDF
        )
    ).one()
    files, reused, bytes = session.execute(
        sql_select(
            func.count(),
            func.count().filter(col(Variant.reused)),
            func.coalesce(func.sum(col(Variant.bytes)), 0),
        ).where(col(Variant.run_id) == run_id)
    ).one()
    return RunTally(sources, tasks, tasks - waiting, files, reused, bytes)


def finish(session: Session, run: Run) -> None:
    """Mark a run as finished, and store its sums, also for each source."""
    run.finished = now()
    made = manifest_of(session, run)
    run.said = {**run.said, "dropped": _dropped(session, run, made)}
    run.totals = made.totals().model_dump()
    session.add(run)
    _note_sums(session, run, made)


def _note_sums(session: Session, run: Run, made: Manifest) -> None:
    by_source = divided_by_source(made)
    for _, own in sources_of(session, run):
        mine = by_source.get(own.name, Manifest(sources=[]))
        totals = mine.totals()
        own.cuts, own.files, own.bytes = totals.cuts, len(mine.files), totals.bytes
        own.served, own.baseline = totals.served, totals.baseline
        own.failed = bool(mine.failed)
        session.add(own)


def _dropped(session: Session, run: Run, now_made: Manifest) -> list[dict[str, str]]:
    """Files that earlier runs made of the same sources and this run no longer makes; empty for a
    stopped run."""
    if run.stopped is not None:
        return []
    failing = {(remark.source, remark.cut) for remark in now_made.failed}
    unread = {remark.source for remark in now_made.failed if remark.cut == remark.source}
    present = {file.path for file in now_made.files}
    sources = {s.id: own.name for s, own in sources_of(session, run) if own.name not in unread}
    return [
        Remark(cut=cut, source=name, reason=f"{path} is not made any more").model_dump()
        for name, cut, path in _made_before(session, run, sources)
        if path not in present and (name, cut) not in failing
    ]


def _made_before(
    session: Session, run: Run, sources: Mapping[str, str]
) -> Iterator[tuple[str, str, str]]:
    """Source, cut and path of each file that the last run before this one made of each source;
    ``sources`` are their present names, by id."""
    last = (
        sql_select(col(RunSource.source_id), func.max(col(RunSource.run_id)).label("run_id"))
        .join(Run, col(Run.id) == col(RunSource.run_id))
        .where(
            col(Run.finished).is_not(None),
            col(Run.stopped).is_(None),
            col(Run.id) < run.id,
        )
        .group_by(col(RunSource.source_id))
        .subquery()
    )
    made = session.execute(
        sql_select(col(Task.source_id), col(Variant.cut), col(Variant.path))
        .join(Task, col(Task.id) == col(Variant.job_id))
        .join(
            last,
            (last.c.source_id == col(Task.source_id)) & (last.c.run_id == col(Variant.run_id)),
        )
        .order_by(col(Variant.id))
    )
    for source_id, cut, path in made:
        if source_id in sources:
            yield sources[source_id], cut, path


def newest_made(session: Session, source_id: str) -> tuple[str, set[str]]:
    """The newest finished run that made files of a source, and the cuts it made."""
    run = session.exec(
        select(Run)
        .join(Variant, col(Variant.run_id) == col(Run.id))
        .join(Task, col(Task.id) == col(Variant.job_id))
        .where(Task.source_id == source_id, col(Run.finished).is_not(None))
        .order_by(col(Run.created).desc())
        .limit(1)
    ).first()
    if run is None:
        return "", set()
    cuts = session.exec(
        select(Variant.cut)
        .join(Task, col(Task.id) == col(Variant.job_id))
        .where(Variant.run_id == run.id, Task.source_id == source_id)
        .distinct()
    ).all()
    return run.id, set(cuts)


def run_again(session: Session, run: Run) -> int:
    """Queue a run's failed jobs again; returns how many."""
    failed = [job for job in jobs_of(session, run.id) if _failed(job)]
    for job in failed:
        for variant in session.exec(select(Variant).where(Variant.job_id == job.id)):
            session.delete(variant)
        requeue(session, job)
    if failed:
        run.finished = None
        session.add(run)
        run.stopped = None
        note(session, Deed.RUN_REPEATED, name_of(session, run), f"{len(failed)} jobs")
        session.flush()
    return len(failed)


def _failed(job: Task) -> bool:
    if job.kind not in (TaskKind.CUT, TaskKind.TAKE):
        return False
    return job.state is TaskState.FAILED or bool(job.report.get("failed"))


def runs_beside(session: Session, run: Run, limit: int = 30) -> Sequence[Run]:
    """Other finished runs that share a source with this one, newest first."""
    ours = select(RunSource.source_id).where(RunSource.run_id == run.id)
    theirs = select(RunSource.run_id).where(col(RunSource.source_id).in_(ours))
    return session.exec(
        select(Run)
        .where(col(Run.id).in_(theirs), Run.id != run.id, col(Run.finished).is_not(None))
        .order_by(col(Run.created).desc())
        .limit(limit)
    ).all()


def recent_runs(session: Session, limit: int = 100) -> list[tuple[Run, list[str]]]:
    """The newest runs, each with the names of its sources."""
    runs = session.exec(select(Run).order_by(col(Run.created).desc()).limit(limit)).all()
    names: dict[str, list[str]] = {run.id: [] for run in runs}
    found = session.exec(
        select(RunSource.run_id, RunSource.name)
        .where(col(RunSource.run_id).in_(names))
        .order_by(col(RunSource.name))
    )
    for run_id, name in found:
        names[run_id].append(name)
    return [(run, names[run.id]) for run in runs]

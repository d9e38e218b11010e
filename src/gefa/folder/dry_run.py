"""``--dry-run``: what an export would do."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.deliver.names import safe_folder
from gefa.core.errors import GefaError, TakenPath
from gefa.core.make.foresight import Foresight, foresee
from gefa.core.make.job import CutJob
from gefa.core.make.report import remark_about
from gefa.core.make.sampling import Foretold
from gefa.core.plan.plan import Plan
from gefa.folder.export_calls import estimate_cut
from gefa.folder.export_plan import Planned, Planner
from gefa.folder.out_memory import OutMemory
from gefa.folder.site_files import SiteFile
from gefa.work.pool import Call, Pool


class Forecast(BaseModel):
    """Numbers of files that would be made, reused and dropped. ``about`` says that they may be off:
    which formats and widths a cut has is decided by its pixels. ``expected`` is the weight of the
    result in bytes, by ``folders`` too; None where nothing was estimated."""

    made: int = 0
    reused: int = 0
    about: bool = False
    expected: int | None = None
    folders: dict[str, int] = {}
    dropped: list[str] = []
    failed: list[Remark] = []
    warnings: list[Remark] = []
    left_out: list[Remark] = []


@dataclass
class DryRunListener:
    """Notified of progress; the command line draws it."""

    read: Callable[[str], None] = lambda source: None
    planned: Callable[[int], None] = lambda cuts: None
    weighed: Callable[[str], None] = lambda cut: None


@dataclass
class Foreseen:
    """A plan, and the foreseen result of each of its jobs."""

    planned: Planned
    memory: OutMemory
    jobs: list[tuple[CutJob, Foresight]] = field(default_factory=list)

    def taken(self) -> Iterator[Remark]:
        """What an export could not write, since somebody else's file lies there."""
        for job, seen in self.jobs:
            for variant in seen.variants:
                try:
                    self.memory.own.check(variant.path)
                except TakenPath as error:
                    yield remark_about(job, error.told)


def foreseen(
    pool: Pool,
    sources: Sequence[SiteFile],
    plan: Plan,
    out: Path,
    *,
    marks: Path,
    plan_file: Path | None,
    weigh: bool = False,
    progress: DryRunListener | None = None,
) -> Foreseen:
    """Read sources that are not known, and foresee the result of the plan; with ``weigh`` also
    estimate its weight. Writes nothing to ``out``."""
    told = progress or DryRunListener()
    with (
        tempfile.TemporaryDirectory() as scratch,
        closing(OutMemory(out, writes=False)) as memory,
    ):
        planner = Planner(pool, memory, marks=marks, scratch=Path(scratch), told_read=told.read)
        planned = planner.plan(sources, plan, plan_file=plan_file)
        memory.look_up(planned.jobs)
        found = Foreseen(planned, memory, [(job, _seen(job, memory)) for job in planned.jobs])
        if weigh:
            _estimate(pool, found, marks, Path(scratch), told)
    return found


def _seen(job: CutJob, memory: OutMemory, foretold: Foretold | None = None) -> Foresight:
    made, facts = memory.known_of(job)
    if foretold is None:
        return foresee(job, facts, made)
    if foretold.report is not None:
        made = foretold.report.made | made
        facts = facts or foretold.report.facts.get(job.facts_key)
    seen = foresee(job, facts, made, foretold.estimate)
    # What was made to be measured is not there.
    known, _ = memory.known_of(job)
    here = {variant.key: known[variant.key] for variant in seen.variants if variant.key in known}
    return replace(seen, decided=False, made=here)


def _estimate(
    pool: Pool, found: Foreseen, marks: Path, scratch: Path, told: DryRunListener
) -> None:
    """Estimate all jobs from their pixels, in parallel."""
    asked: list[tuple[int, Call]] = []
    for at, (job, seen) in enumerate(found.jobs):
        if not seen.decided and job.variants:
            path = found.planned.files[job.source].path
            mark = marks / job.recipe.mark.picture if job.recipe.mark else None
            call = pool.submit(estimate_cut, path, job.source, job, scratch, mark)
            asked.append((at, call))
    told.planned(len(asked))
    for at, call in asked:
        job = found.jobs[at][0]
        told.weighed(job.cut.name)
        with suppress(GefaError):  # an export will say why
            found.jobs[at] = job, _seen(job, found.memory, pool.outcome(call))


def forecast(
    pool: Pool,
    sources: Sequence[SiteFile],
    plan: Plan,
    out: Path,
    *,
    marks: Path,
    plan_file: Path | None,
    weigh: bool = False,
    progress: DryRunListener | None = None,
) -> Forecast:
    """What an export of the sources would do; ``plan_file`` as for ``Exporter.export``. With
    ``weigh`` the files' weight is estimated from the pixels, which takes a while."""
    found = foreseen(
        pool, sources, plan, out, marks=marks, plan_file=plan_file, weigh=weigh, progress=progress
    )
    planned = found.planned
    told = Forecast(
        expected=0 if weigh else None,
        failed=[*planned.failed, *found.taken()],
        warnings=list(planned.warnings),
    )
    for prepared in planned.prepared.values():
        told.failed += prepared.failed
        told.warnings += prepared.warnings
        told.left_out += prepared.left_out
    for job, seen in found.jobs:
        told.made += len(seen.variants) - len(seen.made)
        told.reused += len(seen.made)
        told.about |= not seen.decided and len(job.variants) > 1
        if told.expected is not None:
            told.expected += seen.expected
            folder = safe_folder(job.cut.folder) or "."
            told.folders[folder] = told.folders.get(folder, 0) + seen.expected
    unread = {remark.source for remark in planned.failed}
    if planned.before is not None:
        paths = set(planned.paths)
        ours = planned.again - unread
        before = [(f.source, f.path) for f in planned.before.files]
        before += [(f.source, f.path) for f in planned.before.originals]
        told.dropped = sorted(
            path for source, path in before if source in ours and path not in paths
        )
    return told

"""Reads, expands and names what an export makes. Encodes nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property
from pathlib import Path

from gefa.core.cut.cut import Remark
from gefa.core.cut.revisions import Changes, compare
from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import GefaError
from gefa.core.files import sha256_of
from gefa.core.make.job import CutJob
from gefa.core.make.naming import wanted_paths
from gefa.core.make.own_files import Sources, previous
from gefa.core.make.prepare import Prepared, expand, give_names
from gefa.core.plan.carry_over import carried_over
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import error_of
from gefa.core.plan.unknown_names import unknown_parts, unknown_pictures
from gefa.core.read.document import CANVAS_PATH
from gefa.core.read.survey import Survey
from gefa.folder.export_calls import survey_source
from gefa.folder.out_folder import sources_gone
from gefa.folder.out_memory import OutMemory, Remembered, Stamp, asked_by
from gefa.folder.site_files import SiteFile, name_problem, stems_on_disk, unmatched
from gefa.work.pool import Call, Pool


@dataclass
class Planned:
    """What is to be made of ``files``, by their names. ``before`` is what the folder held,
    ``again`` names the sources whose files are made anew, or go since they are ``gone``;
    ``changes`` tells what is other in each than at the last export. ``never`` are the paths of
    sources, present and former: nothing is written there. ``whole`` says that these are all sources
    of the site. ``missing_parts`` are those of ``[[cuts]]`` that no source has."""

    files: dict[str, SiteFile]
    before: Manifest | None
    gone: set[str]
    never: Sources
    whole: bool
    surveys: dict[str, Survey] = field(default_factory=dict)
    prepared: dict[str, Prepared] = field(default_factory=dict)
    failed: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)
    changes: dict[str, Changes] = field(default_factory=dict)
    wanted: dict[str, list[str]] = field(default_factory=dict)
    missing_parts: set[str] = field(default_factory=set)
    today: date = field(default_factory=date.today)

    @cached_property
    def days(self) -> dict[str, date]:
        """When each source was first exported; today for a new one."""
        known = self.before.days if self.before else {}
        return {name: known.get(name, self.today) for name in self.files}

    @property
    def again(self) -> set[str]:
        return self.files.keys() | self.gone

    @property
    def paths(self) -> list[str]:
        """Paths of all files that there may be."""
        stored = [job.path for p in self.prepared.values() for job in p.originals]
        return [*stored, *(variant.path for job in self.jobs for variant in job.variants)]

    @property
    def jobs(self) -> list[CutJob]:
        return [job for prepared in self.prepared.values() for job in prepared.jobs]


@dataclass
class _Matches:
    """Rules and entries that match in at least one of the sources."""

    unmatched: dict[str, Remark] = field(default_factory=dict)
    matched: set[str] = field(default_factory=set)

    def note(self, plan: Plan, surveyed: Survey, prepared: Prepared) -> None:
        asked = {entry.part for entry in plan.cuts}
        asked |= {rule.parts for rule in plan.rules} if surveyed.layered else set()
        missing = {remark.cut: remark for remark in prepared.unmatched}
        self.matched |= asked - missing.keys()
        self.unmatched |= missing

    @property
    def told(self) -> list[Remark]:
        return [told for asked, told in self.unmatched.items() if asked not in self.matched]


def _refuse_unknown(planned: Planned, plan: Plan, plan_file: Path) -> None:
    """PlanError for parts, cuts and pictures that the plan names and the site does not have."""
    if planned.failed:
        return  # what these sources have is not known
    parts = {part.path for survey in planned.surveys.values() for part in survey.parts}
    cuts = {job.cut.name for job in planned.jobs} | {job.cut.picture for job in planned.jobs}
    for prepared in planned.prepared.values():
        cuts |= {remark.cut for remark in (*prepared.failed, *prepared.left_out)}
    wrong = [
        *unknown_parts(plan, planned.missing_parts, parts),
        *unknown_pictures(plan, cuts - {""}),
    ]
    if wrong:
        raise error_of(wrong, str(plan_file), plan_file.read_text("utf-8", "replace"))


class Planner:
    """Plans exports into the folder of ``memory``. ``marks`` is the folder that the names of marks
    start from; copies of large pictures are kept in ``scratch``. With ``force`` all sources are
    read again."""

    def __init__(
        self,
        pool: Pool,
        memory: OutMemory,
        *,
        marks: Path,
        scratch: Path,
        force: bool = False,
        told_read: Callable[[str], None] = lambda source: None,
    ) -> None:
        self._pool, self._memory, self._out, self._marks = pool, memory, memory.out, marks
        self._force, self._scratch = force, scratch
        self._told_read = told_read

    def plan(
        self,
        sources: Sequence[SiteFile],
        plan: Plan,
        *,
        follow: bool = False,
        known: Mapping[Path, Survey] | None = None,
        plan_file: Path | None = None,
    ) -> Planned:
        """See ``Exporter.export``."""
        files = {file.name: file for file in sources if not name_problem(file.name)}
        before = previous(self._out)
        gone = sources_gone(before, files) if plan_file else set()
        planned = Planned(files, before, gone, self._never(files, before), plan_file is not None)
        planned.failed += [
            Remark(cut=ascii(file.name), source=ascii(file.name), reason=problem)
            for file in sources
            if (problem := name_problem(file.name))
        ]
        if plan_file is not None:
            planned.warnings += unmatched(plan, sources)
        self._prepare(planned, plan, follow, known or {})
        planned.wanted = {
            name: wanted_paths(p.jobs, p.originals) for name, p in planned.prepared.items()
        }
        give_names(list(planned.prepared.values()), self._taken(planned))
        planned.never.refuse(self._out, planned.paths)
        if plan_file is not None:
            _refuse_unknown(planned, plan, plan_file)
        return planned

    def _never(self, files: Mapping[str, SiteFile], before: Manifest | None) -> Sources:
        former = before.sources if before else []
        return Sources([*(f.path for f in files.values()), *(self._marks / n for n in former)])

    def note(self, planned: Planned) -> None:
        """Remember the sources' wanted paths, for later exports of others."""
        self._memory.note_wanted(planned.wanted, planned.gone)

    def _prepare(
        self, planned: Planned, plan: Plan, follow: bool, known: Mapping[Path, Survey]
    ) -> None:
        own = {name: plan.for_source(name) for name in planned.files}
        whole = {name: follow or bool(own[name].cuts) for name in planned.files}
        matches, shared = _Matches(), stems_on_disk(planned.files.values(), plan)
        for name, surveyed in self._surveys(planned, own, whole, known):
            file = planned.files[name]
            followed = self._followed(file, surveyed, own[name], whole[name], planned)
            prepared = expand(
                surveyed.called(name, shared.get(name, "")),
                followed,
                marks=self._marks_of(followed),
                folder=file.folder_by(plan),
                day=planned.days[name],
            )
            matches.note(followed, surveyed, prepared)
            planned.surveys[name], planned.prepared[name] = surveyed, prepared
        self._memory.write_down()
        planned.warnings += matches.told
        planned.missing_parts = {r.part for r in matches.told} - {CANVAS_PATH}

    def _surveys(
        self,
        planned: Planned,
        own: Mapping[str, Plan],
        whole: Mapping[str, bool],
        known: Mapping[Path, Survey],
    ) -> Iterator[tuple[str, Survey]]:
        """The survey of each source: known, or read now, all in parallel."""
        found: dict[str, Survey | Call] = {}
        for name, file in planned.files.items():
            same = known.get(file.path)
            if same is None and not self._force:
                asked = asked_by(own[name], whole=whole[name])
                same = self._memory.current(name, file.path, asked)
            found[name] = same or self._pool.submit(
                survey_source, file.path, name, own[name], whole[name], self._scratch
            )
        for name, survey_or_call in found.items():
            if isinstance(survey_or_call, Survey):
                yield name, survey_or_call
                continue
            try:
                surveyed = self._pool.outcome(survey_or_call)
            except GefaError as error:
                planned.failed.append(Remark(cut=name, reason=error.told, source=name))
            else:
                yield name, surveyed
            self._told_read(name)

    def _taken(self, planned: Planned) -> list[str]:
        """Paths of other sources in the folder, made or wanted."""
        wanted, again = self._memory.wanted, planned.again
        others = [path for name in wanted if name not in again for path in wanted[name]]
        if planned.before is None:
            return others
        made = [(file.source, file.path) for file in planned.before.files]
        stored = [(file.source, file.path) for file in planned.before.originals]
        return [*others, *(path for source, path in [*made, *stored] if source not in again)]

    def _marks_of(self, plan: Plan) -> dict[str, str]:
        """The SHA-256 of existing mark pictures, by the names in recipes."""
        files = {name: self._marks / name for name in plan.marks}
        return {name: sha256_of(file) for name, file in files.items() if file.is_file()}

    def _followed(
        self, file: SiteFile, surveyed: Survey, plan: Plan, whole: bool, planned: Planned
    ) -> Plan:
        """The plan for this revision; records what changed since the last export."""
        now = Remembered(survey=surveyed, asked=asked_by(plan, whole=whole))
        last = self._memory.last(file.name)
        followed = plan
        if whole:
            before = last or now
            changes = compare(before.survey, surveyed)
            planned.changes[file.name] = changes
            paths = [entry.part for entry in plan.cuts]
            here = [before.elsewhere.get(path, path) for path in paths]
            cuts = [
                entry.model_copy(update={"part": path})
                for entry, path in zip(plan.cuts, here, strict=True)
            ]
            followed, remarks = carried_over(plan.model_copy(update={"cuts": tuple(cuts)}), changes)
            planned.warnings += remarks
            now.elsewhere = {
                path: entry.part
                for path, entry in zip(paths, followed.cuts, strict=True)
                if path != entry.part
            }
        with suppress(OSError):  # it may be gone again
            now.stamp = Stamp.of(file.path).hashed(file.path, last.stamp if last else None)
        if now != last:
            self._memory.remember(file.name, now)
        return followed

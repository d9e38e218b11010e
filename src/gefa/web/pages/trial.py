"""A recipe tried on a sample: one cut of one source, made as a run would make it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlmodel import Session

from gefa.core.cut.cut import Origin
from gefa.core.deliver.manifest import File
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.make.keys import key_of
from gefa.core.make.naming import CLASH, OWN_CLASH
from gefa.core.make.prepare import Prepared, prepare
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.plan.site_plan import joined
from gefa.core.read.document import CANVAS_PATH
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Recipe
from gefa.store.blobs import BlobStore
from gefa.store.contracts import TryBody, TryReport
from gefa.store.models import Revision, RevisionState, Source, Task, TaskState
from gefa.store.on_demand_jobs import request_task, requeue
from gefa.store.plans import (
    PlanUnreadable,
    marks_for,
    own_plan,
    prepared_for,
    shared_plan,
    whole_plan,
)
from gefa.store.sources import all_sources, latest_revision, survey_of
from gefa.store.task_kinds import TaskKind
from gefa.work.queue import WorkQueue
from gefa.work.tasks import note_latest_trial

SCREEN = 1600
"""px at which a sample is shown, at most"""
MOST_CHOICES = 60
"""samples to choose from"""


@dataclass
class Sample:
    """A part of a source to try a recipe on."""

    source_id: str
    source: str
    part: str
    revision: Revision

    @property
    def called(self) -> str:
        return self.source if self.part == CANVAS_PATH else f"{self.source}: {self.part}"

    @property
    def value(self) -> str:
        return f"{self.source_id} {self.part}"

    def prepared(self, session: Session, name: str, recipe: Recipe) -> Prepared:
        """What a run of this part alone would make."""
        plan = Plan(
            recipes={name: recipe}, cuts=(CutEntry(part=self.part, recipe=name, as_file=True),)
        )
        survey = survey_of(self.revision)
        prepared = prepare(survey, plan, marks=marks_for(session, plan))
        prepared.jobs = [job for job in prepared.jobs if job.cut.origin is Origin.HAND]
        for remarks in (prepared.failed, prepared.warnings):
            remarks[:] = [remark for remark in remarks if remark.part == self.part]
        return prepared

    def clashes(self, session: Session, name: str, recipe: Recipe) -> bool:
        """Whether two of its files would have the same name."""
        warnings = self.prepared(session, name, recipe).warnings
        return any(remark.reason == OWN_CLASH for remark in warnings)

    def names(self, session: Session, name: str, recipe: Recipe) -> list[str]:
        """The names of its files."""
        jobs = self.prepared(session, name, recipe).jobs
        return [variant.path for job in jobs for variant in job.variants]


def clash_in(session: Session, source: Source, name: str, recipe: Recipe) -> str:
    """The files of a source that would have the same name by a recipe, in words; empty if none."""
    revision = latest_revision(session, source.id)
    if revision is None or revision.state is not RevisionState.READY:
        return ""
    plan = whole_plan(session, source)
    changed = plan.model_copy(update={"recipes": {**plan.recipes, name: recipe}})
    for remark in prepared_for(session, source, revision, changed).warnings:
        if CLASH in remark.reason:
            return f"{remark.cut}: {remark.reason}"
    return ""


def samples(session: Session) -> list[Sample]:
    """Samples for a recipe: whole pictures, and cuts of designs."""
    found: list[Sample] = []
    for source, revision in all_sources(session):
        if revision.state is not RevisionState.READY:
            continue
        survey = survey_of(revision)
        paths = [CANVAS_PATH]
        if survey.layered:
            prepared = prepared_for(session, source, revision, whole_plan(session, source))
            paths = list(dict.fromkeys(job.cut.part for job in prepared.jobs)) or paths
        found += [Sample(source.id, source.name, path, revision) for path in paths]
        if len(found) >= MOST_CHOICES:
            break
    return found[:MOST_CHOICES]


def sample_of(session: Session, name: str, source_id: str, part: str) -> Sample | None:
    """The requested sample; else a cut with the recipe; else a flat picture."""
    source = session.get(Source, source_id) if source_id else None
    revision = latest_revision(session, source.id) if source else None
    if source and revision and revision.state is RevisionState.READY:
        paths = {facts.path for facts in survey_of(revision).parts}
        return Sample(source.id, source.name, part if part in paths else CANVAS_PATH, revision)
    return _used_with(session, name) or next(iter(_flat_first(samples(session))), None)


def _used_with(session: Session, name: str) -> Sample | None:
    for source in uses_of(session, name):
        revision = latest_revision(session, source.id)
        if revision is None or revision.state is not RevisionState.READY:
            continue
        prepared = prepared_for(session, source, revision, whole_plan(session, source))
        for job in prepared.jobs:
            if job.cut.recipe == name and not job.cut.rect:
                return Sample(source.id, source.name, job.cut.part, revision)
    return None


def _flat_first(found: Sequence[Sample]) -> list[Sample]:
    return sorted(found, key=lambda sample: sample.part != CANVAS_PATH)


def uses_of(session: Session, name: str) -> list[Source]:
    """Sources that have a cut with this recipe, or name it in their plan."""
    found = []
    shared = shared_plan(session)
    for source, revision in all_sources(session):
        try:
            plan = joined(shared, own_plan(session, source), source.name)
        except PlanUnreadable:
            continue
        if revision.state is not RevisionState.READY:
            continue
        named = {plan.default, *(entry.recipe for entry in plan.cuts)}
        named |= {rule.recipe for rule in plan.rules} | {entry.recipe for entry in plan.slices}
        tags = {tag for part in revision.survey.get("parts", []) for tag in part["tags"]}
        if name in named or name in tags:
            found.append(source)
    return found


@dataclass
class EffectRow:
    """One width of a trial: its files by format."""

    width: int
    height: int
    files: dict[Format, File] = field(default_factory=dict)


@dataclass
class Effect:
    """The files of a recipe on a sample, or their progress."""

    job: Task
    made: int
    planned: int
    report: JobReport | None = None
    refused: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)

    @property
    def waits(self) -> bool:
        return self.report is None and not self.refused and not self.problem

    @property
    def problem(self) -> str:
        return self.job.problem

    @property
    def formats(self) -> list[Format]:
        files = self.report.files if self.report else []
        return [format for format in Format if any(file.format is format for file in files)]

    @property
    def rows(self) -> list[EffectRow]:
        found: dict[tuple[int, int], EffectRow] = {}
        for file in self.report.files if self.report else []:
            size = (file.width, file.height)
            found.setdefault(size, EffectRow(*size)).files[file.format] = file
        return [found[size] for size in sorted(found)]

    @property
    def heaviest(self) -> int:
        return max((file.bytes for file in self.report.files), default=1) if self.report else 1

    @property
    def shown(self) -> File | None:
        """The file to show: the lightest of the largest width that fits a screen."""
        files = self.report.files if self.report else []
        return sent_to_large_screens([f for f in files if f.width <= SCREEN] or files)

    @property
    def remarks(self) -> list[str]:
        if self.report is None:
            return self.refused
        return [remark.reason for remark in [*self.report.failed, *self.report.warnings]]


def effect_of(
    session: Session,
    blobs: BlobStore,
    queue: WorkQueue,
    name: str,
    recipe: Recipe,
    sample: Sample,
) -> Effect:
    """The effect of a recipe as far as it is known; requests the rest."""
    prepared = sample.prepared(session, name, recipe)
    if not prepared.jobs or not prepared.jobs[0].variants:
        reasons = [remark.reason for remark in [*prepared.failed, *prepared.warnings]]
        return Effect(Task(kind=TaskKind.TRY), 0, 0, refused=reasons or ["it shows nothing"])
    cut_job = prepared.jobs[0]
    topic = f"try {key_of(*(v.key for v in cut_job.variants))} {cut_job.cut.name}"
    note_latest_trial(blobs, name, topic)
    body = TryBody(
        blob=sample.revision.blob, name=sample.source, job=cut_job, recipe=name, topic=topic
    )
    job = request_task(session, topic, body, name=name, planned=len(cut_job.expected))
    tried = TryReport.model_validate(job.report).report
    if job.state is TaskState.DONE and tried is None:
        requeue(session, job)  # it was passed over for a later one, and is wanted again
    effect = Effect(job, 0, job.planned, names=[v.path for v in cut_job.variants])
    if job.state is TaskState.DONE and tried is not None:
        effect.report = tried
        effect.report.warnings += prepared.warnings
    else:
        effect.made = min(job.planned, queue.progress(job.id))
    return effect

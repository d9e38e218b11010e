"""What the Cut screen shows: the tree of parts that is also the folder of files."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from sqlmodel import Session

from gefa.core.cut.gather import default_recipe
from gefa.core.export import Facts, Job, Prepared, facts_key, prepare
from gefa.core.geometry import Rect, union_all
from gefa.core.read.survey import PartFacts, Survey
from gefa.core.treat.recipe import BUILT_IN_WORDS
from gefa.store.blobs import BlobStore
from gefa.store.models import Revision, Source
from gefa.store.sources import choices, plan_of, survey_of

MAX_INDENT = 8
ORIGINS = {"tag": "by tag", "rule": "by rule", "hand": "by hand", "default": "by itself"}


@dataclass
class Weighed:
    """What is known of a cut's files before a run: those made earlier have a weight in bytes."""

    files: int = 0
    made: int = 0
    bytes: int = 0
    served: int = 0
    baseline: int | None = None

    @property
    def known(self) -> bool:
        return self.files > 0 and self.made == self.files

    @property
    def saved(self) -> float | None:
        """The share of the baseline that a visitor is spared at the largest width, 0..1."""
        if not self.known or not self.baseline:
            return None
        return max(0.0, 1 - self.served / self.baseline)


@dataclass
class Row:
    """A part in the list. ``stem`` is what its files' names begin with, empty if it is no cut."""

    id: str
    part: PartFacts
    indent: int
    ticked: bool
    decided: bool
    name: str
    stem: str
    recipe: str
    origin: str
    also: list[str] = field(default_factory=list)
    weighed: Weighed = field(default_factory=Weighed)
    remarks: list[str] = field(default_factory=list)
    share: float = 0.0

    @property
    def place(self) -> Rect | None:
        return self.part.extent if self.part.extent and not self.part.extent.empty else None


@dataclass
class Sum:
    """The foot of the list."""

    cuts: int
    weighed: Weighed

    @property
    def left(self) -> int:
        return self.weighed.files - self.weighed.made


@dataclass
class CutView:
    """One source on the Cut screen."""

    source: Source
    revision: Revision
    survey: Survey
    rows: list[Row]
    total: Sum
    recipes: dict[str, str]
    lost: dict[str, list[str]]
    """remarks on parts that this revision does not have, by path"""

    @property
    def shown(self) -> Rect:
        """What the picture half shows, in canvas px: the canvas and what hangs over it, up to a
        third of the canvas each way."""
        canvas = Rect(0, 0, self.survey.width, self.survey.height)
        room = canvas.grown(max(canvas.width, canvas.height) // 3)
        everything = union_all(row.place for row in self.rows if row.place)
        margin = max(canvas.width, canvas.height) // 200
        return canvas.union(everything.intersection(room)).grown(margin)

    def row(self, path: str) -> Row | None:
        return next((row for row in self.rows if row.part.path == path), None)


def view_of(session: Session, blobs: BlobStore, source: Source, revision: Revision) -> CutView:
    """Everything the screen needs, from the survey; draws nothing."""
    survey = survey_of(revision)
    plan = plan_of(session, source.id)
    decided = choices(session, source.id)
    prepared = prepare(survey, plan, default=not survey.layered)
    jobs = _by_part(prepared)
    remarks = _remarks(prepared)
    rows = [
        _row(index, part, survey, jobs.get(part.path, []), part.path in decided, blobs)
        for index, part in enumerate(survey.parts)
    ]
    for row in rows:
        row.remarks = remarks.pop(row.part.path, [])
        chosen = decided.get(row.part.path)
        if chosen is not None:
            row.ticked = not chosen.leave_out
            row.name = chosen.name or row.name
            row.recipe = chosen.recipe or row.recipe
    heaviest = max((row.weighed.bytes for row in rows), default=0) or 1
    for row in rows:
        row.share = row.weighed.bytes / heaviest
    total = _added(row.weighed for row in rows)
    return CutView(
        source,
        revision,
        survey,
        rows,
        Sum(sum(len(found) for found in jobs.values()), total),
        {name: BUILT_IN_WORDS.get(name, "") for name in plan.all_recipes},
        remarks,
    )


def _by_part(prepared: Prepared) -> dict[str, list[Job]]:
    jobs: dict[str, list[Job]] = {}
    for job in prepared.jobs:
        jobs.setdefault(job.cut.part, []).append(job)
    return jobs


def _remarks(prepared: Prepared) -> dict[str, list[str]]:
    """What there is to say, by part path."""
    found: dict[str, list[str]] = {}
    for remark in [*prepared.failed, *prepared.warnings]:
        found.setdefault(remark.part, []).append(remark.reason)
    return found


def _row(
    index: int,
    part: PartFacts,
    survey: Survey,
    jobs: list[Job],
    decided: bool,
    blobs: BlobStore,
) -> Row:
    first = jobs[0] if jobs else None
    return Row(
        id=f"part-{index}",
        part=part,
        indent=min(part.depth, MAX_INDENT),
        ticked=bool(jobs),
        decided=decided,
        name=part.display_name,
        stem=first.cut.name if first else "",
        recipe=",".join(job.cut.recipe for job in jobs) or default_recipe(survey, part),
        origin=ORIGINS[first.cut.origin] if first else "",
        also=[f"{job.cut.name} by {job.cut.recipe}" for job in jobs[1:]],
        weighed=_added(_weigh(job, blobs) for job in jobs),
    )


def _weigh(job: Job, blobs: BlobStore) -> Weighed:
    weighed = Weighed(files=len(job.variants))
    widest = max((variant.width for variant in job.variants), default=0)
    lightest: int | None = None
    for variant in job.variants:
        noted = blobs.noted(variant.key)
        if noted is None:
            continue
        weighed.made += 1
        weighed.bytes += noted["bytes"]
        if variant.width == widest:
            lightest = min(noted["bytes"], lightest or noted["bytes"])
    weighed.served = lightest or 0
    facts = blobs.noted(facts_key(job))
    weighed.baseline = Facts.model_validate(facts).baseline_bytes if facts else None
    return weighed


def _added(all_weighed: Iterable[Weighed]) -> Weighed:
    total = Weighed(baseline=0)
    for weighed in all_weighed:
        total.files += weighed.files
        total.made += weighed.made
        total.bytes += weighed.bytes
        if weighed.known and weighed.baseline:
            total.served += weighed.served
            total.baseline = (total.baseline or 0) + weighed.baseline
    return total

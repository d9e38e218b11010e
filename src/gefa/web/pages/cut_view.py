"""What the Cut screen shows: the tree of parts that is also the folder of files."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple
from urllib.parse import quote

from sqlmodel import Session

from gefa.core.cut.cut import Cut, Origin
from gefa.core.cut.revisions import Changes
from gefa.core.cut.shown_size import ShownSize, Unit
from gefa.core.cut.slice_geometry import line_at
from gefa.core.geometry import Rect, union_all
from gefa.core.make.job import CutJob
from gefa.core.make.prepare import Prepared
from gefa.core.plan.gather import default_recipe
from gefa.core.plan.plan import CellEntry, CutEntry, Plan, SliceEntry
from gefa.core.plan.slice_cuts import grid
from gefa.core.read.part_names import tag_name
from gefa.core.read.survey import PartFacts, Survey
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import OwnFormats
from gefa.core.treat.recipe_sentence import sentence
from gefa.core.units import listed
from gefa.store.contracts import Preview
from gefa.store.history import Ways
from gefa.store.models import Revision, Source
from gefa.store.plans import prepared_for, step_id, ways_of, whole_plan
from gefa.store.runs import newest_made
from gefa.store.sources import survey_of
from gefa.web.pages.proof_view import quality_words
from gefa.web.pages.weighing import Scales, Weighed, added

MAX_INDENT = 8
"""levels; deeper ones would leave no space for names"""
ORIGINS = {
    "tag": "by tag",
    "rule": "by rule",
    "hand": "by hand",
    "slice": "slice",
    "default": "by default",
}


@dataclass
class CutLine:
    """One cut of a row: what its files are called, how they are treated, what they weigh.

    ``stem`` is what its files' names begin with; ``pixels`` is its one size (px) where it has one
    of its own. ``entry`` says to the plan's editor which it is. ``exception`` says in words what it
    has of its own against the default, ``from_design`` what the words after its tag ask for;
    ``proof`` is where its files can be looked at.
    """

    index: int
    name: str
    recipe: str
    entry: str = ""
    origin: str = ""
    stem: str = ""
    size: ShownSize | None = None
    pixels: tuple[int, int] | None = None
    css: str = ""
    can_be_css: bool = False
    strays: str = ""
    whole: bool = True
    weighed: Weighed = field(default_factory=Weighed)
    share: float = 0.0
    exception: str = ""
    from_design: str = ""
    proof: str = ""

    @property
    def megapixels(self) -> float:
        return self.pixels[0] * self.pixels[1] / 1e6 if self.pixels else 0.0


@dataclass
class CutRow:
    """A part in the list, with its cuts; a row that is no cut has one line that is idle."""

    id: str
    part: PartFacts
    indent: int
    ticked: bool
    decided: bool
    changed: str
    lines: list[CutLine]
    remarks: list[str] = field(default_factory=list)

    @property
    def place(self) -> Rect | None:
        return self.part.extent if self.part.extent and not self.part.extent.empty else None

    @property
    def origin(self) -> str:
        return self.lines[0].origin if self.ticked else ""


@dataclass
class SliceRow:
    """A slice in the list; ``key`` is its place in the plan. One of a split that is left out has
    no line's weight."""

    id: str
    key: str
    rect: Rect
    drawn: bool
    ticked: bool
    line: CutLine
    remarks: list[str] = field(default_factory=list)


class Guide(NamedTuple):
    """A line across the canvas: its position (px), and as it was given."""

    at: int
    given: str


@dataclass
class Slices:
    """All slices of a source, and the lines that some of them lie between."""

    rows: list[SliceRow] = field(default_factory=list)
    x: list[Guide] = field(default_factory=list)
    y: list[Guide] = field(default_factory=list)
    columns: int = 1
    rows_count: int = 1
    gap: int = 0
    margin: int = 0
    said: list[str] = field(default_factory=list)


@dataclass
class Sum:
    """The foot of the list."""

    cuts: int
    weighed: Weighed
    large: int

    @property
    def left(self) -> int:
        return self.weighed.files - self.weighed.made


@dataclass
class CutView:
    """One source on the Cut screen."""

    source: Source
    revision: Revision
    survey: Survey
    plan: Plan
    rows: list[CutRow]
    slices: Slices
    total: Sum
    recipes: dict[str, str]
    lost: dict[str, list[str]]
    """remarks on parts that this revision does not have, by path"""
    history: Ways
    step: str
    changes: Changes
    preview: Preview

    @property
    def shown(self) -> Rect:
        """What the picture half shows, in canvas px: the canvas and what hangs over it, up to a
        third of the canvas each way."""
        canvas = Rect(0, 0, self.survey.width, self.survey.height)
        room = canvas.grown(max(canvas.width, canvas.height) // 3)
        everything = union_all(row.place for row in self.rows if row.place)
        margin = max(canvas.width, canvas.height) // 60
        return canvas.union(everything.intersection(room)).grown(margin)

    @property
    def units(self) -> list[str]:
        return [unit.value for unit in Unit]

    @property
    def exceptions(self) -> int:
        """The number of cuts with settings of their own."""
        lines = [line for row in self.rows if row.ticked for line in row.lines]
        lines += [row.line for row in self.slices.rows if row.ticked]
        return sum(bool(line.exception) for line in lines)

    @property
    def kinds(self) -> list[str]:
        return sorted({row.part.kind.value for row in self.rows[1:]})

    def row(self, path: str) -> CutRow | None:
        return next((row for row in self.rows if row.part.path == path), None)


def view_of(session: Session, source: Source, revision: Revision) -> CutView:
    """Everything the screen needs, from the survey; draws nothing."""
    survey = survey_of(revision).called(source.name)
    plan = whole_plan(session, source)
    prepared = prepared_for(session, source, revision, plan)
    remarks = _remarks(prepared)
    jobs: dict[str, list[CutJob]] = {}
    for job in prepared.jobs:
        jobs.setdefault(job.cut.key, []).append(job)
    scales = Scales(session, prepared.jobs)
    changes = Changes.model_validate(revision.changes)
    states = _states(changes)
    rows = [
        _row(index, part, survey, plan, jobs.get(part.path, []), states, scales)
        for index, part in enumerate(survey.parts)
    ]
    for row in rows:
        row.remarks = remarks.pop(row.part.path, [])
    slices = _slices(survey, plan, jobs, remarks, scales)
    if prepared.gaps:
        slices.said.append(prepared.gaps)
    lines = [line for row in rows if row.ticked for line in row.lines]
    lines += [row.line for row in slices.rows if row.ticked]
    heaviest = max((line.weighed.bytes for line in lines), default=0) or 1
    proofs = _proofs(session, source)
    for line in lines:
        line.share = line.weighed.bytes / heaviest
        line.proof = proofs.get(line.stem, "")
    total = Sum(len(prepared.jobs), added(line.weighed for line in lines), len(prepared.large))
    return CutView(
        source,
        revision,
        survey,
        plan,
        rows,
        slices,
        total,
        {name: sentence(recipe) for name, recipe in plan.all_recipes.items()},
        remarks,
        ways_of(session, source),
        step_id(session, source),
        changes,
        Preview.model_validate(revision.preview),
    )


def _proofs(session: Session, source: Source) -> dict[str, str]:
    """Links to the files of the newest finished run, by cut."""
    run, cuts = newest_made(session, source.id)
    return {cut: f"/runs/{run}/proof/{quote(cut)}" for cut in cuts}


def _exception(
    plan: Plan, own: CutEntry | SliceEntry | CellEntry, recipe: str | None, tags: Iterable[str] = ()
) -> str:
    """The settings of a cut that differ from its tags and the default, in words; empty if none."""
    told = []
    if recipe is not None and plan.default is not None and recipe not in (plan.default, *tags):
        told.append(f"recipe {recipe}")
    if own.quality is not None:
        told.append(quality_words(own.quality))
    if isinstance(own, CutEntry):
        told += _own_ladder(own.widths, own.formats)
    return listed(told)


def _own_ladder(widths: tuple[int, ...] | None, formats: OwnFormats | None) -> list[str]:
    told = []
    if widths is not None:
        told.append(f"{', '.join(f'{width:,}' for width in widths)} px")
    if formats is not None:
        automatic = formats == "auto"
        told.append("automatic formats" if automatic else listed([_label(f) for f in formats]))
    return told


def _label(format: Format | str) -> str:
    return FORMATS[Format(format)].label


def _from_design(cut: Cut) -> str:
    """The settings in the words after a tag."""
    told = [quality_words(cut.quality)] if cut.quality is not None else []
    told += _own_ladder(cut.widths, cut.formats)
    if cut.size is not None:
        told.append("a size of its own")
    return listed(told)


def _remarks(prepared: Prepared) -> dict[str, list[str]]:
    """Remarks by part path or slice."""
    found: dict[str, list[str]] = {}
    for remark in [*prepared.failed, *prepared.warnings]:
        found.setdefault(remark.part, []).append(remark.reason)
    return found


def _states(changes: Changes) -> dict[str, str]:
    states = dict.fromkeys(changes.added, "added")
    states |= dict.fromkeys(changes.changed, "changed")
    return states | dict.fromkeys(changes.moved, "moved")


def _row(
    index: int,
    part: PartFacts,
    survey: Survey,
    plan: Plan,
    jobs: list[CutJob],
    states: dict[str, str],
    scales: Scales,
) -> CutRow:
    entries = [entry for entry in plan.cuts if entry.part == part.path]
    on = bool(jobs) or any(not entry.leave_out for entry in entries)
    lines = [_line(i, part, job, entries, plan, scales) for i, job in enumerate(jobs)]
    if not lines:
        entry = entries[0] if entries else CutEntry(part=part.path)
        recipe = entry.recipe or default_recipe(survey, part, plan)
        lines = [CutLine(0, entry.name or part.display_name, recipe, entry.id)]
    return CutRow(
        f"part-{index}",
        part,
        min(part.depth, MAX_INDENT),
        on,
        bool(entries),
        states.get(part.path, ""),
        lines,
    )


def _line(
    index: int,
    part: PartFacts,
    job: CutJob,
    entries: list[CutEntry],
    plan: Plan,
    scales: Scales,
) -> CutLine:
    entry = next((entry for entry in entries if entry.id == job.cut.entry), None)
    name = entry.name if entry and entry.name else part.display_name
    pixels = None
    if job.cut.size and job.variants:
        pixels = (job.variants[-1].width, job.variants[-1].height)
    return CutLine(
        index,
        name,
        job.cut.recipe,
        job.cut.entry,
        ORIGINS[job.cut.origin],
        job.cut.name,
        job.cut.size,
        pixels,
        job.css,
        bool(part.css) and not job.cut.size,
        part.strays.words if part.strays else "",
        job.cut.strays,
        scales.weigh(job),
        exception=_exception(plan, entry, entry.recipe, map(tag_name, part.tags)) if entry else "",
        from_design=_from_design(job.cut) if job.cut.origin is Origin.TAG else "",
    )


def _slices(
    survey: Survey,
    plan: Plan,
    jobs: dict[str, list[CutJob]],
    remarks: dict[str, list[str]],
    scales: Scales,
) -> Slices:
    found = Slices(said=remarks.pop("slices", []))
    for entry in plan.slices:
        if entry.area is not None:
            found.rows.append(
                _slice_row(entry.id, entry.area, entry, entry, plan, jobs, remarks, scales)
            )
            continue
        for cell in grid(entry, survey.size):
            place = f"r{cell.row}-c{cell.column}"
            own = entry.cells.get(place, CellEntry())
            key = f"{entry.id} {place}"
            found.rows.append(_slice_row(key, cell.rect, own, entry, plan, jobs, remarks, scales))
        _note_lines(found, entry, survey)
    return found


def _slice_row(
    key: str,
    rect: Rect,
    own: CellEntry | SliceEntry,
    entry: SliceEntry,
    plan: Plan,
    jobs: dict[str, list[CutJob]],
    remarks: dict[str, list[str]],
    scales: Scales,
) -> SliceRow:
    made = jobs.get(f"slice {key}", [])
    recipe = own.recipe or entry.recipe or ""
    line = CutLine(0, own.name or "", recipe)
    if made:
        both = own if own.quality is not None else entry
        line.exception = _exception(plan, both, own.recipe or entry.recipe)
        line.stem, line.recipe = made[0].cut.name, made[0].cut.recipe
        line.weighed = scales.weigh(made[0])
    return SliceRow(
        f"slice-{key.replace(' ', '-')}",
        key,
        rect,
        entry.area is not None,
        bool(made),
        line,
        remarks.pop(f"slice {key}", []),
    )


def _note_lines(found: Slices, entry: SliceEntry, survey: Survey) -> None:
    if entry.split is not None:
        found.columns, found.rows_count = entry.split.columns, entry.split.rows
        found.gap, found.margin = entry.split.gap, entry.split.margin
        cells_ = grid(entry, survey.size)
        found.x = [Guide(x, str(x)) for x in sorted({c.rect.x for c in cells_} - {0})]
        found.y = [Guide(y, str(y)) for y in sorted({c.rect.y for c in cells_} - {0})]
    elif entry.guides is not None:
        found.x = [Guide(line_at(g, survey.width), str(g)) for g in entry.guides.x]
        found.y = [Guide(line_at(g, survey.height), str(g)) for g in entry.guides.y]

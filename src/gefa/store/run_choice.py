"""Which sources a run takes, by which plans, and what it would do."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from sqlmodel import Session

from gefa.core.cut.cut import Remark
from gefa.core.make.job import CutJob
from gefa.core.make.prepare import Prepared, give_names
from gefa.core.plan.plan import Plan
from gefa.core.plan.site_plan import joined
from gefa.core.treat.recipe import Recipe
from gefa.store.models import Revision, RevisionState, Run, RunSource, Source
from gefa.store.plans import (
    PlanUnreadable,
    expanded_for,
    own_plans,
    shared_plan,
    wanted_by_others,
)
from gefa.store.recipes import library
from gefa.store.sources import all_sources, source_stems
from gefa.store.standing import Bases, Basis


class Chosen(NamedTuple):
    """A source to run: its revision and plan."""

    source: Source
    revision: Revision
    plan: Plan


class Choice(NamedTuple):
    """The sources that can be run, why others cannot, and those that are still being read."""

    chosen: list[Chosen]
    refused: list[Remark]
    reading: list[tuple[Source, Revision]]

    @property
    def empty(self) -> bool:
        return not (self.chosen or self.refused or self.reading)


@dataclass
class PlannedRun:
    """What a run would make: what was prepared for each source, and the shared recipes. ``bases``
    are what each depends on, taken together with the plan: both may change before the run
    starts."""

    chosen: list[Chosen]
    prepared: list[Prepared]
    recipes: dict[str, Recipe]
    bases: list[Basis]

    @property
    def large(self) -> list[CutJob]:
        """Jobs with a file above 40 megapixels."""
        return [job for prepared in self.prepared for job in prepared.large]

    def without(self, names: Collection[str]) -> None:
        """Remove the jobs of these large cuts."""
        for prepared in self.prepared:
            for job in prepared.jobs:
                if job.cut.name in names:
                    reason = f"it would be {job.megapixels:,.0f} megapixels"
                    prepared.left_out.append(Remark(cut=job.cut.name, reason=reason))
            prepared.jobs = [job for job in prepared.jobs if job.cut.name not in names]


def plan_run(session: Session, chosen: Sequence[Chosen]) -> PlannedRun:
    """What a run of these sources would make, named together and apart from all others.
    Reads only."""
    stems = source_stems(session)
    prepared = [expanded_for(session, *one, stems) for one in chosen]
    give_names(prepared, wanted_by_others(session, {one.source.id for one in chosen}))
    bases = Bases(session)
    own = [
        bases.of(one.revision, one.source, one.plan, each.jobs)
        for one, each in zip(chosen, prepared, strict=True)
    ]
    return PlannedRun(list(chosen), prepared, library(session), own)


def choose(session: Session, source_ids: Collection[str] | None = None) -> Choice:
    """Sources with their newest revisions and plans, all or some."""
    recipes, shared = library(session), shared_plan(session)
    rows = all_sources(session, source_ids)
    own = own_plans(session, (source for source, _ in rows))
    found = Choice([], [], [])
    chosen, refused, reading = found
    for source, revision in rows:
        piece = own.get(source.id, Plan())
        if revision.state is RevisionState.READING:
            reading.append((source, revision))
        elif revision.state is RevisionState.FAILED:
            why = revision.problem
            refused.append(Remark(cut=source.name, source=source.name, reason=why))
        elif isinstance(piece, PlanUnreadable):
            refused.append(Remark(cut=source.name, source=source.name, reason=str(piece)))
        else:
            plan = joined(shared, piece, source.name).among(recipes)
            chosen.append(Chosen(source, revision, plan))
    chosen.sort(key=lambda one: one.source.name)
    return found


def plan_in(run: Run, own: RunSource) -> Plan:
    """The plan that a source had in a run."""
    shared = Plan.model_validate(run.plan)
    return Plan.model_validate(own.plan).among(shared.recipes) if own.plan else shared

"""Whether the last run of each source is up to date, by what it depends on.

A ``Basis`` is a digest of the revision, of what the plan says of the source, and of the recipes
that it uses: two that are equal make the same files.
"""

from __future__ import annotations

import hashlib
import json
import threading
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import String, func, type_coerce
from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.make.job import CutJob
from gefa.core.plan.plan import Plan
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store import history
from gefa.store.models import History, Revision, Run, RunSource, Source, Step
from gefa.store.plans import SHARED, marks_for, shared_plan
from gefa.store.recipes import library
from gefa.store.sources import newest_revisions, source_stems


@dataclass(frozen=True)
class Basis:
    """Everything that the files of a source depend on. ``recipes`` are the digests of the recipes
    it uses, by name."""

    digest: str
    recipes: Mapping[str, str]


def _digest(*parts: str) -> str:
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:24]


class Bases:
    """The current bases of sources; shared values are computed once."""

    def __init__(self, session: Session) -> None:
        step = history.current(session, SHARED)
        self._shared_by_name = _of_step(step.id if step else "", shared_plan(session))
        self._recipes = {n: _of_recipe(session, r) for n, r in library(session).items()}
        self._names = _digest(*sorted(self._recipes.keys() | BUILT_IN.keys()))
        self._own = _own_contents(session)
        self.stems = source_stems(session)

    def digest(self, revision_id: str, source_id: str, name: str) -> str:
        """A digest of the revision and of the plan without recipes."""
        own = self._own.get(source_id, "")
        stem = self.stems.get(name, "")
        # Without the empty stem, digests are those of earlier versions.
        told = [own, self._shared_by_name[name], self._names, *([stem] if stem else [])]
        return _digest(revision_id, *told)

    def of(self, revision: Revision, source: Source, plan: Plan, jobs: Iterable[CutJob]) -> Basis:
        """The basis of a source whose plan makes these jobs."""
        used = {job.cut.recipe for job in jobs} | ({plan.default} if plan.default else set())
        return Basis(
            self.digest(revision.id, source.id, source.name),
            {name: self.recipe(name) for name in sorted(used)},
        )

    def recipe(self, name: str) -> str:
        """Empty for an unchanged built-in recipe."""
        return self._recipes.get(name, "")

    def holds(self, digest: str, basis: str, recipes: Mapping[str, str]) -> bool:
        """Whether files made on that basis would be the same now."""
        return digest == basis and all(self.recipe(n) == was for n, was in recipes.items())


def _of_recipe(session: Session, recipe: Recipe) -> str:
    marks = marks_for(session, Plan(recipes={"mark": recipe})) if recipe.mark else {}
    return _digest(recipe.model_dump_json(exclude_defaults=True), json.dumps(marks))


def _own_contents(session: Session) -> dict[str, str]:
    """The stored plans of single sources, by id, without empty ones."""
    found = session.execute(
        sql_select(col(Step.subject), type_coerce(col(Step.content), String))
        .join(
            History,
            (col(History.subject) == col(Step.subject)) & (col(History.number) == col(Step.number)),
        )
        .where(col(Step.subject).startswith("plan "))
    )
    return {subject.removeprefix("plan "): content for subject, content in found if content != "{}"}


class _ByName(dict[str, str]):
    """Digests of the shared piece for each source, computed on demand."""

    def __init__(self, shared: Plan) -> None:
        super().__init__()
        self._shared = shared

    def __missing__(self, name: str) -> str:
        found = self[name] = _digest(name, _plain(self._shared.for_source(name), name))
        return found


def _plain(plan: Plan, name: str) -> str:
    """The entries for a source that matter for its files: without tags, globs and ids."""
    fields: dict[str, Any] = plan.model_dump(
        mode="json", exclude_defaults=True, exclude={"out", "check", "sources"}
    )
    for kind in ("rules", "cuts", "slices", "originals"):
        for entry in fields.get(kind, ()):
            for said in ("id", "source", "sources"):
                entry.pop(said, None)
    return json.dumps({**fields, "folder": plan.folder_for(name)}, sort_keys=True)


_LAST: tuple[str, _ByName] | None = None
_LOCK = threading.Lock()


def _of_step(step: str, shared: Plan) -> _ByName:
    """Cached by step of the shared plan: a step never changes."""
    global _LAST
    with _LOCK:
        if _LAST is None or _LAST[0] != step:
            _LAST = (step, _ByName(shared))
        return _LAST[1]


class LastRun(NamedTuple):
    """The last run of everything the plan says of a source, and whether it is still running."""

    run_id: str
    open: bool
    basis: str
    recipes: dict[str, str]
    cuts: int
    files: int
    bytes: int
    served: int
    baseline: int
    failed: bool


def last_runs(session: Session) -> dict[str, LastRun]:
    """The last run of each source, by id; stopped runs do not count."""
    newest = (
        sql_select(col(RunSource.source_id), func.max(col(RunSource.run_id)).label("run_id"))
        .join(Run, col(Run.id) == col(RunSource.run_id))
        .where(col(Run.stopped).is_(None), col(RunSource.basis) != "")
        .group_by(col(RunSource.source_id))
        .subquery()
    )
    columns = (
        RunSource.basis, RunSource.recipes, RunSource.cuts, RunSource.files, RunSource.bytes,
        RunSource.served, RunSource.baseline, RunSource.failed,
    )  # fmt: skip
    found = session.execute(
        sql_select(
            col(RunSource.source_id),
            col(RunSource.run_id),
            col(Run.finished).is_(None),
            *(col(column) for column in columns),
        )
        .join(
            newest,
            (newest.c.source_id == RunSource.source_id) & (newest.c.run_id == RunSource.run_id),
        )
        .join(Run, col(Run.id) == col(RunSource.run_id))
    )
    return {source_id: LastRun(*row) for source_id, *row in found}


def changed_sources(session: Session) -> set[str]:
    """Ids of sources whose last run would give different files now, or that were never run."""
    bases, last = Bases(session), last_runs(session)
    return {
        one.source_id
        for one in newest_revisions(session)
        if (run := last.get(one.source_id)) is None
        or not bases.holds(
            bases.digest(one.revision_id, one.source_id, one.name), run.basis, run.recipes
        )
    }

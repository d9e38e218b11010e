"""The rows of *Sources*: folder, state and weight of each source."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any, NamedTuple

from sqlalchemy import func
from sqlalchemy import select as sql_select
from sqlmodel import Session, col

from gefa.core.plan.plan import Plan
from gefa.store.models import Outlook, Revision, RevisionState, Source, as_utc
from gefa.store.plans import shared_plan
from gefa.store.sources import newest_numbers
from gefa.store.standing import Bases, LastRun, last_runs

_HAPPENED = ("added", "changed", "moved", "gone")
_VECTORS = {"svg"}
_LAYERED = {"ora", "svg"}


class Standing(StrEnum):
    """How a source compares with its last run."""

    READING = "reading"
    FAILED = "failed"
    NEW = "new"
    CHANGED = "changed"
    RUNNING = "running"
    UP_TO_DATE = "up to date"
    NO_CUTS = "no cuts"


@dataclass(frozen=True, slots=True)
class DeskRow:
    """A source on the desk, in its newest revision.

    Sizes in px, weights in bytes; ``parts`` does not count the canvas; ``news`` counts parts by
    kind of change. ``out`` is the weight of its files, ``known`` says that they are made;
    ``outlook_due`` says that its outlook must be worked out again.
    """

    id: str
    name: str
    number: int
    brought: datetime
    standing: Standing
    problem: str
    format: str
    bytes: int
    width: int | None
    height: int | None
    parts: int
    drawn: bool
    has_picture: bool
    news: dict[str, int]
    recipe: str
    tags: tuple[str, ...]
    cuts: int
    files: int
    out: int
    served: int
    baseline: int
    known: bool
    outlook_due: bool

    @property
    def folder(self) -> str:
        return self.name.rpartition("/")[0]

    @property
    def file_name(self) -> str:
        return self.name.rpartition("/")[2]

    @property
    def kind(self) -> str:
        return "design" if self.parts else "picture"

    @property
    def unsettled(self) -> bool:
        """Whether work on it is in progress, so that it will soon change."""
        drawing = not self.drawn and self.standing is not Standing.FAILED
        busy = self.standing in (Standing.READING, Standing.RUNNING)
        return busy or self.outlook_due or drawing or self.estimating

    @property
    def estimating(self) -> bool:
        """Whether its weight is not even estimated yet."""
        return self.files > 0 and self.out == 0

    @property
    def saved(self) -> float | None:
        """The share of the baseline that is saved, 0..1."""
        return max(0.0, 1 - self.served / self.baseline) if self.baseline else None


@dataclass(frozen=True)
class DeskSum:
    """Sums over rows; weights in bytes."""

    sources: int
    cuts: int
    files: int
    bytes: int
    out: int
    served: int
    baseline: int
    known: int
    changed: int
    estimating: int

    @property
    def saved(self) -> float | None:
        return max(0.0, 1 - self.served / self.baseline) if self.baseline else None


def summed(rows: Iterable[DeskRow]) -> DeskSum:
    listed = list(rows)
    return DeskSum(
        sources=len(listed),
        cuts=sum(row.cuts for row in listed),
        files=sum(row.files for row in listed),
        bytes=sum(row.bytes for row in listed),
        out=sum(row.out for row in listed),
        served=sum(row.served for row in listed),
        baseline=sum(row.baseline for row in listed),
        known=sum(row.known for row in listed),
        changed=sum(row.standing in (Standing.NEW, Standing.CHANGED) for row in listed),
        estimating=sum(row.estimating for row in listed),
    )


def desk_rows(session: Session) -> list[DeskRow]:
    """All sources that are not removed, newest first. SQLite extracts the needed values from
    surveys, which can have thousands of parts each."""
    shared, bases, last = shared_plan(session), Bases(session), last_runs(session)
    outlooks = known_outlooks(session)
    return [
        _row(values, shared, bases, last, outlooks) for values in session.execute(_shown_columns())
    ]


class KnownOutlook(NamedTuple):
    """An outlook without its paths, which are many and only needed to assign names."""

    source_id: str
    basis: str
    recipes: dict[str, str]
    cuts: int
    files: int
    bytes: int
    problem: str


def known_outlooks(session: Session) -> dict[str, KnownOutlook]:
    """All outlooks, by the sources' ids."""
    columns = [col(getattr(Outlook, name)) for name in KnownOutlook._fields]
    return {row[0]: KnownOutlook(*row) for row in session.execute(sql_select(*columns))}


def _shown_columns() -> Any:
    newest = newest_numbers()
    return (
        sql_select(
            col(Source.id), col(Source.name), col(Revision.id), col(Revision.number),
            col(Revision.created), col(Revision.state), col(Revision.problem),
            col(Revision.format), col(Revision.bytes),
            func.json_extract(Revision.survey, "$.width"),
            func.json_extract(Revision.survey, "$.height"),
            func.json_array_length(Revision.survey, "$.parts"),
            func.json_type(Revision.preview, "$.picture"),
            func.json_extract(Revision.preview, "$.small"),
            func.json_extract(Revision.preview, "$.problem"),
            *(func.json_array_length(Revision.changes, f"$.{what}") for what in _HAPPENED),
        )
        .join(Revision, col(Revision.source_id) == col(Source.id))
        .join(
            newest,
            (newest.c.source_id == Revision.source_id) & (newest.c.number == Revision.number),
        )
        .where(col(Source.removed).is_(None))
        .order_by(col(Revision.created).desc(), col(Source.name))
    )  # fmt: skip


def _row(
    values: Any,
    shared: Plan,
    bases: Bases,
    last: dict[str, LastRun],
    outlooks: dict[str, KnownOutlook],
) -> DeskRow:
    (
        id, name, revision, number, created, state, problem, format, size, width, height, parts,
        picture, small, trouble, *counts,
    ) = values  # fmt: skip
    entry = shared.entry_for(name)
    run, outlook = last.get(id), outlooks.get(id)
    digest = bases.digest(revision, id, name)
    current = run is not None and bases.holds(digest, run.basis, run.recipes)
    foreseen = outlook is not None and bases.holds(digest, outlook.basis, outlook.recipes)
    standing = _standing(state, run, current, outlook if foreseen else None)
    known = standing is Standing.UP_TO_DATE
    sums = (0, 0, 0, 0, 0)
    if run is not None and known:
        sums = (run.cuts, run.files, run.bytes, run.served, run.baseline)
    elif outlook is not None:
        sums = (outlook.cuts, outlook.files, outlook.bytes, 0, 0)
    told = problem or (outlook.problem if outlook is not None and foreseen else "")
    return DeskRow(
        id, name, number, as_utc(created), standing, told, format, size, width, height,
        max(0, (parts or 0) - 1), bool(picture or trouble), bool(small),
        {what: count for what, count in zip(_HAPPENED, counts, strict=True) if count},
        entry.recipe or "" if entry else "", entry.tags if entry else (), *sums, known,
        state is RevisionState.READY and not known and not foreseen,
    )  # fmt: skip


def _standing(
    state: RevisionState, run: LastRun | None, current: bool, outlook: KnownOutlook | None
) -> Standing:
    if state is RevisionState.READING:
        return Standing.READING
    if state is RevisionState.FAILED:
        return Standing.FAILED
    if run is not None and run.open:
        return Standing.RUNNING
    if run is not None and current and run.failed:
        return Standing.FAILED
    if outlook is not None and not outlook.cuts:
        return Standing.NO_CUTS
    if run is None:
        return Standing.NEW
    return Standing.UP_TO_DATE if current else Standing.CHANGED

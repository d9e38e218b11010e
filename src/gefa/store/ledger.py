"""The ledger: facts about each variant and each cut's pixels, by key.

It says nothing of whether the bytes are still there: whoever wants them finds out. Workers have
notes of their own beside the blobs; what they report is entered here.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import timedelta
from itertools import islice
from typing import Any

from sqlalchemy import delete, update
from sqlalchemy import select as sql_select
from sqlmodel import Session, col, select

from gefa.core.make.estimate import Estimate
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.store.models import EstimateEntry, FactsEntry, MadeEntry, now
from gefa.store.upsert import upsert

KEPT = timedelta(days=180)
"""time after which an unused entry is deleted"""
_FIELDS = tuple(MadeVariant.model_fields)
# Columns, not objects: an export asks for tens of thousands.
_ENTRY = (col(MadeEntry.key), *(getattr(MadeEntry, name) for name in _FIELDS))
_AT_ONCE = 500
"""keys in one query: SQLite allows at most 32,766, and long queries are slow to parse"""


def known(session: Session, keys: Iterable[str]) -> dict[str, MadeVariant]:
    """The records of variants, by key."""
    found: dict[str, MadeVariant] = {}
    for some in _in_groups(keys):
        for key, *entry in session.execute(sql_select(*_ENTRY).where(col(MadeEntry.key).in_(some))):
            found[key] = MadeVariant(**dict(zip(_FIELDS, entry, strict=True)))
    return found


def facts(session: Session, keys: Iterable[str]) -> dict[str, CutFacts]:
    """The facts measured of cuts, by key."""
    found: dict[str, CutFacts] = {}
    for some in _in_groups(keys):
        for entry in session.exec(select(FactsEntry).where(col(FactsEntry.key).in_(some))):
            found[entry.key] = CutFacts.model_validate(entry.facts)
    return found


def estimates(session: Session, keys: Iterable[str]) -> dict[str, Estimate]:
    """The estimates of cuts' files, by key."""
    found: dict[str, Estimate] = {}
    for some in _in_groups(keys):
        for entry in session.exec(select(EstimateEntry).where(col(EstimateEntry.key).in_(some))):
            found[entry.key] = Estimate.model_validate(entry.estimate)
    return found


def enter_estimates(session: Session, estimates: Mapping[str, Estimate]) -> None:
    """Enter a worker's estimates."""
    rows: list[dict[str, Any]] = [
        {"key": key, "used": now(), "estimate": one.model_dump(mode="json")}
        for key, one in estimates.items()
    ]
    upsert(session, EstimateEntry, rows, ["key"])


def enter(
    session: Session,
    made: Mapping[str, MadeVariant],
    measured: Mapping[str, CutFacts] | None = None,
) -> None:
    """Enter a worker's report; existing entries count as used."""
    moment = now()
    rows = [{"key": key, "used": moment, **entry.model_dump()} for key, entry in made.items()]
    upsert(session, MadeEntry, rows, ["key"])
    facts_rows: list[dict[str, Any]] = [
        {"key": key, "used": moment, "facts": entry.model_dump(mode="json")}
        for key, entry in (measured or {}).items()
    ]
    upsert(session, FactsEntry, facts_rows, ["key"])


def keep_used(session: Session, keys: Iterable[str]) -> None:
    """Let entries count as used now; those that did within a month are left alone."""
    month_ago = now() - timedelta(days=30)
    for some in _in_groups(keys):
        for table in (MadeEntry, FactsEntry):
            session.execute(
                update(table)
                .where(col(table.key).in_(some), col(table.used) < month_ago)
                .values(used=now())
            )


def sweep_ledger(session: Session) -> None:
    """Delete entries that were unused for long."""
    old = now() - KEPT
    session.execute(delete(MadeEntry).where(col(MadeEntry.used) < old))
    session.execute(delete(FactsEntry).where(col(FactsEntry.used) < old))
    session.execute(delete(EstimateEntry).where(col(EstimateEntry.used) < old))


def _in_groups(things: Iterable[Any]) -> Iterator[list[Any]]:
    waiting = iter(things)
    while some := list(islice(waiting, _AT_ONCE)):
        yield some

"""What the Sources screen shows: the desk of the site, searched, filtered and sorted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal
from urllib.parse import urlencode

from fastapi import Depends, Query
from sqlmodel import Session

from gefa.store.desk_rows import DeskRow, DeskSum, Standing, desk_rows, summed
from gefa.store.history import Ways
from gefa.store.models import Source
from gefa.store.sources import present
from gefa.web.fields import Fields

PAGE = 120
"""rows sent at once; more follow when they are scrolled to"""
MOST_ROWS = 5_000
SORTS: dict[str, tuple[str, Callable[[DeskRow], Any], bool]] = {
    "new": ("newest first", lambda row: row.brought, True),
    "name": ("name", lambda row: row.name.casefold(), False),
    "in": ("weight in", lambda row: row.bytes, True),
    "out": ("weight out", lambda row: row.out, True),
    "saved": ("saved", lambda row: row.saved or 0.0, True),
    "state": ("state", lambda row: list(Standing).index(row.standing), False),
}
"""by their names in addresses: label, sort key, and whether the order is descending"""
KINDS = {"design": "designs", "picture": "pictures"}


@dataclass(frozen=True)
class DeskQuery:
    """Which rows are shown, and in which order: an address of the screen."""

    view: Literal["wall", "table"] = "wall"
    q: str = ""
    folder: str = ""
    tag: str = ""
    kind: str = ""
    state: str = ""
    sort: str = "new"

    def matches(self, row: DeskRow) -> bool:
        """Every word of ``q`` is in the path or is a tag; a folder includes those below it."""
        words = self.q.casefold().split()
        searched = f"{row.name} {' '.join(row.tags)}".casefold()
        return (
            all(word in searched for word in words)
            and (not self.folder or f"{row.folder}/".startswith(f"{self.folder.strip('/')}/"))
            and (not self.tag or self.tag in row.tags)
            and (not self.kind or row.kind == self.kind)
            and (not self.state or row.standing.value == self.state)
        )

    def found(self, rows: Iterable[DeskRow]) -> list[DeskRow]:
        """The rows that match, in order."""
        _, key, reverse = SORTS.get(self.sort, SORTS["new"])
        return sorted(filter(self.matches, rows), key=key, reverse=reverse)

    @property
    def filters(self) -> dict[str, str]:
        """The filters, as fields of a form."""
        asked = {"q": self.q, "folder": self.folder, "tag": self.tag}
        asked |= {"kind": self.kind, "state": self.state}
        return {name: value for name, value in asked.items() if value}

    def href(self, **other: str) -> str:
        """The address of this view, with some values changed."""
        asked = replace(self, **other)  # type: ignore[arg-type]
        fields = dict(asked.filters)
        if asked.view != "wall":
            fields["view"] = asked.view
        if asked.sort != "new":
            fields["sort"] = asked.sort
        return f"/?{urlencode(fields)}" if fields else "/"


def _query(
    view: Annotated[Literal["wall", "table"], Query()] = "wall",
    q: Annotated[str, Query(max_length=200)] = "",
    folder: Annotated[str, Query(max_length=400)] = "",
    tag: Annotated[str, Query(max_length=60)] = "",
    kind: Annotated[str, Query(max_length=20)] = "",
    state: Annotated[str, Query(max_length=20)] = "",
    sort: Annotated[str, Query(max_length=20)] = "new",
) -> DeskQuery:
    return DeskQuery(view, q.strip(), folder, tag, kind, state, sort)


DeskQueryOf = Annotated[DeskQuery, Depends(_query)]


def query_of(fields: Fields) -> DeskQuery:
    """The filters in a form of the desk."""
    return DeskQuery(
        "table" if fields.text("view") == "table" else "wall",
        fields.text("q"),
        fields.text("folder"),
        fields.text("tag"),
        fields.text("kind"),
        fields.text("state"),
        fields.text("sort") or "new",
    )


def chosen_of(session: Session, fields: Fields) -> list[Source]:
    """The sources that a form names, or all that match its filters; by name."""
    if fields.on("matching"):
        ids = {row.id for row in query_of(fields).found(desk_rows(session))}
    else:
        ids = set(fields.texts("source"))
    return [source for source in present(session) if source.id in ids]


@dataclass(frozen=True)
class Facet:
    """A value to filter by, and the number of rows that have it."""

    value: str
    words: str
    count: int


@dataclass(frozen=True)
class DeskView:
    """The screen: ``rows`` are the first ones, ``after`` is where the next ones start (0 for none),
    ``heaviest`` the scale of the bars in bytes."""

    query: DeskQuery
    everything: DeskSum
    matching: DeskSum
    rows: list[DeskRow]
    after: int
    heaviest: int
    folders: list[Facet]
    tags: list[Facet]
    kinds: list[Facet]
    states: list[Facet]
    recipes: list[str]
    ways: Ways
    due: bool

    @property
    def sorts(self) -> dict[str, str]:
        return {name: words for name, (words, _, _) in SORTS.items()}


def view_of_desk(
    all_rows: Sequence[DeskRow],
    query: DeskQuery,
    recipes: Iterable[str],
    ways: Ways,
    start: int = 0,
    count: int = PAGE,
) -> DeskView:
    found = query.found(all_rows)
    end = start + min(count, MOST_ROWS)
    return DeskView(
        query=query,
        everything=summed(all_rows),
        matching=summed(found),
        rows=found[start:end],
        after=end if end < len(found) else 0,
        heaviest=max((row.out for row in all_rows), default=1) or 1,
        folders=_folders(all_rows),
        tags=_facets(Counter(tag for row in all_rows for tag in row.tags)),
        kinds=[
            Facet(value, words, sum(row.kind == value for row in all_rows))
            for value, words in KINDS.items()
        ],
        states=_states(all_rows),
        recipes=sorted(recipes),
        ways=ways,
        due=any(row.outlook_due for row in all_rows),
    )


def _folders(rows: Iterable[DeskRow]) -> list[Facet]:
    """Every folder, counted with those below it."""
    counts: Counter[str] = Counter()
    for row in rows:
        folder = row.folder
        while folder:
            counts[folder] += 1
            folder = folder.rpartition("/")[0]
    return _facets(counts)


def _facets(counts: Counter[str]) -> list[Facet]:
    return [Facet(value, value, counts[value]) for value in sorted(counts, key=str.casefold)]


def _states(rows: Iterable[DeskRow]) -> list[Facet]:
    counts = Counter(row.standing for row in rows)
    return [Facet(s.value, s.value, counts[s]) for s in Standing if counts[s]]

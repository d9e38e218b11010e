"""Pairs the parts of a design with those of its next revision, and lists what changed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterable
from difflib import SequenceMatcher
from enum import StrEnum

from pydantic import BaseModel, ConfigDict

from gefa.core.geometry import Rect
from gefa.core.read.document import CANVAS_PATH
from gefa.core.read.likeness import ALIKE, difference
from gefa.core.read.survey import PartFacts, Survey

SAME_SIZE = 0.15
"""by how much the sides of two similar parts may differ, as a share"""


class MatchedBy(StrEnum):
    """By what a part was recognised, most reliable first."""

    ID = "id"
    PATH = "path"
    NAME = "name"
    LIKENESS = "likeness"


class PartMatch(BaseModel):
    """A part of the older revision, and the same part in the newer one."""

    model_config = ConfigDict(frozen=True)

    before: str
    after: str
    by: MatchedBy


class Changes(BaseModel):
    """The changes of a revision, as paths; ``before`` maps a new path to the old one."""

    added: list[str] = []
    changed: list[str] = []
    moved: list[str] = []
    gone: list[str] = []
    before: dict[str, str] = {}
    found: list[PartMatch] = []

    @property
    def any(self) -> bool:
        return bool(self.added or self.changed or self.moved or self.gone)

    @property
    def elsewhere(self) -> list[PartMatch]:
        """Parts whose path changed."""
        return [again for again in self.found if again.before != again.after]


def match_parts(older: Survey, newer: Survey) -> list[PartMatch]:
    """Pairs of the same part: by id, then path, then name, then similarity. A part is in at most
    one pair."""
    left = {part.path: part for part in older.parts if part.path != CANVAS_PATH}
    right = {part.path: part for part in newer.parts if part.path != CANVAS_PATH}
    pairs = [PartMatch(before=CANVAS_PATH, after=CANVAS_PATH, by=MatchedBy.PATH)]

    def take(found: Iterable[tuple[str, str]], by: MatchedBy) -> None:
        for before, after in found:
            if before in left and after in right:
                del left[before], right[after]
                pairs.append(PartMatch(before=before, after=after, by=by))

    take(list(_by(lambda part: part.id, left, right)), MatchedBy.ID)
    take([(path, path) for path in left if path in right], MatchedBy.PATH)
    take(list(_by(lambda part: (part.name, part.kind), left, right)), MatchedBy.NAME)
    take(_alike(left, right), MatchedBy.LIKENESS)
    return pairs


def _by(
    key: Callable[[PartFacts], Hashable],
    left: dict[str, PartFacts],
    right: dict[str, PartFacts],
) -> Iterable[tuple[str, str]]:
    """Pairs with the same key, if the key is unique on both sides."""
    counts = [Counter(key(part) for part in side.values()) for side in (left, right)]
    places = {key(part): path for path, part in right.items()}
    for path, part in left.items():
        own = key(part)
        if own and all(count[own] == 1 for count in counts):
            yield path, places[own]


def _alike(left: dict[str, PartFacts], right: dict[str, PartFacts]) -> list[tuple[str, str]]:
    """Pairs with the same or nearly the same pixels, most similar first; a similar name breaks
    ties."""
    scored = []
    for before, a in left.items():
        for after, b in right.items():
            unlike = _unlikeness(a, b)
            if unlike <= ALIKE:
                name = SequenceMatcher(None, a.name.lower(), b.name.lower()).ratio()
                scored.append((unlike, -name, before, after))
    taken: set[str] = set()
    pairs = []
    for _, _, before, after in sorted(scored):
        if f"-{before}" not in taken and f"+{after}" not in taken:
            taken |= {f"-{before}", f"+{after}"}
            pairs.append((before, after))
    return pairs


def _unlikeness(a: PartFacts, b: PartFacts) -> float:
    if a.kind is not b.kind or not a.extent or not b.extent or a.extent.empty or b.extent.empty:
        return 1.0
    if a.fingerprint == b.fingerprint:
        return 0.0
    if not (_near(a.extent.width, b.extent.width) and _near(a.extent.height, b.extent.height)):
        return 1.0
    return difference(a.likeness, b.likeness)


def _near(a: int, b: int) -> bool:
    return abs(a - b) <= max(1, SAME_SIZE * max(a, b))


def compare(older: Survey, newer: Survey) -> Changes:
    """What the newer revision added, changed, moved and dropped."""
    pairs = match_parts(older, newer)
    by_old = {part.path: part for part in older.parts}
    by_new = {part.path: part for part in newer.parts}
    changes = Changes(found=pairs)
    known = {pair.after for pair in pairs}
    changes.added = [path for path in by_new if path not in known]
    kept = {pair.before for pair in pairs}
    changes.gone = [path for path in by_old if path not in kept]
    for pair in pairs:
        a, b = by_old[pair.before], by_new[pair.after]
        if pair.before != pair.after:
            changes.before[pair.after] = pair.before
        if _looks_different(a, b):
            changes.changed.append(pair.after)
        elif _place(a) != _place(b):
            changes.moved.append(pair.after)
    changes.changed = _without_ancestors(changes.changed)
    return changes


def _looks_different(a: PartFacts, b: PartFacts) -> bool:
    if a.fingerprint == b.fingerprint:
        return False
    same_size = (a.extent and a.extent.size) == (b.extent and b.extent.size)
    # Moved drawings have another fingerprint, but the same pixels.
    only_moved = same_size and a.likeness and a.likeness == b.likeness and a.extent != b.extent
    return not only_moved


def _place(part: PartFacts) -> Rect | None:
    return part.extent


def _without_ancestors(paths: list[str]) -> list[str]:
    """Leave out groups that changed only because a child did."""
    return [
        path
        for path in paths
        if not any(
            other != path and (path == CANVAS_PATH or other.startswith(f"{path}/"))
            for other in paths
        )
    ]

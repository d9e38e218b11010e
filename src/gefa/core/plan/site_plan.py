"""One plan for the site, kept in pieces: what all sources share, and what belongs to one.

A piece that belongs to a source says nowhere which: ``composed`` writes its path in, ``divided``
takes it out again.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from gefa.core.cut.glob import escaped, literal
from gefa.core.errors import PlanError
from gefa.core.plan.plan import (
    SHARED,
    CutEntry,
    Entry,
    OriginalsEntry,
    Plan,
    Rule,
    SliceEntry,
    SourcesEntry,
)
from gefa.core.treat.recipe import Recipe


class Pieces(NamedTuple):
    """A plan in pieces: ``shared`` for all sources, without recipes; ``own`` by source path."""

    shared: Plan
    own: dict[str, Plan]
    recipes: dict[str, Recipe]


# -- for one source ----------------------------------------------------------------------


def joined(shared: Plan, own: Plan, source: str) -> Plan:
    """The plan of one source: its own piece, then the shared one.

    Own cuts replace shared cuts of the same part, own slices replace all shared ones. Ids of shared
    entries begin with ``s``.
    """
    for_all = shared.for_source(source)
    decided = {entry.part for entry in own.cuts}
    cuts = [entry for entry in _marked(for_all.cuts) if entry.part not in decided]
    return for_all.model_copy(
        update={
            "default": own.default or for_all.default,
            "rules": (*own.rules, *_marked(for_all.rules)),
            "cuts": (*own.cuts, *cuts),
            "slices": own.slices or tuple(_marked(for_all.slices)),
            "originals": (*own.originals, *for_all.originals),
        }
    )


def own_piece(edited: Plan, before: Plan, own: Plan) -> Plan:
    """The source's own piece of an edited ``joined`` plan; ``before`` is the joined plan before the
    edit.

    A part whose shared cuts were edited has its own cuts from now on; the same holds for slices.
    PlanError if the edit would only remove something that all sources share.
    """
    cuts = _own_cuts(edited.cuts, before.cuts)
    slices = [] if edited.slices == before.slices and not own.slices else list(edited.slices)
    if before.slices and not edited.slices and not own.slices:
        raise PlanError(
            "these slices are for every source.",
            advice="Take them out of the site's plan, or leave single ones out here.",
        )
    kept = own.with_entries(
        rules=[rule for rule in edited.rules if not _is_shared(rule)],
        cuts=_unmarked(cuts),
        slices=_unmarked(slices),
    )
    default = own.default if edited.default == before.default else edited.default
    return kept.model_copy(update={"default": default, "originals": own.originals})


def _own_cuts(edited: Iterable[CutEntry], before: Iterable[CutEntry]) -> list[CutEntry]:
    was, now = _by_part(before), _by_part(edited)
    inherited = {
        part
        for part, entries in now.items()
        if all(map(_is_shared, entries)) and entries == was.get(part)
    }
    return [entry for entry in edited if entry.part not in inherited]


def _by_part(entries: Iterable[CutEntry]) -> dict[str, list[CutEntry]]:
    grouped: dict[str, list[CutEntry]] = defaultdict(list)
    for entry in entries:
        grouped[entry.part].append(entry)
    return grouped


def _marked(entries: Iterable[Entry]) -> list[Entry]:
    return [
        entry.model_copy(update={"id": f"{SHARED}{at}", **_nowhere(entry)})
        for at, entry in enumerate(entries)
    ]


def _unmarked(entries: Iterable[Entry]) -> list[Entry]:
    """Shared entries that become own ones get ids of their own."""
    return [e.model_copy(update={"id": ""}) if _is_shared(e) else e for e in entries]


def _is_shared(entry: Entry) -> bool:
    return entry.id.startswith(SHARED)


def _nowhere(entry: Entry) -> dict[str, None]:
    """Remove the source from an entry."""
    return {"sources" if hasattr(entry, "sources") else "source": None}


# -- whole and in pieces -----------------------------------------------------------------


def composed(pieces: Pieces) -> Plan:
    """The whole plan."""
    shared, own = pieces.shared, pieces.own
    names = sorted(own)
    decided = {(name, entry.part) for name in names for entry in own[name].cuts}
    sliced = {name for name in names if own[name].slices}
    rules, cuts, slices, originals = [], [], [], []
    for name in names:
        glob = escaped(name)
        rules += [rule.model_copy(update={"sources": glob}) for rule in own[name].rules]
        cuts += [entry.model_copy(update={"source": name}) for entry in own[name].cuts]
        slices += [entry.model_copy(update={"source": name}) for entry in own[name].slices]
        originals += [o.model_copy(update={"sources": glob}) for o in own[name].originals]
    cuts += [entry for entry in shared.cuts if (entry.source, entry.part) not in decided]
    slices += [entry for entry in shared.slices if entry.source not in sliced]
    whole = shared.model_copy(
        update={
            "sources": (*_defaults(shared, own), *shared.sources),
            "recipes": dict(sorted(pieces.recipes.items())),
            "originals": (*originals, *shared.originals),
        }
    )
    return _with_new_ids(whole, [*rules, *shared.rules], cuts, slices)


def _with_new_ids(
    plan: Plan,
    rules: Iterable[Rule],
    cuts: Iterable[CutEntry],
    slices: Iterable[SliceEntry],
) -> Plan:
    return plan.with_entries(rules=_blank(rules), cuts=_blank(cuts), slices=_blank(slices))


def _blank(entries: Iterable[Entry]) -> list[Entry]:
    return [entry.model_copy(update={"id": ""}) for entry in entries]


def _defaults(shared: Plan, own: Mapping[str, Plan]) -> list[SourcesEntry]:
    """Entries for sources with a default recipe of their own, one for all that are equal."""
    alike: dict[SourcesEntry, list[str]] = defaultdict(list)
    for name in sorted(own):
        if own[name].default:
            entry = shared.entry_for(name) or SourcesEntry(files=(escaped(name),))
            like = entry.model_copy(update={"files": (), "recipe": own[name].default})
            alike[like].append(escaped(name))
    return [like.model_copy(update={"files": tuple(files)}) for like, files in alike.items()]


@dataclass
class _Piece:
    """Entries for one source, or for all."""

    rules: list[Rule] = field(default_factory=list)
    cuts: list[CutEntry] = field(default_factory=list)
    slices: list[SliceEntry] = field(default_factory=list)
    originals: list[OriginalsEntry] = field(default_factory=list)

    def plan(self, like: Plan) -> Plan:
        plan = _with_new_ids(like, self.rules, self.cuts, self.slices)
        return plan.model_copy(update={"originals": tuple(self.originals)})


def divided(plan: Plan, sources: Collection[str]) -> Pieces:
    """A whole plan in pieces for the sources at these paths. Entries for other sources, or for
    several, are shared."""
    own: dict[str, _Piece] = defaultdict(_Piece)
    shared = _Piece()
    for rule in plan.rules:
        name = _one_of(sources, rule.sources)
        # One that stands below a shared rule comes after it, which own rules never do.
        if name is not None and not shared.rules:
            own[name].rules.append(rule.model_copy(update={"sources": None}))
        else:
            shared.rules.append(rule)
    for cut in plan.cuts:
        if cut.source is not None and cut.source in sources:
            own[cut.source].cuts.append(cut.model_copy(update={"source": None}))
        else:
            shared.cuts.append(cut)
    for entry in plan.slices:
        if entry.source is not None and entry.source in sources:
            own[entry.source].slices.append(entry.model_copy(update={"source": None}))
        else:
            shared.slices.append(entry)
    for stored in plan.originals:
        name = _one_of(sources, stored.sources)
        if name is not None:
            own[name].originals.append(stored.model_copy(update={"sources": None}))
        else:
            shared.originals.append(stored)
    return Pieces(
        shared.plan(plan.model_copy(update={"recipes": {}})),
        {name: piece.plan(Plan()) for name, piece in sorted(own.items())},
        dict(plan.recipes),
    )


def _one_of(sources: Collection[str], glob: str | None) -> str | None:
    """The single source that a glob names."""
    name = literal(glob) if glob is not None else None
    return name if name in sources else None


# -- what is other -----------------------------------------------------------------------


def say_the_same(one: Plan, other: Plan, sources: Collection[str]) -> bool:
    """Whether two plans mean the same for the sources at these paths."""
    return not differences(divided(one, sources), divided(other, sources))


class Difference(NamedTuple):
    """A difference between two plans: of the site or a source, ``what`` differs, and how."""

    of: str
    what: str
    how: str


def differences(before: Pieces, after: Pieces) -> list[Difference]:
    """The changes in ``after``, in words."""
    found = _of_recipes(before.recipes, after.recipes)
    found += _of_piece("the site", before.shared, after.shared)
    for name in sorted(before.own.keys() | after.own.keys()):
        found += _of_piece(name, before.own.get(name, Plan()), after.own.get(name, Plan()))
    return found


def _of_recipes(before: Mapping[str, Recipe], after: Mapping[str, Recipe]) -> list[Difference]:
    told = []
    for name in sorted(before.keys() | after.keys()):
        if name not in after:
            told.append(Difference("recipes", name, "removed"))
        elif name not in before:
            told.append(Difference("recipes", name, "added"))
        elif before[name] != after[name]:
            told.append(Difference("recipes", name, "changed"))
    return told


_COUNTED = {
    "sources": "[[sources]]",
    "rules": "rules",
    "cuts": "cuts by hand",
    "slices": "slices",
    "originals": "originals",
    "pictures": "pictures",
    "pages": "pages",
    "audiences": "audiences",
}


def _of_piece(of: str, before: Plan, after: Plan) -> list[Difference]:
    told = []
    for name, what in (("out", "out folder"), ("default", "default recipe")):
        was, now = getattr(before, name), getattr(after, name)
        if was != now:
            told.append(Difference(of, what, f"{was or 'none'} → {now or 'none'}"))
    old, new = before.model_dump(), after.model_dump()
    for name, what in _COUNTED.items():
        was, now = _without_ids(old[name]), _without_ids(new[name])
        if was != now:
            counts = f"{len(was)} → {len(now)}" if len(was) != len(now) else "changed"
            told.append(Difference(of, what, counts))
    if before.check != after.check:
        told.append(Difference(of, "[check]", "changed"))
    return told


def _without_ids(entries: Iterable[dict[str, object]]) -> list[dict[str, object]]:
    """Plan files show no ids."""
    return [{**entry, "id": ""} for entry in entries]

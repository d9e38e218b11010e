"""Recipe and tags of many sources at once, by the entries of ``[[sources]]``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection

from gefa.core.cut.glob import escaped, literal
from gefa.core.errors import PlanError
from gefa.core.plan.plan import Plan, SourcesEntry

Change = Callable[[SourcesEntry], SourcesEntry]
"""changes ``recipe`` and ``tags``"""
_NONE = SourcesEntry(files=("**",))
"""the entry of a source that no entry matches"""


def treated(plan: Plan, chosen: Collection[str], sources: Collection[str], change: Change) -> Plan:
    """The plan with changed entries for the chosen sources, by path. If all sources of an entry are
    chosen, the entry itself changes, and so covers later sources; otherwise a new entry names the
    sources."""
    deciding = {name: plan.entry_for(name) for name in sources}
    others = {id(deciding[name]) for name in sources if name not in chosen}
    whole = {id(entry) for entry in deciding.values() if entry is not None} - others
    wanted = {name: change(deciding[name] or _NONE) for name in chosen}
    by_name: dict[SourcesEntry, list[str]] = defaultdict(list)
    for name in sorted(chosen):
        if id(deciding[name]) not in whole:
            by_name[wanted[name].model_copy(update={"files": ()})].append(escaped(name))
    entries = [
        change(entry) if id(entry) in whole else entry
        for entry in (
            _without(entry, chosen) if id(entry) not in whole else entry for entry in plan.sources
        )
        if entry is not None
    ]
    named = [like.model_copy(update={"files": tuple(files)}) for like, files in by_name.items()]
    return _tidied(plan.model_copy(update={"sources": (*named, *entries)}), sources)


def _without(entry: SourcesEntry, chosen: Collection[str]) -> SourcesEntry | None:
    """The entry without the chosen sources that it names one by one; None if nothing is left."""
    files = tuple(glob for glob in entry.files if literal(glob) not in chosen)
    if files == entry.files:
        return entry
    return entry.model_copy(update={"files": files}) if files else None


def _tidied(plan: Plan, sources: Collection[str]) -> Plan:
    """Drop entries that name single files and say nothing that would not apply anyway."""
    kept = list(plan.sources)
    for entry in plan.sources:
        names = [literal(glob) for glob in entry.files]
        if not all(name in sources for name in names):
            continue
        rest = plan.model_copy(update={"sources": tuple(e for e in kept if e is not entry)})
        if all(_says(rest.entry_for(name or "")) == _says(entry) for name in names):
            kept = list(rest.sources)
    return plan.model_copy(update={"sources": tuple(kept)})


def _says(entry: SourcesEntry | None) -> tuple[object, ...]:
    said = entry or _NONE
    return said.recipe, said.folder, said.tags


def renamed(plan: Plan, names: dict[str, str]) -> Plan:
    """The plan with new paths for sources, wherever it names one. PlanError if a path is longer
    than a plan may have."""

    def path(name: str | None) -> str | None:
        return names.get(name, name) if name is not None else None

    def glob(given: str | None) -> str | None:
        name = literal(given) if given is not None else None
        return escaped(names[name]) if name in names else given

    changed = plan.model_copy(
        update={
            "sources": tuple(
                e.model_copy(update={"files": tuple(glob(f) for f in e.files)})
                for e in plan.sources
            ),
            "rules": tuple(e.model_copy(update={"sources": glob(e.sources)}) for e in plan.rules),
            "cuts": tuple(e.model_copy(update={"source": path(e.source)}) for e in plan.cuts),
            "slices": tuple(e.model_copy(update={"source": path(e.source)}) for e in plan.slices),
            "originals": tuple(
                e.model_copy(update={"sources": glob(e.sources)}) for e in plan.originals
            ),
        }
    )
    return changed.checked()


def tags_from(text: str) -> tuple[str, ...]:
    """``beach, kites`` as tags. PlanError if one is too long."""
    tags = tuple(dict.fromkeys(" ".join(tag.split()) for tag in text.split(",") if tag.strip()))
    for tag in tags:
        if len(tag) > 60:
            raise PlanError(f"the tag {tag[:20]!r}… is longer than 60 characters.")
    return tags

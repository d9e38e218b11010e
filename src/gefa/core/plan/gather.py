"""Which parts become cuts: by tag, by rule, by hand, or by default."""

from __future__ import annotations

from collections import defaultdict
from difflib import get_close_matches

from gefa.core.cut.cut import Cut, Gathered, Origin, Remark
from gefa.core.cut.glob import covers
from gefa.core.plan.plan import CutEntry, Plan, did_you_mean
from gefa.core.plan.slice_cuts import add_slices
from gefa.core.plan.tag_words import read_words
from gefa.core.read.document import CANVAS_PATH, Kind
from gefa.core.read.part_names import near_tags, tag_name, tidied
from gefa.core.read.survey import PartFacts, Survey

NOTHING_CHOSEN = "the plan chooses no part of it: no tag, no tick, and no rule that matches"
FLAT_DEFAULT = "backdrop"
PART_DEFAULT = "figure"


def gather(source: Survey, plan: Plan, *, default: bool) -> Gathered:
    """All cuts of ``source``.

    Choices by hand replace tags and rules for that part. With ``default``, a source without any
    marks gives every named top-level part, or itself.
    """
    found = Gathered()
    if plan.default is not None and plan.default not in plan.all_recipes:
        hint = did_you_mean(plan.default, plan.all_recipes)
        found.warnings.append(
            _about(CANVAS_PATH, f"unknown default recipe {plan.default!r}. {hint}")
        )
    by_hand = _by_part(plan.cuts)
    for part in source.parts:
        if part.path in by_hand:
            _add_by_hand(part, by_hand.pop(part.path), source, plan, found)
            continue
        tagged = _add_tagged(part, plan, found)
        if not tagged and part.kind is not Kind.CANVAS:
            _add_ruled(part, source, plan, found)
    found.unmatched += [_unmatched_entry(source, missing) for missing in by_hand]
    if source.layered:
        found.unmatched += _unmatched_rules(source, plan)
    add_slices(source, plan, default_recipe(source, source.canvas, plan), found)
    if default and not found.cuts:
        if not _chooses(plan, source):
            _add_default(source, plan, found)
        elif not plan.originals:
            found.left_out.append(_about(CANVAS_PATH, NOTHING_CHOSEN))
    return found


def _chooses(plan: Plan, source: Survey) -> bool:
    """Whether the plan itself chooses cuts of the source. Entries for all sources mean designs: a
    flat picture has no parts they could name."""
    if plan.slices or plan.originals:
        return True
    if source.layered:
        return bool(plan.rules or plan.cuts)
    parts = {part.path for part in source.parts}
    return any(entry.part in parts for entry in plan.cuts)


def _unmatched_entry(source: Survey, path: str) -> Remark:
    reason = f"the source has no part {path!r}.{_closest(path, source)}"
    return Remark(cut=path, part=path, reason=reason)


def _unmatched_rules(source: Survey, plan: Plan) -> list[Remark]:
    paths = [part.path for part in source.parts if part.kind is not Kind.CANVAS]
    return [
        Remark(
            cut=rule.parts,
            part=CANVAS_PATH,
            reason=f"the rule {rule.parts!r} matches no part.{_closest(rule.parts, source)}",
        )
        for rule in plan.rules
        if not any(covers(rule.parts, path) for path in paths)
    ]


def _closest(path: str, source: Survey) -> str:
    paths = [part.path for part in source.parts if part.path != CANVAS_PATH]
    close = get_close_matches(path.replace("*", ""), paths, n=1, cutoff=0.4)
    return f" The closest part is {close[0]!r}." if close else ""


def default_recipe(source: Survey, part: PartFacts, plan: Plan) -> str:
    """The recipe of a part without one: the plan's default, or a built-in one."""
    if plan.default is not None and plan.default in plan.all_recipes:
        return plan.default
    if part.kind is Kind.CANVAS and not source.transparent:
        return FLAT_DEFAULT
    return PART_DEFAULT


def _about(path: str, reason: str) -> Remark:
    return Remark(cut=path, part=path, reason=reason)


def _by_part(entries: tuple[CutEntry, ...]) -> dict[str, list[CutEntry]]:
    grouped: dict[str, list[CutEntry]] = defaultdict(list)
    for entry in entries:
        grouped[entry.part].append(entry)
    return grouped


def _add_by_hand(
    part: PartFacts, entries: list[CutEntry], source: Survey, plan: Plan, found: Gathered
) -> None:
    for index, entry in enumerate(entries):
        if entry.leave_out:
            continue
        recipe = entry.recipe or default_recipe(source, part, plan)
        if recipe not in plan.all_recipes:
            hint = did_you_mean(recipe, plan.all_recipes)
            found.warnings.append(
                Remark(
                    cut=part.path, part=part.path, reason=f"there is no recipe {recipe!r}. {hint}"
                )
            )
            continue
        name = entry.name or part.display_name
        if index and entry.name == entries[0].name:
            name = f"{name}-{recipe}"
        found.cuts.append(
            Cut(
                part=part.path,
                name=name,
                recipe=recipe,
                origin=Origin.HAND,
                size=entry.size,
                quality=entry.quality,
                widths=entry.widths,
                formats=entry.formats,
                as_file=entry.as_file,
                strays=entry.strays,
                entry=entry.id,
                picture=entry.picture or "",
                media=entry.media,
            )
        )


def _add_tagged(part: PartFacts, plan: Plan, found: Gathered) -> bool:
    name = part.display_name
    _tell_near_tags(part, plan, found)
    number = 0
    for written in dict.fromkeys(part.tags):
        tag = tag_name(written)
        if tag not in plan.all_recipes:
            hint = did_you_mean(tag, plan.all_recipes)
            found.warnings.append(
                Remark(
                    cut=part.path, part=part.path, reason=f"the tag #{tag} names no recipe. {hint}"
                )
            )
            continue
        first = written == part.tags[0]
        asked = read_words(part.path, written[len(tag) :])
        found.warnings += [_about(part.path, f"the tag #{tag}: {p}") for p in asked.problems]
        cut = Cut(
            part=part.path,
            name=name if first else f"{name}-{tag}",
            recipe=tag,
            origin=Origin.TAG,
            entry=str(number),
        )
        found.cuts.append(cut.model_copy(update=asked.own))
        number += 1
    return bool(part.tags)


def _tell_near_tags(part: PartFacts, plan: Plan, found: Gathered) -> None:
    """Warn about names with a ``#recipe`` where no tag can stand."""
    for word in near_tags(part.name):
        recipe = word if word in plan.all_recipes else _nearly(word, plan)
        if recipe:
            tidy = tidied(part.name)
            found.warnings.append(
                _about(
                    part.path,
                    f"has #{word} in its name, which is not read as a tag: tags stand at the end,"
                    f" after a space, without other marks. Name it {f'{tidy} #{recipe}'.strip()!r}",
                )
            )


def _nearly(word: str, plan: Plan) -> str:
    close = get_close_matches(word.lower(), plan.all_recipes, n=1, cutoff=0.75)
    return close[0] if close else ""


def _add_ruled(part: PartFacts, source: Survey, plan: Plan, found: Gathered) -> None:
    rule = next((rule for rule in plan.rules if covers(rule.parts, part.path)), None)
    if rule is None:
        return
    if rule.leave_out:
        found.left_out.append(_about(part.path, f"the rule {rule.parts!r} leaves it out"))
        return
    recipe = rule.recipe or default_recipe(source, part, plan)
    if recipe not in plan.all_recipes:
        hint = did_you_mean(recipe, plan.all_recipes)
        found.warnings.append(
            Remark(
                cut=part.path,
                part=part.path,
                reason=f"the rule {rule.parts!r} names no recipe. {hint}",
            )
        )
        return
    found.cuts.append(
        Cut(part=part.path, name=part.display_name, recipe=recipe, origin=Origin.RULE, entry="0")
    )


def _add_default(source: Survey, plan: Plan, found: Gathered) -> None:
    parts = [part for part in source.parts if part.depth == 1] or [source.canvas]
    for part in parts:
        if not part.visible:
            found.left_out.append(
                Remark(
                    cut=part.path,
                    part=part.path,
                    reason="it is hidden; tag it or tick it to export it",
                )
            )
            continue
        found.cuts.append(
            Cut(
                part=part.path,
                name=part.display_name,
                recipe=default_recipe(source, part, plan),
                origin=Origin.DEFAULT,
                entry="0",
            )
        )

"""Reads plans from TOML, and says what is wrong with them."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from pydantic import ValidationError

from gefa.core.cut.shown_size import ShownSize
from gefa.core.errors import PlanError
from gefa.core.plan.pages import PAGE_MODELS
from gefa.core.plan.plan import (
    CellEntry,
    CheckTable,
    CutEntry,
    Guides,
    OriginalsEntry,
    Plan,
    Rule,
    SliceEntry,
    SourcesEntry,
    Split,
    did_you_mean,
)
from gefa.core.plan.problems import MOST_TOLD, Place, located, problems_in_words
from gefa.core.plan.toml_text import read_toml
from gefa.core.treat.recipe import Recipe


@cache
def _keys() -> frozenset[str]:
    """All keys that a plan can have."""
    models = (Plan, SourcesEntry, Rule, CutEntry, SliceEntry, Split, Guides, CellEntry)
    more = (OriginalsEntry, CheckTable, Recipe, ShownSize, *PAGE_MODELS)
    return frozenset(name for model in (*models, *more) for name in model.model_fields)


def load_plan(path: Path) -> Plan:
    """Read a plan file; PlanError names the file, the place and what is wrong."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"cannot be read: {error}.", file=str(path)) from error
    return parse_plan(text, str(path))


def parse_plan(text: str, file: str) -> Plan:
    """The plan in ``text`` (TOML); PlanError as for ``load_plan``."""
    tables = read_toml(text, file)
    try:
        plan = Plan.model_validate(tables)
        problems = unknown_recipes(plan, text)
    except ValidationError as error:
        problems = problems_in_words(error, text, _keys())
    except RecursionError as error:
        raise PlanError("nests lists too deep.", file=file) from error
    if problems:
        advice = "See docs/plan-file.md for what a plan may hold."
        raise PlanError(f"{'; '.join(problems)}.", file=file, advice=advice)
    return plan


def unknown_recipes(plan: Plan, text: str = "") -> list[str]:
    """What is wrong with names of recipes in a plan: those that neither the plan nor Gefa has."""
    known = plan.all_recipes
    named: list[tuple[Place, str | None]] = [(("default",), plan.default)]
    for kind in ("sources", "rules", "cuts", "slices"):
        entries = enumerate(getattr(plan, kind))
        named += [((kind, at, "recipe"), entry.recipe) for at, entry in entries]
    for at, entry in enumerate(plan.slices):
        named += [
            (("slices", at, "cells", cell, "recipe"), one.recipe)
            for cell, one in entry.cells.items()
        ]
    wrong = [(place, name) for place, name in named if name is not None and name not in known]
    told = [
        located(place, f"unknown recipe {name!r}. {did_you_mean(name, known)}", text)
        for place, name in wrong[:MOST_TOLD]
    ]
    return [*told, f"and {len(wrong) - MOST_TOLD:,} more"] if len(wrong) > MOST_TOLD else told

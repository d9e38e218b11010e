"""The plan file: recipes, rules and cuts, as TOML."""

from __future__ import annotations

import tomllib
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from gefa.core.errors import PlanError
from gefa.core.treat.recipe import BUILT_IN, RECIPE_NAME, Recipe


class CutEntry(BaseModel):
    """A part chosen by hand, or left out by hand although a tag or rule asks for it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    part: str = Field(min_length=1)
    name: str | None = Field(default=None, min_length=1, max_length=300)
    recipe: str | None = None
    leave_out: bool = False


class Rule(BaseModel):
    """A glob over part paths that makes cuts by itself; the first that matches wins."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    parts: str = Field(min_length=1)
    recipe: str | None = None
    leave_out: bool = False


class Plan(BaseModel):
    """What is to be made of a source."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    recipes: dict[str, Recipe] = Field(default_factory=dict)
    rules: tuple[Rule, ...] = ()
    cuts: tuple[CutEntry, ...] = ()

    @field_validator("recipes")
    @classmethod
    def _plain_names(cls, recipes: dict[str, Recipe]) -> dict[str, Recipe]:
        for name in recipes:
            if not RECIPE_NAME.fullmatch(name):
                raise ValueError(f"{name!r} is no recipe name: letters, digits, - and _ only")
        return recipes

    @property
    def all_recipes(self) -> dict[str, Recipe]:
        """The plan's own recipes over the built-in ones."""
        return {**BUILT_IN, **self.recipes}

    @property
    def chooses(self) -> bool:
        """Whether the plan itself says what becomes a cut."""
        return bool(self.rules or self.cuts)

    def recipe(self, name: str) -> Recipe:
        """The recipe called ``name``; PlanError with the closest name if there is none."""
        try:
            return self.all_recipes[name]
        except KeyError:
            raise PlanError(
                f"there is no recipe {name!r}.", advice=did_you_mean(name, self.all_recipes)
            ) from None


def did_you_mean(name: str, known: dict[str, Recipe]) -> str:
    """A sentence that names the closest recipe, or all of them."""
    close = get_close_matches(name.lower(), known, n=1, cutoff=0.5)
    if close:
        return f"Did you mean {close[0]!r}?"
    return f"There are: {', '.join(sorted(known))}."


def load_plan(path: Path) -> Plan:
    """Read a plan file; PlanError names the file, the place and what is wrong."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"cannot be read: {error}.", file=str(path)) from error
    return parse_plan(text, str(path))


def parse_plan(text: str, file: str) -> Plan:
    """The plan that ``text`` (TOML) holds; PlanError as for ``load_plan``."""
    try:
        return Plan.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise PlanError(f"is not TOML: {error}.", file=file) from error
    except ValidationError as error:
        raise PlanError(
            "; ".join(_in_words(problem) for problem in error.errors()) + ".",
            file=file,
            advice="See docs/plan-file.md for what a plan may hold.",
        ) from error


def _in_words(problem: Any) -> str:
    place = ".".join(str(step) for step in problem["loc"])
    if problem["type"] == "extra_forbidden":
        return f"{place} is not something a plan holds"
    return f"{place}: {problem['msg'].removeprefix('Value error, ')}"

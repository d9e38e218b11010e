"""The plan file: recipes, rules, cuts, slices and originals, as TOML."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from itertools import count
from pathlib import Path
from typing import Annotated, Any, TypeVar

import tomli_w
from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)

from gefa.core.cut.shown_size import ShownSize
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect
from gefa.core.treat.recipe import BUILT_IN, RECIPE_NAME, OwnQuality, Recipe

MAX_LINES = 2_000
"""columns, rows or guides: a slice of a few px each on the largest canvas"""
MAX_CELLS = 4_000
"""slices of one split: nobody finds their way among more"""
_CELL = re.compile(r"r[1-9]\d*-c[1-9]\d*")
_PERCENT = re.compile(r"\s*+(\d{1,3}(?:\.\d{1,15})?)\s*+%\s*+")
FARTHEST = 100_000
"""px"""

Name = Annotated[str, Field(min_length=1, max_length=300)]
Id = Annotated[str, Field(pattern=r"^[a-z]?[0-9]{0,9}$")]


def _guide(line: object) -> object:
    """A place for a guide: px, or a share of the canvas as a text."""
    percent = _PERCENT.fullmatch(line) if isinstance(line, str) else None
    if percent and float(percent[1]) <= 100:
        return line
    if isinstance(line, int) and not isinstance(line, bool) and 0 <= line <= FARTHEST:
        return line
    raise ValueError(
        f'{line!r} is no place for a guide: give px from 0 to {FARTHEST:,}, or a text from "0%" to'
        ' "100%"'
    )


Line = Annotated[int | str, BeforeValidator(_guide)]


class PlanModel(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class CutEntry(PlanModel):
    """A part chosen by hand, or left out by hand although a tag or rule asks for it.

    ``quality`` stands for this cut instead of its recipe's. ``as_file`` makes files even of what
    CSS could draw; ``strays`` false leaves out objects that lie far off the rest of the part.
    """

    id: Id = ""
    part: str = Field(min_length=1)
    name: Name | None = None
    recipe: str | None = None
    quality: OwnQuality | None = None
    leave_out: bool = False
    size: ShownSize | None = None
    as_file: bool = False
    strays: bool = True


class Rule(PlanModel):
    """A glob over part paths that makes cuts by itself; the first that matches wins."""

    id: Id = ""
    parts: str = Field(min_length=1, max_length=1000)
    recipe: str | None = None
    leave_out: bool = False


class Split(PlanModel):
    """An even split."""

    columns: int = Field(default=1, ge=1, le=MAX_LINES)
    rows: int = Field(default=1, ge=1, le=MAX_LINES)

    @model_validator(mode="after")
    def _countable(self) -> Split:
        _check_cells(self.columns * self.rows)
        return self


class Guides(PlanModel):
    """Lines across the canvas: px, or a text as ``"50%"``."""

    x: tuple[Line, ...] = Field(default=(), max_length=MAX_LINES)
    y: tuple[Line, ...] = Field(default=(), max_length=MAX_LINES)

    @model_validator(mode="after")
    def _countable(self) -> Guides:
        _check_cells((len(self.x) + 1) * (len(self.y) + 1))
        return self


def _check_cells(count: int) -> None:
    if count > MAX_CELLS:
        raise ValueError(f"it makes {count:,} slices; the limit is {MAX_CELLS:,}")


class CellEntry(PlanModel):
    """What one slice of a split has of its own."""

    name: Name | None = None
    recipe: str | None = None
    quality: OwnQuality | None = None
    leave_out: bool = False


class SliceEntry(PlanModel):
    """Many slices, by ``split`` or ``guides``; or one, by ``rect`` (x, y, width, height in px).

    ``cells`` gives single slices of many a name or recipe of their own, by ``"r1-c2"``.
    """

    id: Id = ""
    split: Split | None = None
    guides: Guides | None = None
    rect: tuple[int, int, int, int] | None = None
    name: Name | None = None
    recipe: str | None = None
    quality: OwnQuality | None = None
    cells: dict[str, CellEntry] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _one_way(self) -> SliceEntry:
        ways = [way for way in (self.split, self.guides, self.rect) if way is not None]
        if len(ways) != 1:
            raise ValueError("a slice has one of split, guides and rect")
        if self.rect is not None and (self.rect[2] < 1 or self.rect[3] < 1):
            raise ValueError("a rect is [x, y, width, height], at least 1 px wide and high")
        if self.rect is not None and self.cells:
            raise ValueError("cells belong to a split or to guides")
        for cell in self.cells:
            if not _CELL.fullmatch(cell):
                raise ValueError(f"{cell!r} names no cell; cells are called like r1-c2")
        return self

    @property
    def area(self) -> Rect | None:
        return Rect(*self.rect) if self.rect else None


class OriginalsEntry(PlanModel):
    """Bitmaps stored in the design, exported as stored: those of parts that the glob covers."""

    parts: str = Field(default="**", min_length=1, max_length=1000)


class Plan(PlanModel):
    """What is to be made of a source. ``default`` is the recipe of cuts that name none.

    Its entries have ids, by which edits name them: those that come without one are given one. Plan
    files do not show them.
    """

    default: str | None = None
    recipes: dict[str, Recipe] = Field(default_factory=dict)
    rules: tuple[Rule, ...] = ()
    cuts: tuple[CutEntry, ...] = ()
    slices: tuple[SliceEntry, ...] = ()
    originals: tuple[OriginalsEntry, ...] = ()

    @field_validator("rules", "cuts", "slices")
    @classmethod
    def _with_ids(cls, entries: tuple[Any, ...], info: ValidationInfo) -> tuple[Any, ...]:
        return _named_apart(entries, _PREFIXES[info.field_name or ""])

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
    def marks(self) -> set[str]:
        """Names of the pictures that recipes lay over corners."""
        return {recipe.mark.picture for recipe in self.all_recipes.values() if recipe.mark}

    @property
    def chooses(self) -> bool:
        """Whether the plan itself says what becomes a cut."""
        return bool(self.rules or self.cuts or self.slices or self.originals)

    def among(self, library: Mapping[str, Recipe]) -> Plan:
        """The plan with the recipes of a library beside its own, which come first."""
        return self.model_copy(update={"recipes": {**library, **self.recipes}})

    def recipe(self, name: str) -> Recipe:
        """The recipe called ``name``; PlanError with the closest name if there is none."""
        try:
            return self.all_recipes[name]
        except KeyError:
            raise PlanError(
                f"there is no recipe {name!r}.", advice=did_you_mean(name, self.all_recipes)
            ) from None

    def to_toml(self) -> str:
        """The plan as a plan file."""
        fields = self.model_dump(mode="json", exclude_defaults=True)
        for kind in _PREFIXES:
            for entry in fields.get(kind, ()):
                entry.pop("id", None)
        return tomli_w.dumps(fields)

    def with_entries(self, **entries: Sequence[Any]) -> Plan:
        """The plan with other ``rules``, ``cuts`` or ``slices``, each with an id."""
        named = {kind: _named_apart(tuple(new), _PREFIXES[kind]) for kind, new in entries.items()}
        return self.model_copy(update=named)

    def checked(self) -> Plan:
        """The same plan, validated: edits copy models, which checks nothing. PlanError names what
        cannot be."""
        try:
            return Plan.model_validate(self.model_dump())
        except ValidationError as error:
            raise PlanError("; ".join(problems_in_words(error)) + ".") from error


_PREFIXES = {"rules": "r", "cuts": "e", "slices": ""}
"""of ids: a slice is named by its number, as in ``"0 r1-c2"``"""
Entry = TypeVar("Entry", CutEntry, Rule, SliceEntry)


def _named_apart(entries: tuple[Entry, ...], prefix: str) -> tuple[Entry, ...]:
    """Entries with an id each: what has one keeps it, others get the next numbers."""
    known = (entry.id.removeprefix(prefix) for entry in entries)
    numbers = [int(number) for number in known if number.isdigit()]
    following = count(max(numbers, default=-1) + 1)
    seen: set[str] = set()
    named = []
    for entry in entries:
        own = entry.id.startswith(prefix) and entry.id not in seen and entry.id != ""
        kept = entry if own else entry.model_copy(update={"id": f"{prefix}{next(following)}"})
        seen.add(kept.id)
        named.append(kept)
    return tuple(named)


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
    except RecursionError as error:
        raise PlanError("has lists in lists without end.", file=file) from error
    except ValidationError as error:
        raise PlanError(
            "; ".join(problems_in_words(error)) + ".",
            file=file,
            advice="See docs/plan-file.md for what a plan may hold.",
        ) from error


def problems_in_words(error: ValidationError) -> list[str]:
    """What is wrong with a plan or recipe, each with its place in it. Where there are several ways
    to write something, it is told as what most people write: the last way."""
    problems = error.errors()
    told = [p for p in problems if not any(str(step).startswith("literal[") for step in p["loc"])]
    return [_in_words(problem) for problem in told or problems]


def _in_words(problem: Any) -> str:
    steps = [str(step) for step in problem["loc"]]
    place = ".".join(step for step in steps if "[" not in step and step != "Aim")
    if problem["type"] == "extra_forbidden":
        return f"{place} is not something a plan holds"
    return f"{place}: {problem['msg'].removeprefix('Value error, ')}"

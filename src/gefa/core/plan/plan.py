"""The plan file: recipes, rules, cuts, slices, originals, pictures and pages, as TOML."""

from __future__ import annotations

import re
import threading
from collections import Counter
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from itertools import count
from typing import Annotated, Any, TypeVar

from cachetools import LRUCache
from pydantic import (
    BeforeValidator,
    Field,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)

from gefa.core.cut.glob import covers, literal
from gefa.core.cut.shown_size import ShownSize
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect
from gefa.core.plan import toml_blocks
from gefa.core.plan.pages import (
    AudienceEntry,
    MediaText,
    PageEntry,
    PictureEntry,
    ShownName,
)
from gefa.core.plan.plan_model import Folder, PlanModel, SourcePath
from gefa.core.plan.problems import problems_in_words
from gefa.core.treat.recipe import (
    BUILT_IN,
    RECIPE_NAME,
    OwnFormats,
    OwnQuality,
    OwnWidths,
    Recipe,
)

MAX_RECIPES = 500
"""of a plan; a site has a dozen"""
MAX_RULES = 2_000
MAX_CUTS = 100_000
"""by hand: 3,000 sources with 30 each"""
MAX_LINES = 2_000
"""columns, rows or guides: slices of a few px on the largest canvas"""
MAX_CELLS = 4_000
"""slices of one source; more than a person can handle"""
_CELL = re.compile(r"r[1-9]\d*-c[1-9]\d*")
_PERCENT = re.compile(r"\s*+(\d{1,3}(?:\.\d{1,15})?)\s*+%\s*+")
FARTHEST = 100_000
"""px"""

Name = Annotated[str, Field(min_length=1, max_length=300)]
Id = Annotated[str, Field(pattern=r"^[a-z]?[0-9]{0,9}$")]


def _guide(line: object) -> object:
    """The position of a guide: px, or a share of the canvas as a text."""
    percent = _PERCENT.fullmatch(line) if isinstance(line, str) else None
    if percent and float(percent[1]) <= 100:
        return line
    if isinstance(line, int) and not isinstance(line, bool) and 0 <= line <= FARTHEST:
        return line
    raise ValueError(
        f"{line!r} is not a place for a guide: give px from 0 to {FARTHEST:,}, or a text"
        ' from "0%" to "100%"'
    )


Line = Annotated[int | str, BeforeValidator(_guide)]
Glob = Annotated[str, Field(min_length=1, max_length=1000)]


def _listed(value: object) -> object:
    """A single text is a list of one."""
    return [value] if isinstance(value, str) else value


class SourcesEntry(PlanModel):
    """Settings of every source that one of the globs covers; the first entry that matches a source
    decides. ``recipe`` stands in for the plan's default; ``folder`` is where its files lie in the
    out folder, instead of where the source lies."""

    files: Annotated[tuple[Glob, ...], BeforeValidator(_listed), Field(min_length=1)]
    recipe: str | None = None
    folder: Folder | None = None
    tags: tuple[Annotated[str, Field(min_length=1, max_length=60)], ...] = ()


class CutEntry(PlanModel):
    """A part chosen by hand, or left out by hand although a tag or rule asks for it; of the
    ``source`` at that path, or of every source that has it.

    ``quality``, ``widths`` and ``formats`` stand for this cut instead of its recipe's. ``as_file``
    makes files even of what CSS could draw; ``picture`` names a picture that shows the cut where
    ``media`` holds; ``strays`` false leaves out objects that lie far off the rest of the part.
    """

    id: Id = ""
    source: SourcePath | None = None
    part: str = Field(min_length=1)
    name: Name | None = None
    recipe: str | None = None
    quality: OwnQuality | None = None
    widths: OwnWidths | None = None
    formats: OwnFormats | None = None
    picture: ShownName | None = None
    media: MediaText = ""
    leave_out: bool = False
    size: ShownSize | None = None
    as_file: bool = False
    strays: bool = True


class Rule(PlanModel):
    """A glob over part paths that makes cuts, in the sources that the glob ``sources`` covers, or
    in all; the first that matches wins."""

    id: Id = ""
    sources: Glob | None = None
    parts: str = Field(min_length=1, max_length=1000)
    recipe: str | None = None
    leave_out: bool = False


class Split(PlanModel):
    """An even split: pieces ``gap`` px apart and ``margin`` px from the edges."""

    columns: int = Field(default=1, ge=1, le=MAX_LINES)
    rows: int = Field(default=1, ge=1, le=MAX_LINES)
    gap: int = Field(default=0, ge=0, le=FARTHEST)
    margin: int = Field(default=0, ge=0, le=FARTHEST)

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
    """The settings of one slice of a split."""

    name: Name | None = None
    recipe: str | None = None
    quality: OwnQuality | None = None
    leave_out: bool = False


class SliceEntry(PlanModel):
    """Many slices, by ``split`` or ``guides``; or one, by ``rect`` (x, y, width, height in px).

    ``cells`` gives single slices of many a name or recipe of their own, by ``"r1-c2"``. It goes for
    the ``source`` at that path, or for every one.
    """

    id: Id = ""
    source: SourcePath | None = None
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
            raise ValueError("give a slice one of split, guides or rect")
        if self.rect is not None and (self.rect[2] < 1 or self.rect[3] < 1):
            raise ValueError("write a rect as [x, y, width, height], at least 1 px wide and high")
        if self.rect is not None and self.cells:
            raise ValueError("cells belong to a split or to guides")
        for cell in self.cells:
            if not _CELL.fullmatch(cell):
                raise ValueError(f"{cell!r} is not a cell; cells are named r1-c2 and so on")
        return self

    @property
    def cell_count(self) -> int:
        if self.split is not None:
            return self.split.columns * self.split.rows
        if self.guides is not None:
            return (len(self.guides.x) + 1) * (len(self.guides.y) + 1)
        return 1

    @property
    def area(self) -> Rect | None:
        return Rect(*self.rect) if self.rect else None


class OriginalsEntry(PlanModel):
    """Bitmaps stored in the design, exported as stored: those of parts that the glob covers."""

    sources: Glob | None = None
    parts: str = Field(default="**", min_length=1, max_length=1000)


class CheckTable(PlanModel):
    """Which warnings ``gefa check`` takes for errors: globs over their words. ``max_bytes`` is what
    all files may weigh together, ``max_file_bytes`` each."""

    errors: tuple[Glob, ...] = ()
    max_bytes: int | None = Field(default=None, ge=1)
    max_file_bytes: int | None = Field(default=None, ge=1)


class Plan(PlanModel):
    """What a site makes of its sources. ``default`` is the recipe of cuts that name none; ``out``
    is the folder of the files, relative to the plan's. ``for_source`` gives the part that concerns
    one source.

    Its entries have ids, by which edits name them: those that come without one are given one. Plan
    files do not show them.
    """

    out: Folder | None = None
    default: str | None = None
    sources: tuple[SourcesEntry, ...] = ()
    recipes: dict[str, Recipe] = Field(default_factory=dict)
    rules: tuple[Rule, ...] = ()
    cuts: tuple[CutEntry, ...] = ()
    slices: tuple[SliceEntry, ...] = ()
    originals: tuple[OriginalsEntry, ...] = ()
    pictures: tuple[PictureEntry, ...] = ()
    pages: tuple[PageEntry, ...] = ()
    audiences: tuple[AudienceEntry, ...] = ()
    check: CheckTable = Field(default_factory=CheckTable)

    @field_validator("pictures", "pages", "audiences")
    @classmethod
    def _called_apart(cls, entries: tuple[Any, ...]) -> tuple[Any, ...]:
        names = [getattr(entry, "called", "") or entry.name for entry in entries]
        twice = next((name for name, many in Counter(names).items() if many > 1), None)
        if twice is not None:
            raise ValueError(f"two are named {twice!r}")
        return entries

    @field_validator("rules", "cuts", "slices")
    @classmethod
    def _with_ids(cls, entries: tuple[Any, ...], info: ValidationInfo) -> tuple[Any, ...]:
        return _named_apart(entries, _PREFIXES[info.field_name or ""])

    @field_validator("recipes")
    @classmethod
    def _plain_names(cls, recipes: dict[str, Recipe]) -> dict[str, Recipe]:
        for name in recipes:
            if not RECIPE_NAME.fullmatch(name):
                raise ValueError(f"{name!r} is not a recipe name: use letters, digits, - and _")
        return recipes

    @model_validator(mode="after")
    def _countable(self) -> Plan:
        """Each recipe and rule costs something for each source, and each cell is a cut."""
        for what, number, most in (
            ("recipes", len(self.recipes), MAX_RECIPES),
            ("rules", len(self.rules), MAX_RULES),
            ("cuts", len(self.cuts), MAX_CUTS),
        ):
            if number > most:
                raise ValueError(f"it has {number:,} {what}; the limit is {most:,}")
        cells: Counter[str | None] = Counter()
        for entry in self.slices:
            cells[entry.source] += entry.cell_count
        of_all = cells.pop(None, 0)
        # Slices of its own stand instead of those of all sources.
        _check_cells(max(of_all, *cells.values()) if cells else of_all)
        return self

    @property
    def all_recipes(self) -> dict[str, Recipe]:
        """The plan's own recipes over the built-in ones."""
        return {**BUILT_IN, **self.recipes}

    @property
    def marks(self) -> set[str]:
        """Names of the pictures that recipes lay over corners."""
        return {recipe.mark.picture for recipe in self.all_recipes.values() if recipe.mark}

    def entry_for(self, source: str) -> SourcesEntry | None:
        """The first entry that matches the source's path."""
        return _entries_by_path(self.sources).first(source)

    def for_source(self, source: str) -> Plan:
        """The part of the plan that concerns the source at that path, with its recipe as the
        default. That is what its files depend on, so no pages. Cuts that name the source stand
        instead of those of the same part that name none; so do slices."""
        entry = self.entry_for(source)
        named = {cut.part for cut in self.cuts if cut.source == source}
        sliced = any(one.source == source for one in self.slices)
        return self.model_copy(
            update={
                "default": entry.recipe if entry and entry.recipe else self.default,
                "sources": (entry,) if entry else (),
                "rules": tuple(rule for rule in self.rules if goes_for(rule.sources, source)),
                "cuts": tuple(
                    cut
                    for cut in self.cuts
                    if cut.source == source or (cut.source is None and cut.part not in named)
                ),
                "slices": tuple(
                    one for one in self.slices if one.source == (source if sliced else None)
                ),
                "originals": tuple(o for o in self.originals if goes_for(o.sources, source)),
                **_WITHOUT_PAGES,
            }
        )

    def folder_for(self, source: str) -> str:
        """Where the files of the source at that path lie in the out folder; empty for right in
        it."""
        entry = self.entry_for(source)
        if entry is not None and entry.folder is not None:
            return entry.folder
        return source.rpartition("/")[0]

    def among(self, library: Mapping[str, Recipe]) -> Plan:
        """The plan with a library's recipes added; the plan's own come first."""
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
        return toml_blocks.plan(self.fields())

    def fields(self) -> dict[str, Any]:
        """What a plan file says: as JSON has it, without ids."""
        fields = self.model_dump(mode="json", exclude_defaults=True)
        for kind in _PREFIXES:
            for entry in fields.get(kind, ()):
                entry.pop("id", None)
        return fields

    def with_entries(self, **entries: Sequence[Any]) -> Plan:
        """The plan with new ``rules``, ``cuts`` or ``slices``, each with an id."""
        named = {kind: _named_apart(tuple(new), _PREFIXES[kind]) for kind, new in entries.items()}
        return self.model_copy(update=named)

    def checked(self) -> Plan:
        """The same plan, validated: edits copy models without validation. PlanError names what is
        wrong."""
        try:
            return Plan.model_validate(self.model_dump())
        except ValidationError as error:
            raise PlanError("; ".join(problems_in_words(error)) + ".") from error


def goes_for(glob: str | None, source: str) -> bool:
    """Whether an entry with these ``sources`` applies to the source's path."""
    return glob is None or covers(glob, source)


class _EntriesByPath:
    """The entries of ``[[sources]]``, found by path: there may be as many that name one file as
    there are files."""

    def __init__(self, entries: tuple[SourcesEntry, ...]) -> None:
        self.entries = entries
        self._literal: dict[str, int] = {}
        self._globs: list[tuple[str, int]] = []
        for at, entry in enumerate(entries):
            for glob in entry.files:
                path = literal(glob)
                if path is None:
                    self._globs.append((glob, at))
                else:
                    self._literal.setdefault(path, at)

    def first(self, source: str) -> SourcesEntry | None:
        found = self._literal.get(source, len(self.entries))
        for glob, at in self._globs:
            if at >= found:
                break
            if covers(glob, source):
                found = at
                break
        return self.entries[found] if found < len(self.entries) else None


_BY_PATH: LRUCache[int, _EntriesByPath] = LRUCache(32)
_BY_PATH_LOCK = threading.Lock()


def _entries_by_path(entries: tuple[SourcesEntry, ...]) -> _EntriesByPath:
    """Cached by the tuple's identity: comparing thousands of entries would take as long as
    searching them. The cache keeps the tuple, so its id stays its own."""
    with _BY_PATH_LOCK:
        known = _BY_PATH.get(id(entries))
        if known is None or known.entries is not entries:
            known = _BY_PATH[id(entries)] = _EntriesByPath(entries)
        return known


_WITHOUT_PAGES: dict[str, tuple[()]] = {"pictures": (), "pages": (), "audiences": ()}
_PREFIXES = {"rules": "r", "cuts": "e", "slices": ""}
"""prefixes of ids; a slice is named by its number, as in ``"0 r1-c2"``"""
SHARED = "s"
"""prefix of the ids of entries that all sources share"""
Entry = TypeVar("Entry", CutEntry, Rule, SliceEntry)


def _named_apart(entries: tuple[Entry, ...], prefix: str) -> tuple[Entry, ...]:
    """Entries with an id each: existing ids stay, the others get the next numbers."""
    known = (entry.id.removeprefix(prefix) for entry in entries)
    numbers = [int(number) for number in known if number.isdigit()]
    following = count(max(numbers, default=-1) + 1)
    seen: set[str] = set()
    named = []
    for entry in entries:
        own = entry.id.startswith((prefix, SHARED)) and entry.id not in seen and entry.id != ""
        kept = entry if own else entry.model_copy(update={"id": f"{prefix}{next(following)}"})
        seen.add(kept.id)
        named.append(kept)
    return tuple(named)


def did_you_mean(name: str, known: dict[str, Recipe]) -> str:
    """A sentence with the closest recipe, or all of them."""
    close = get_close_matches(name.lower(), known, n=1, cutoff=0.5)
    if close:
        return f"Did you mean {close[0]!r}?"
    return f"Known: {', '.join(sorted(known))}."

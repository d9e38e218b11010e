"""Names all cuts of a run together, and gives their files paths; no name depends on an order.

Where two would have the same, both get their source's name in front; what is still the same then,
or comes from the same source, takes the path of its part in.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import PurePosixPath

from gefa.core.cut.cut import Remark
from gefa.core.deliver.names import file_path, safe, safe_folder
from gefa.core.make.job import CutJob, OriginalJob, PlannedVariant
from gefa.core.make.stems import plain_stem
from gefa.core.read.embedded import EXTENSIONS
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.recipe import Recipe

CLASH = "its recipe would give two files the same name"
OWN_CLASH = f"{CLASH}; their sizes are put behind it"
"""between files of one cut"""
ORIGINALS = "originals"
"""folder for bitmaps that are exported as stored"""
_TWIN = re.compile(r"~(\d+)$")
"""the number that tells parts of the same name and parent apart"""
_SIZE_FIELD = re.compile(r"[-_.@x]?\{(?:width|height|density)\}")
"""a size in a name template, with the separator before it"""


@dataclass
class _Rivals:
    """Which other cuts want the same name or path: cuts of other sources, cuts of the
    same source."""

    abroad: bool = False
    twins: bool = False


@dataclass(frozen=True)
class _Apart:
    """What a name carries besides the wanted name."""

    source: bool = False
    part: bool = False
    digest: bool = False

    @property
    def any(self) -> bool:
        return self.source or self.part or self.digest

    def further(self, rivals: _Rivals) -> _Apart:
        """Add one more thing, if there are rivals."""
        if rivals.abroad and not self.source:
            return replace(self, source=True)
        if rivals.twins and not self.part:
            return replace(self, part=True)
        return replace(self, digest=True) if rivals.abroad or rivals.twins else self


_PLAIN = _Apart()


@dataclass
class _Item:
    """A cut or an original to be named. ``files`` gives its paths under a name with a suffix;
    ``shows_name`` says that the paths contain the name."""

    kind: str
    source: str
    stem: str
    folder: str
    wanted: str
    part: str
    place: str
    files: Callable[[str, str], Sequence[str]]
    shows_name: bool = True
    apart: _Apart = _PLAIN
    _known: dict[_Apart, Sequence[str]] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return f"{self._readable}-{self._digest}" if self.apart.digest else self._readable

    @property
    def _readable(self) -> str:
        """The name without a digest, which stands at the end of paths."""
        name = safe(self.wanted)
        if self.apart.part:
            *above, own = [segment for segment in self.part.split("/") if segment] or [""]
            twin = _TWIN.search(own)
            name = "-".join([*map(safe, above), name, *([twin[1]] if twin else [])])
        if self.apart.source:
            # A picture that is called after its file is told apart by the folder of that.
            whole = safe(self.stem) == safe(self.wanted)
            front = PurePosixPath(self.source).parent.name if whole else self.stem
            name = f"{safe(front)}-{name}" if front else name
        return name

    @property
    def _digest(self) -> str:
        told = f"{self.source} {self.folder} {self.part} {self.wanted} {self.place}"
        return hashlib.sha256(told.encode()).hexdigest()[:6]

    @property
    def _behind(self) -> str:
        """The suffix of its paths: long names are cut off, so a prefix or an infix would not tell
        them apart. A digest stands there only."""
        if self.apart.any and not self.shows_name:
            return self.name
        return self._digest if self.apart.digest else ""

    @property
    def id(self) -> str:
        """Its name within a run; files are not named by it."""
        return f"{self.kind} {self.folder}/{self.name}".casefold()

    @property
    def paths(self) -> Sequence[str]:
        if self.apart not in self._known:
            self._known[self.apart] = self.files(self._readable, self._behind)
        return self._known[self.apart]


def name_all(
    jobs: Iterable[CutJob],
    originals: Iterable[OriginalJob] = (),
    taken: Collection[str] = (),
) -> tuple[list[CutJob], list[OriginalJob], list[Remark]]:
    """Name the jobs of a run and give their files paths, with a warning for each name that differs
    from the wanted one. ``taken`` are paths of other sources, made or wanted."""
    cut_jobs, taken_out = list(jobs), list(originals)
    cuts = [_cut_item(job) for job in cut_jobs]
    bitmaps = [_original_item(job) for job in taken_out]
    _part(cuts + bitmaps, {path.casefold() for path in taken})
    named = [_named(job, item) for job, item in zip(cut_jobs, cuts, strict=True)]
    placed = [
        job.model_copy(update={"path": item.paths[0]})
        for job, item in zip(taken_out, bitmaps, strict=True)
    ]
    told = [
        Remark(cut=job.cut.name, part=job.cut.key, source=job.source, reason=reason)
        for job, item in zip(named, cuts, strict=True)
        for reason in _told(job, item)
    ]
    return named, placed, told


def wanted_paths(jobs: Iterable[CutJob], originals: Iterable[OriginalJob] = ()) -> list[str]:
    """The paths that cuts would have if there were no others."""
    items = [*map(_cut_item, jobs), *map(_original_item, originals)]
    return sorted({path for item in items for path in item.paths})


def days_in_names(jobs: Iterable[CutJob]) -> dict[str, date]:
    """The days of the sources whose files have the year or month in their paths, by source."""
    dated = [job for job in jobs if "{yyyy}" in job.recipe.name or "{mm}" in job.recipe.name]
    return {job.source: job.day or date.today() for job in dated}


def _part(items: list[_Item], taken: set[str]) -> None:
    """Make all names and all paths different; in rounds, so that order does not matter."""
    for _ in range(3 * len(items) + 1):
        groups: dict[str, list[int]] = defaultdict(list)
        for at, item in enumerate(items):
            for key in {path.casefold() for path in item.paths} | {item.id}:
                groups[key].append(at)
        rivals = [_Rivals() for _ in items]
        for key, members in groups.items():
            if len(members) == 1 and key not in taken:
                continue
            sources = Counter(items[at].source for at in members)
            for at in members:
                rivals[at].abroad |= key in taken or len(sources) > 1
                rivals[at].twins |= sources[items[at].source] > 1
        further = [item.apart.further(seen) for item, seen in zip(items, rivals, strict=True)]
        if further == [item.apart for item in items]:
            return
        for item, apart in zip(items, further, strict=True):
            item.apart = apart


def _cut_item(job: CutJob) -> _Item:
    cut = job.cut
    wanted = cut.name.rpartition("/")[2]
    place = f"{cut.rect} {cut.recipe} {cut.entry} {cut.slice}"

    def files(name: str, behind: str) -> list[str]:
        return _paths(job, name, behind)

    part = cut.part if not cut.rect else ""
    shown = "{cut}" in job.recipe.name
    return _Item("cut", job.source, _stem(job), cut.folder, wanted, part, place, files, shown)


def _original_item(job: OriginalJob) -> _Item:
    facts = job.facts

    def files(name: str, behind: str) -> list[str]:
        called = f"{name}-{behind}" if behind else name
        return [_within(job.folder, f"{ORIGINALS}/{called}.{EXTENSIONS[facts.media_type]}")]

    return _Item(
        "original", job.source, _stem(job), job.folder, facts.name, facts.part, facts.key, files
    )


def _named(job: CutJob, item: _Item) -> CutJob:
    variants = tuple(
        variant.model_copy(update={"path": path})
        for variant, path in zip(job.variants, item.paths, strict=True)
    )
    cut = job.cut.model_copy(update={"name": _within(job.cut.folder, item.name)})
    return job.model_copy(update={"cut": cut, "variants": variants})


def _paths(job: CutJob, name: str, behind: str) -> list[str]:
    """The paths of a job's variants under a name, all different."""
    found = [
        _within(
            job.cut.folder,
            file_path(_template(job.recipe, variant), _fields(job, name, variant), behind),
        )
        for variant in job.variants
    ]
    counts = Counter(path.casefold() for path in found)
    return [
        _sized(path, variant) if counts[path.casefold()] > 1 else path
        for path, variant in zip(found, job.variants, strict=True)
    ]


def _template(recipe: Recipe, variant: PlannedVariant) -> str:
    """The recipe's name template. For the one file of a drawing the sizes are dropped, unless
    nothing else is left."""
    if not FORMATS[variant.format].drawn:
        return recipe.name
    plain = _SIZE_FIELD.sub("", recipe.name)
    told = "{cut}" in plain or "{hash}" in plain
    return plain if told and "/." not in plain and "//" not in plain else recipe.name


def _sized(path: str, variant: PlannedVariant) -> str:
    return path.removesuffix(f".{FORMATS[variant.format].extension}") + _size_of(variant)


def _fields(job: CutJob, name: str, variant: PlannedVariant) -> dict[str, str]:
    recipe: Recipe = job.recipe
    day = job.day or date.today()
    return {
        "cut": name,
        "source": _stem(job),
        "width": str(variant.width),
        "height": str(variant.height),
        "density": recipe.density_of(variant.width),
        "yyyy": f"{day:%Y}",
        "mm": f"{day:%m}",
        "format": variant.format.value,
        "ext": FORMATS[variant.format].extension,
        "hash": variant.key[:8],
    }


def _within(folder: str, path: str) -> str:
    """A path below a folder, each level of it made safe."""
    levels = safe_folder(folder)
    return f"{levels}/{path}" if levels else path


def _stem(job: CutJob | OriginalJob) -> str:
    return job.stem or plain_stem(job.source)


def _told(job: CutJob, item: _Item) -> list[str]:
    """The warning about a cut whose files are not named as its recipe says."""
    told = []
    if any(path.endswith(_size_of(v)) for path, v in zip(item.paths, job.variants, strict=True)):
        told.append(OWN_CLASH)
    if item.apart.any and "{cut}" not in job.recipe.name:
        told.append(f"{CLASH}, since it has no {{cut}} in it; the cut is put behind it")
    elif item.apart.any:
        told.append(
            f"is called {job.cut.name}, since another cut is called {safe(item.wanted)} too; "
            + _advice(item.apart)
        )
    return told


def _advice(apart: _Apart) -> str:
    if apart.part and not apart.source:
        return "rename one of the two parts"
    return "rename one of them, or give their sources different folders"


def _size_of(variant: PlannedVariant) -> str:
    return f"-{variant.width}x{variant.height}.{FORMATS[variant.format].extension}"

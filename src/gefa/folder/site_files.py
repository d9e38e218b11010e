"""The files of a site: found on the disk, and called by their paths within it."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from gefa.core.cut.cut import Remark
from gefa.core.cut.glob import covers
from gefa.core.deliver.manifest import MANIFEST
from gefa.core.errors import PlanError
from gefa.core.files import real
from gefa.core.make.own_files import PLACED, OwnFiles
from gefa.core.make.stems import stems
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import error_of
from gefa.core.plan.unknown_names import unknown_sources
from gefa.core.read.zips import is_pack, unpack

PLAN_FILE = "gefa.toml"
DATA = ".gefa"
"""the application's folder in a repository"""
ENDINGS = frozenset(
    {
        *(".ora", ".svg", ".svgz", ".png", ".jpg", ".jpeg", ".webp", ".avif", ".gif"),
        *(".tif", ".tiff", ".heic", ".heif"),
    }
)
"""of files to look for in folders; named files may have any ending"""
_NEVER = frozenset({"node_modules", "__pycache__"})
"""folders where nobody keeps pictures of their own"""
MOST_FILES = 20_000
MAX_NAME = 1_000
"""characters of a path"""


@dataclass(frozen=True)
class SiteFile:
    """A source on disk. ``name`` is its path within the site, with ``/``; ``inside`` says that it
    lies in the site's folder, so that its files keep its place."""

    path: Path
    name: str
    inside: bool = False

    def folder_by(self, plan: Plan) -> str:
        """The folder for its files, within the out folder."""
        return plan.folder_for(self.name) if self.inside else ""


def plan_above(start: Path) -> Path | None:
    """The nearest plan file, in this folder or one above it."""
    start = real(start)
    for folder in (start, *start.parents):
        if (folder / PLAN_FILE).is_file():
            return folder / PLAN_FILE
    return None


def named(paths: Sequence[Path], base: Path | None = None) -> list[SiteFile]:
    """Files by their paths within ``base``; files outside, or all without a base, by their own
    names, or by whole paths if two share a name."""
    distinct = list(dict.fromkeys(paths))
    inside = {path: _within(path, base) for path in distinct} if base is not None else {}
    others = Counter(path.name for path in distinct if not inside.get(path))
    files = []
    for path in distinct:
        name = inside.get(path, "")
        if name:
            files.append(SiteFile(path, name, inside=True))
        else:
            files.append(SiteFile(path, path.name if others[path.name] == 1 else str(path)))
    return files


def listed(
    paths: Sequence[Path], base: Path | None, place_for: Callable[[Path], Path]
) -> list[SiteFile]:
    """Files as ``named`` calls them, with the files of zips in their place: those keep their
    folders. ``place_for`` gives a folder to unpack a zip into."""
    packed = [path for path in paths if path.is_file() and is_pack(path)]
    files = named([path for path in paths if path not in packed], base)
    taken = {file.name for file in files}
    for pack in packed:
        place = place_for(pack)
        for path in unpack(pack, place):
            name = path.relative_to(place).as_posix()
            if name in taken:
                name = f"{pack.stem}/{name}"
            taken.add(name)
            files.append(SiteFile(path, name, inside=True))
    return files


def _within(path: Path, base: Path) -> str:
    try:
        return real(path).relative_to(real(base)).as_posix()
    except ValueError:
        return ""


def out_folder(name: str, base: Path) -> Path:
    """The folder that a plan in ``base`` names for its files. PlanError unless that lies below
    ``base``, also where links lead elsewhere, and is not hidden."""
    folder = base / name
    inside = real(folder)
    problem = ""
    if not inside.is_relative_to(real(base)):
        problem = f"leads to {inside}, which is not inside {base}"
    elif inside == real(base):
        problem = "is the folder of the site itself"
    elif any(level.startswith(".") for level in inside.relative_to(real(base)).parts):
        problem = "is a hidden folder"
    if problem:
        raise PlanError(
            f'out = "{name}" {problem}.',
            file=PLAN_FILE,
            advice='Name a folder of its own inside the site, such as out = "img".',
        )
    return folder


def refuse_sources_in(out: Path, sources: Iterable[Path]) -> None:
    """PlanError if one of the sources lies in ``out``: files are made there, and would become
    sources themselves."""
    resolved = real(out)
    held = next((path for path in sources if real(path).is_relative_to(resolved)), None)
    if held is not None:
        raise PlanError(
            f"holds the source {held}.",
            file=str(out),
            advice='Choose a folder without sources for the files, such as out = "img".',
        )


def site_files(plan: Plan, base: Path, out: Path) -> list[SiteFile]:
    """The sources of a plan: the matches of its ``[[sources]]``, or every readable file below its
    folder, but none that was made in ``out``. PlanError if there are none, or if ``out`` holds
    some."""
    globs = [glob for entry in plan.sources for glob in entry.files]
    # Without globs, pictures in an out folder are whatever lies beside the files made there.
    kept = globs or not (out / MANIFEST).exists()
    found = [
        file
        for file in named(list(files_below(base, without=[] if kept else [out])), base)
        if not globs or any(covers(glob, file.name) for glob in globs)
    ]
    refuse_sources_in(out, [file.path for file in found])
    if not found:
        what = "match nothing" if globs else "there is no picture or design"
        raise PlanError(
            f"its sources {what} in {base}." if globs else f"{what} in {base}.",
            file=PLAN_FILE,
            advice='Name files in [[sources]], as files = "photos/**/*.jpg".',
        )
    return sorted(found, key=lambda file: file.name)


def folders_below(folder: Path, without: Collection[Path] = ()) -> Iterator[Path]:
    """The folder and those below it that may contain sources. Links are not followed; hidden
    folders and ``without`` are left out."""
    barred = {real(path) for path in without}
    for place, folders, _ in os.walk(folder):
        here = Path(place)
        folders[:] = sorted(
            name
            for name in folders
            if not name.startswith(".") and name not in _NEVER and real(here / name) not in barred
        )
        yield here


def looks_like_source(path: Path) -> bool:
    """Whether a file has the ending of a picture or design."""
    return not path.name.startswith(".") and path.suffix.lower() in ENDINGS


def name_problem(name: str) -> str:
    """Why no plan could name a source that is called so; empty if one can."""
    if name.isprintable() and len(name) <= MAX_NAME:
        return ""
    return (
        f"has a name with characters that cannot be shown, or longer than {MAX_NAME:,} characters."
        " Rename the file."
    )


def files_below(folder: Path, without: Collection[Path] = ()) -> Iterator[Path]:
    """Every file below a folder that looks like a picture or a design, folder by folder; links are
    left out, and what Gefa made. PlanError if there are too many."""
    count = 0
    makers: dict[Path, OwnFiles] = {}
    for here in folders_below(folder, without):
        if _is_out_folder(here):
            makers[here] = OwnFiles(here)
        for path in _pictures_in(here, makers):
            count += 1
            if count > MOST_FILES:
                raise PlanError(
                    f"has more than {MOST_FILES:,} pictures and designs.",
                    file=str(folder),
                    advice="List the ones you want in [[sources]] of a gefa.toml.",
                )
            yield path


def stems_on_disk(files: Iterable[SiteFile], plan: Plan) -> dict[str, str]:
    """The stems of those files, by name, that share theirs with another file beside them: with one
    that the plan's ``[[sources]]`` cover, or without those with any picture or design."""
    globs = [glob for entry in plan.sources for glob in entry.files]
    found: dict[str, str] = {}
    by_place: dict[Path, list[SiteFile]] = defaultdict(list)
    for file in files:
        by_place[file.path.parent].append(file)
    for place, here in by_place.items():
        folder = here[0].name.rpartition("/")[0]
        beside = {
            path.name
            for path in _pictures_in(place, _makers_above(place))
            if not globs or any(covers(glob, f"{folder}/{path.name}".lstrip("/")) for glob in globs)
        }
        shared = stems(beside | {file.path.name for file in here})
        found |= {f.name: shared[f.path.name] for f in here if f.path.name in shared}
    return found


def _makers_above(place: Path) -> dict[Path, OwnFiles]:
    """What Gefa made in the folder or those above it, by out folder."""
    place = real(place)
    return {out: OwnFiles(out) for out in (place, *place.parents) if _is_out_folder(out)}


def _is_out_folder(folder: Path) -> bool:
    return (folder / MANIFEST).is_file() or (folder / PLACED).is_file()


def _pictures_in(place: Path, makers: Mapping[Path, OwnFiles]) -> list[Path]:
    """The pictures and designs in a folder; without links, and without what Gefa made."""
    try:
        found = sorted(path for path in place.iterdir() if looks_like_source(path))
    except OSError:
        return []  # a folder that may not be looked into has nothing for us
    return [p for p in found if not p.is_symlink() and p.is_file() and not _is_made(p, makers)]


def _is_made(path: Path, makers: Mapping[Path, OwnFiles]) -> bool:
    """Whether one of the exports into a folder above made the file."""
    return any(
        own.has(path.relative_to(out).as_posix())
        for out, own in makers.items()
        if path.is_relative_to(out)
    )


def unmatched(plan: Plan, files: Sequence[SiteFile]) -> list[Remark]:
    """The plan's sources that do not exist, each with the closest one that does."""
    names = [file.name for file in files]
    told = []
    for entry in plan.sources:
        told += [
            _missing(glob, f"[[sources]] {glob!r} matches no file", names)
            for glob in entry.files
            if not any(covers(glob, name) for name in names)
        ]
    for rule in plan.rules:
        if rule.sources and not any(covers(rule.sources, name) for name in names):
            what = f"the rule {rule.parts!r} is for the sources {rule.sources!r}: there is none"
            told.append(_missing(rule.sources, what, names))
    return told


def refuse_unknown_sources(plan: Plan, files: Sequence[SiteFile], plan_file: Path) -> None:
    """PlanError if cuts or slices of a plan are for sources that the site does not have, each with
    its line and the closest source."""
    wrong = list(unknown_sources(plan, {file.name for file in files}))
    if wrong:
        raise error_of(wrong, str(plan_file), plan_file.read_text("utf-8", "replace"))


def _missing(wanted: str, reason: str, names: Sequence[str]) -> Remark:
    close = get_close_matches(wanted.replace("*", ""), names, n=1, cutoff=0.4)
    hint = f". The closest is {close[0]!r}" if close else ""
    return Remark(cut=wanted, reason=f"{reason}{hint}")

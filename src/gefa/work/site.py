"""The files of a site: found on the disk, and called by their paths within it."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from gefa.core.cut.cut import Remark
from gefa.core.cut.glob import covers
from gefa.core.errors import PlanError
from gefa.core.plan.plan import Plan
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
    start = start.resolve()
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
        return path.resolve().relative_to(base.resolve()).as_posix()
    except ValueError:
        return ""


def site_files(plan: Plan, base: Path, out: Path) -> list[SiteFile]:
    """The sources of a plan: the matches of its ``[[sources]]``, or every readable file below its
    folder; never files in ``out``. PlanError if there are none."""
    globs = [glob for entry in plan.sources for glob in entry.files]
    if not globs and base.resolve().is_relative_to(out.resolve()):
        raise PlanError(
            "the files would lie among its sources, and become sources themselves.",
            file=PLAN_FILE,
            advice='Name another folder, as out = "img", or the sources in [[sources]].',
        )
    found = [
        file
        for file in named(list(files_below(base, without=[out])), base)
        if not globs or any(covers(glob, file.name) for glob in globs)
    ]
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
    barred = {path.resolve() for path in without}
    for place, folders, _ in os.walk(folder):
        here = Path(place)
        folders[:] = sorted(
            name
            for name in folders
            if not name.startswith(".")
            and name not in _NEVER
            and (here / name).resolve() not in barred
        )
        yield here


def looks_like_source(path: Path) -> bool:
    """Whether a file has the ending of a picture or design."""
    return not path.name.startswith(".") and path.suffix.lower() in ENDINGS


def files_below(folder: Path, without: Collection[Path] = ()) -> Iterator[Path]:
    """Every file below a folder that looks like a picture or a design, folder by folder; links are
    left out. PlanError if there are too many."""
    count = 0
    for here in folders_below(folder, without):
        try:
            found = sorted(path for path in here.iterdir() if looks_like_source(path))
        except OSError:
            continue  # a folder that may not be looked into has nothing for us
        for path in found:
            if path.is_symlink() or not path.is_file():
                continue
            count += 1
            if count > MOST_FILES:
                raise PlanError(
                    f"has more than {MOST_FILES:,} pictures and designs.",
                    file=str(folder),
                    advice="List the ones you want in [[sources]] of a gefa.toml.",
                )
            yield path


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
    for kind, entries in (("[[cuts]]", plan.cuts), ("[[slices]]", plan.slices)):
        told += [
            _missing(entry.source, f"{kind} speaks of {entry.source!r}, which is not there", names)
            for entry in entries
            if entry.source is not None and entry.source not in names
        ]
    return told


def _missing(wanted: str, reason: str, names: Sequence[str]) -> Remark:
    close = get_close_matches(wanted.replace("*", ""), names, n=1, cutoff=0.4)
    hint = f". The closest is {close[0]!r}" if close else ""
    return Remark(cut=wanted, reason=f"{reason}{hint}")

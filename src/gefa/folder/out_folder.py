"""The folder that an export writes into: what it held before, and what has to go."""

from __future__ import annotations

import fcntl
import os
import shutil
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.deliver.named_pictures import picture_records
from gefa.core.deliver.sprite import drawing_of, sprite_file
from gefa.core.errors import PlanError, SourceError, TakenPath
from gefa.core.files import real, write_whole
from gefa.core.make.folder_shelf import FRESH
from gefa.core.make.own_files import HIDDEN, OwnFiles, Sources
from gefa.core.plan.pages import PictureEntry
from gefa.core.read.scratch import Scratch, sweep

LOCK = "export.lock"
RECORD = f"{HIDDEN}/last-export"
"""file inside the out folder with digests of what the last export saw and left"""
SCRATCH = f"{HIDDEN}/scratch"
"""folder inside the out folder for copies of large pictures"""


def make_ready(out: Path, overwrite: Sequence[str] = ()) -> None:
    """Create the folder. PlanError if it is not writable, or somebody else keeps a manifest in
    it which may not be overwritten."""
    manifest = out / MANIFEST
    foreign = os.path.lexists(manifest) and not OwnFiles(out).has(MANIFEST)
    if foreign and MANIFEST not in overwrite:
        raise PlanError(
            "is not one of Gefa's manifests, and Gefa would have to replace it.",
            file=str(manifest),
            advice=f"Choose another out folder, or allow it: --overwrite {manifest}",
        )
    if (out / HIDDEN).is_symlink():
        raise PlanError("is a link.", file=str(out / HIDDEN), advice="Remove the link.")
    try:
        out.mkdir(parents=True, exist_ok=True)
        (out / RECORD).unlink(missing_ok=True)  # this export may be stopped, and leave anything
        # Git leaves alone what is here: the manifest is all that a checkout needs.
        write_whole(out / HIDDEN / ".gitignore", b"*\n")
    except OSError as error:
        raise PlanError(
            f"cannot be written to: {error.strerror or error}.",
            file=str(out),
            advice="Name another folder with --out.",
        ) from error


@contextmanager
def alone_in(out: Path, waits: Callable[[], None] = lambda: None) -> Iterator[None]:
    """While nobody else writes files into ``out``: one export would clear away what another is
    making. ``waits`` is called if somebody does."""
    with (out / HIDDEN / LOCK).open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            waits()
            fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def sources_gone(before: Manifest | None, files: Collection[str]) -> set[str]:
    """Names of sources that were exported before and are not among ``files``."""
    return {name for name in (before.sources if before else []) if name not in files}


def no_longer_made(
    before: Manifest | None, again: Collection[str], manifest: Manifest
) -> list[tuple[str, str]]:
    """Cut and path of files that these sources no longer make. Files of a failed source or cut
    stay."""
    failing = {remark.cut for remark in manifest.failed}
    unread = failing & set(again)
    if before is None:
        return []
    present = {file.path for file in manifest.files}
    present |= {file.path for file in manifest.originals}
    ours = set(again) - unread
    files = [(f.cut, f.path) for f in before.files if f.source in ours and f.cut not in failing]
    files += [(file.name, file.path) for file in before.originals if file.source in ours]
    present |= {sprite.path for sprite in manifest.sprites}
    files += [("sprite", sprite.path) for sprite in before.sprites if not failing]
    return [(cut, path) for cut, path in files if path not in present]


def left_by_stopped(own: OwnFiles, manifest: Manifest) -> list[tuple[str, str]]:
    """Cut and path of files that exports which were stopped have placed, and that nothing makes any
    more. The cut is not known."""
    return [("", path) for path in own.stopped(manifest.paths)]


def carry_over(before: Manifest | None, again: Collection[str], manifest: Manifest) -> None:
    """Keep in a manifest the files of sources that are not made ``again``."""
    if before is None:
        return
    manifest.cuts += [cut for cut in before.cuts if cut.source not in again]
    manifest.originals += [file for file in before.originals if file.source not in again]
    manifest.extras = before.extras
    manifest.memory += [memory for memory in before.memory if memory.source not in again]
    manifest.days |= {name: day for name, day in before.days.items() if name not in again}
    manifest.files += [
        file.model_copy(update={"reused": True})
        for file in before.files
        if file.source not in again
    ]


def put_sprites(own: OwnFiles, out: Path, manifest: Manifest) -> None:
    """Write the sprites of a manifest. If a drawing cannot be read, or somebody else's file lies
    there, the sprite fails and the old file stays."""
    for sprite in manifest.sprites:
        try:
            data = sprite_file(sprite, lambda cut: _drawing(out, manifest, cut))
            own.write(sprite.path, data)
        except (OSError, SourceError, TakenPath) as error:
            manifest.failed.append(Remark(cut=sprite.path, reason=str(error)))


def name_pictures(manifest: Manifest, entries: Iterable[PictureEntry]) -> None:
    """Add the pictures of the plan to a manifest, and a warning for each that cannot be shown."""
    manifest.pictures, problems = picture_records(manifest, entries)
    manifest.warnings += [Remark(cut="pictures", reason=problem) for problem in problems]


def _drawing(out: Path, manifest: Manifest, cut: str) -> bytes:
    file = drawing_of(manifest, cut)
    assert file is not None
    return (out / file.path).read_bytes()


def is_removable(out: Path, path: str, sources: Sources) -> bool:
    """Whether a path lies inside ``out``, also where links lead elsewhere, and is no source."""
    file = out / path
    return real(file.parent).is_relative_to(real(out)) and sources.at(file) is None


def remove(out: Path, path: str, sources: Sources) -> None:
    """Delete a file and the folders this empties; never anything outside, and no source, whatever a
    manifest says."""
    file = out / path
    if not is_removable(out, path, sources):
        return
    file.unlink(missing_ok=True)
    for folder in file.parents:
        if folder == out or not folder.is_relative_to(out):
            return
        try:
            folder.rmdir()
        except OSError:  # something else lies in it
            return


def tidy(out: Path) -> None:
    """Delete what was needed only during the export."""
    shutil.rmtree(out / FRESH, ignore_errors=True)
    shutil.rmtree(out / HIDDEN / "unpacked", ignore_errors=True)
    Scratch(out / SCRATCH).drop_copies()
    sweep(out / SCRATCH)

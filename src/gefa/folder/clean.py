"""``gefa clean``: files in an out folder that Gefa made and that nothing makes any more."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from pydantic import BaseModel

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.files import sha256_or_empty, write_whole
from gefa.core.make.own_files import OwnFiles, Sources, previous
from gefa.core.plan.plan import Plan
from gefa.folder.check import expected_paths
from gefa.folder.dry_run import foreseen
from gefa.folder.out_folder import alone_in, is_removable, make_ready, remove
from gefa.folder.site_files import SiteFile
from gefa.work.pool import Pool


class LeftOver(BaseModel):
    """A file that nothing makes any more. One that was ``edited`` since it was made is not Gefa's
    to remove."""

    path: str
    bytes: int
    edited: bool


def left_over(
    pool: Pool, sources: Sequence[SiteFile], plan: Plan, out: Path, *, marks: Path, plan_file: Path
) -> list[LeftOver]:
    """The files that exports into ``out`` have made and that the plan no longer makes; none of
    those whose sources cannot be read."""
    found = foreseen(pool, sources, plan, out, marks=marks, plan_file=plan_file)
    before = found.planned.before or Manifest(sources=[])
    expected = expected_paths(found, before)
    digests = {file.path: file.sha256 for file in before.files}
    digests |= {file.path: file.sha256 for file in before.originals}
    stopped = dict.fromkeys(OwnFiles(out).stopped(), "")
    return [
        LeftOver(
            path=path,
            bytes=(out / path).stat().st_size,
            edited=bool(sha256) and sha256_or_empty(out / path) != sha256,
        )
        for path, sha256 in sorted((stopped | digests).items())
        if path not in expected
        and (out / path).is_file()
        and is_removable(out, path, found.planned.never)
    ]


def clear_away(
    pool: Pool, sources: Sequence[SiteFile], plan: Plan, out: Path, *, marks: Path, plan_file: Path
) -> list[LeftOver]:
    """Remove what is left over, and what the manifest says of it. Returns what was left over."""
    if not out.is_dir():
        return []
    make_ready(out)
    with alone_in(out):  # an export may have made some of it again since somebody looked
        files = left_over(pool, sources, plan, out, marks=marks, plan_file=plan_file)
        manifest = previous(out)
        if manifest is not None and files:
            _forget(manifest, {file.path for file in files})
            write_whole(out / MANIFEST, manifest.to_json().encode())
        for file in files:
            if not file.edited:
                remove(out, file.path, Sources(source.path for source in sources))
    return files


def _forget(manifest: Manifest, paths: set[str]) -> None:
    """Take files out of a manifest, and cuts that have none left."""
    manifest.files = [file for file in manifest.files if file.path not in paths]
    manifest.originals = [file for file in manifest.originals if file.path not in paths]
    kept = {(file.source, file.cut) for file in manifest.files}
    manifest.cuts = [cut for cut in manifest.cuts if cut.css or (cut.source, cut.name) in kept]
    kept |= {(cut.source, cut.name) for cut in manifest.cuts}
    manifest.memory = [one for one in manifest.memory if (one.source, one.cut) in kept]

"""Whether anything has changed since the last export: if not, there is nothing to do.

This loads no database and opens no source: it only compares the times and sizes of files.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from pathlib import Path

import gefa
from gefa.core.deliver.manifest import Manifest
from gefa.core.files import stamp, write_whole
from gefa.core.make.own_files import previous
from gefa.core.plan.plan import Plan
from gefa.core.treat.encode import ENCODER
from gefa.folder.out_folder import RECORD
from gefa.folder.site_files import SiteFile


def inputs_of(
    sources: Sequence[SiteFile], plan: Plan, marks: Path, options: Sequence[object]
) -> str:
    """A digest of all that an export depends on. It has to be taken before sources are read: what
    is saved later is for the next export."""
    files = sorted((file.name, str(file.path), file.inside, *stamp(file.path)) for file in sources)
    # Other files beside a source can change the names of its files.
    folders = sorted({(str(f.path.parent), stamp(f.path.parent)) for f in sources})
    told = [
        _program(),
        plan.model_dump_json(),
        [str(option) for option in options],
        files,
        folders,
        [(name, stamp(marks / name)) for name in sorted(plan.marks)],
    ]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


def unchanged(out: Path, inputs: str) -> Manifest | None:
    """The manifest of the last export, if that had the same inputs and all its files are as it left
    them. All files count as reused, and none as dropped."""
    try:
        record = (out / RECORD).read_text("ascii")
    except (OSError, UnicodeDecodeError):
        return None
    before = previous(out) if record.startswith(inputs) else None
    if before is None or record != f"{inputs} {_outputs(out, before)}":
        return None
    before.files = [file.model_copy(update={"reused": True}) for file in before.files]
    before.dropped = []
    return before


def note(out: Path, inputs: str, made: Manifest) -> None:
    """Note that an export with these inputs has just ended; one in which something failed is to be
    tried again."""
    if made.failed:
        (out / RECORD).unlink(missing_ok=True)
    else:
        write_whole(out / RECORD, f"{inputs} {_outputs(out, made)}".encode())


def _outputs(out: Path, manifest: Manifest) -> str:
    files = [(path, stamp(out / path)) for path in sorted(manifest.paths)]
    return hashlib.sha256(json.dumps(files).encode()).hexdigest()


def _program() -> list[object]:
    """What this version of Gefa and of its encoders is."""
    code = Path(gefa.__file__).parent
    modules = [file.stat() for file in code.rglob("*.py")]
    newest = max(found.st_mtime_ns for found in modules)
    size = sum(found.st_size for found in modules)
    return [gefa.__version__, ENCODER, newest, size]

"""The calls to the processes of an export, one for each source."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from gefa.core.deliver.manifest import OriginalFile
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FRESH, DraftShelf, Kept
from gefa.core.make.job import CutJob, OriginalJob
from gefa.core.make.make_cut import carry_out, take_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.pdf import pdf_of
from gefa.core.make.prepare import survey_for
from gefa.core.make.report import JobReport
from gefa.core.make.sampling import Foretold, look_at
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.scratch import Scratch
from gefa.core.read.survey import Survey, survey
from gefa.folder.out_folder import SCRATCH


def survey_source(path: Path, name: str, plan: Plan, whole: bool, scratch: Path) -> Survey:
    """In a worker process: read a source and measure what the plan cuts, or all of it."""
    document = _opened(path, name, _stamp(path), scratch)
    return survey(document) if whole else survey_for(document, plan)


def make_cut(
    path: Path,
    name: str,
    job: CutJob,
    out: Path,
    known: Kept,
    taken: Mapping[str, str],
    threads: int = 1,
    mark: Path | None = None,
) -> JobReport:
    """In a worker process: make the files of one cut, of which some are ``known``; paths that are
    ``taken`` get none. ``mark`` is the picture that its recipe lays over a corner."""
    return carry_out(
        job,
        lambda: _opened(path, name, _stamp(path), out / SCRATCH),
        DraftShelf(out / FRESH, known, taken),
        threads=threads,
        mark=lambda: read(mark or path),
    )


def estimate_cut(
    path: Path, name: str, job: CutJob, scratch: Path, mark: Path | None = None
) -> Foretold:
    """In a worker process: estimate what the files of one cut will weigh."""
    document = _opened(path, name, _stamp(path), scratch)
    return look_at(job, document, MemoryShelf(), lambda: read(mark or path))


def make_originals(path: Path, name: str, jobs: list[OriginalJob], out: Path) -> list[OriginalFile]:
    """In a worker process: export bitmaps of a design."""
    document = _opened(path, name, _stamp(path), out / SCRATCH)
    return take_out(name, jobs, document, DraftShelf(out / FRESH))


def make_pdf(path: Path, name: str, jobs: list[CutJob], target: Path, out: Path) -> None:
    """In a worker process: write a PDF with a page for each cut to ``target``."""
    document = _opened(path, name, _stamp(path), out / SCRATCH)
    write_whole(target, pdf_of(name, ((document, job) for job in jobs)))


@lru_cache(maxsize=1)
def _opened(path: Path, name: str, stamp: tuple[int, int], scratch: Path) -> Document:
    return read(path, name, Scratch(scratch))


def _stamp(path: Path) -> tuple[int, int]:
    try:
        found = path.stat()
    except OSError:
        return 0, 0  # reading it says what is wrong
    return found.st_mtime_ns, found.st_size

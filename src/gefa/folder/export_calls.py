"""The calls to the processes of an export, one for each source."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from gefa.core.deliver.manifest import OriginalFile
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FolderShelf
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
from gefa.folder.surveys import HIDDEN


def survey_source(path: Path, name: str, plan: Plan, whole: bool, out: Path) -> Survey:
    """In a worker process: read a source and measure what the plan cuts, or all of it."""
    document = _opened(path, name, _stamp(path), out)
    return survey(document) if whole else survey_for(document, plan)


def make_cut(
    path: Path,
    name: str,
    job: CutJob,
    out: Path,
    force: bool,
    threads: int = 1,
    mark: Path | None = None,
) -> JobReport:
    """In a worker process: make the files of one cut in the folder; ``mark`` is the picture that
    its recipe lays over a corner."""
    return carry_out(
        job,
        lambda: _opened(path, name, _stamp(path), out),
        shelf_of(out, force, memory_stamp(out)),
        threads=threads,
        mark=lambda: read(mark or path),
    )


def estimate_cut(
    path: Path, name: str, job: CutJob, out: Path, mark: Path | None = None
) -> Foretold:
    """In a worker process: estimate what the files of one cut will weigh."""
    document = _opened(path, name, _stamp(path), out)
    return look_at(job, document, MemoryShelf(), lambda: read(mark or path))


def make_originals(
    path: Path, name: str, jobs: list[OriginalJob], out: Path, force: bool
) -> list[OriginalFile]:
    """In a worker process: export bitmaps of a design."""
    document = _opened(path, name, _stamp(path), out)
    return take_out(name, jobs, document, shelf_of(out, force, memory_stamp(out)))


def make_pdf(path: Path, name: str, jobs: list[CutJob], target: Path, out: Path) -> None:
    """In a worker process: write a PDF with a page for each cut to ``target``."""
    document = _opened(path, name, _stamp(path), out)
    write_whole(target, pdf_of(name, ((document, job) for job in jobs)))


@lru_cache(maxsize=1)
def _opened(path: Path, name: str, stamp: tuple[int, int], out: Path) -> Document:
    return read(path, name, Scratch(out / HIDDEN / "scratch"))


def _stamp(path: Path) -> tuple[int, int]:
    try:
        found = path.stat()
    except OSError:
        return 0, 0  # reading it says what is wrong
    return found.st_mtime_ns, found.st_size


def memory_stamp(out: Path) -> tuple[int, int]:
    memory = out / HIDDEN / "memory.json"
    return _stamp(memory) if memory.exists() else (0, 0)


@lru_cache(maxsize=1)
def shelf_of(out: Path, force: bool, stamp: tuple[int, int]) -> FolderShelf:
    return FolderShelf(out, force=force)

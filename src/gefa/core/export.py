"""Run a plan over a document: the one way from a source to files.

The command line, the worker processes and the tests all come through here: ``prepare`` (in
``jobs.py``) says what there is to make, ``carry_out`` makes the files of one cut.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait

import pyvips
from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import CutRecord, File, OriginalFile
from gefa.core.deliver.markup import Offer, picture, plain_box
from gefa.core.deliver.shelf import Shelf, Stored
from gefa.core.errors import EncodeError
from gefa.core.geometry import Size
from gefa.core.jobs import Job, OriginalJob, Variant, key_of
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.encode import ENCODER, encode
from gefa.core.treat.make import baseline_bytes, fit_alpha, rungs


class JobReport(BaseModel):
    """What became of a job. ``keys`` gives each file's path the key it was made from."""

    record: CutRecord
    files: list[File] = []
    keys: dict[str, str] = {}
    facts_key: str = ""
    failed: list[Remark] = []
    warnings: list[Remark] = []


class Facts(BaseModel):
    """What is measured of a cut's pixels once: its alpha, and its baseline in bytes."""

    alpha: AlphaKind
    baseline_bytes: int


def take_out(
    source: str, jobs: Sequence[OriginalJob], document: Document, shelf: Shelf
) -> list[OriginalFile]:
    """Write originals to the shelf, byte for byte as they are stored."""
    made = []
    for job in jobs:
        facts = job.facts
        data = document.original_bytes(facts.key)
        key = key_of("original", hashlib.sha256(data).hexdigest())
        stored = shelf.recall(key, job.path) or shelf.keep(key, job.path, data)
        made.append(
            OriginalFile(
                source=source,
                part=facts.part,
                name=facts.name,
                path=job.path,
                media_type=facts.media_type,
                width=facts.width,
                height=facts.height,
                shown_width=facts.shown.width,
                shown_height=facts.shown.height,
                bytes=stored.bytes,
                sha256=stored.sha256,
            )
        )
    return made


def facts_key(job: Job) -> str:
    """The key under which a cut's Facts are kept."""
    widest = max((variant.width for variant in job.variants), default=job.extent.width)
    return key_of(job.fingerprint, ENCODER, "facts", widest)


def carry_out(
    job: Job,
    opened: Callable[[], Document],
    shelf: Shelf,
    on_file: Callable[[File], None] = lambda _: None,
    threads: int = 1,
) -> JobReport:
    """Make the files of one cut, or find them on the shelf.

    ``opened`` gives the document and is only called when there is something to draw. ``threads``
    encoders run at once. A variant that its encoder refuses is reported and costs no other.
    Raises SourceError if the source cannot be drawn.
    """
    if not job.variants:
        return JobReport(record=_record(job, None, []))
    making = _Making(job, shelf, on_file, threads)
    missing = making.recall()
    measured = facts_key(job)
    facts = _recalled_facts(shelf, measured)
    if missing or facts is None:
        facts = _make(making, opened(), missing, facts)
        shelf.keep_facts(measured, facts.model_dump(mode="json"))
    files = making.files
    ordered = [files[v.path] for v in job.variants if v.path in files]
    return JobReport(
        record=_record(job, facts, ordered),
        files=ordered,
        keys={v.path: v.key for v in job.variants if v.path in files},
        facts_key=measured,
        failed=making.failed,
    )


def _recalled_facts(shelf: Shelf, key: str) -> Facts | None:
    known = shelf.recall_facts(key)
    return Facts.model_validate(known) if known else None


class _Making:
    """The files of one job while they are made."""

    def __init__(
        self, job: Job, shelf: Shelf, on_file: Callable[[File], None], threads: int
    ) -> None:
        self.job = job
        self.files: dict[str, File] = {}
        self.failed: list[Remark] = []
        self._shelf, self._on_file = shelf, on_file
        self._threads = threads
        self._pool = ThreadPoolExecutor(threads)
        self._running: dict[Future[bytes], Variant] = {}

    def recall(self) -> list[Variant]:
        """Take what is on the shelf; what is not."""
        missing = []
        for variant in self.job.variants:
            stored = self._shelf.recall(variant.key, variant.path)
            if stored is None:
                missing.append(variant)
            else:
                self._there(variant, stored)
        return missing

    def encode(self, variant: Variant, image: pyvips.Image) -> None:
        """Begin a file; waits while as many are on their way as there are threads, so that no
        more pictures are held than that."""
        while len(self._running) >= self._threads:
            self._take(wait(self._running, return_when=FIRST_COMPLETED).done)
        dpi = self.job.cut.size.resolution if self.job.cut.size else None
        started = self._pool.submit(encode, image, variant.format, variant.quality, dpi)
        self._running[started] = variant

    def finish(self) -> None:
        self._take(wait(self._running).done)
        self._pool.shutdown()

    def _take(self, done: Iterable[Future[bytes]]) -> None:
        for future in done:
            variant = self._running.pop(future)
            try:
                data = future.result()
            except EncodeError as error:
                reason = f"{variant.path}: {error}"
                self.failed.append(Remark(cut=self.job.cut.name, reason=reason))
                continue
            self._there(variant, self._shelf.keep(variant.key, variant.path, data))

    def _there(self, variant: Variant, stored: Stored) -> None:
        self.files[variant.path] = _file(self.job, variant, stored)
        self._on_file(self.files[variant.path])


def _make(
    making: _Making, document: Document, missing: list[Variant], facts: Facts | None
) -> Facts:
    job = making.job
    wanted = {variant.size for variant in missing}
    if facts is None:
        wanted.add(max((v.size for v in job.variants), key=_width, default=job.extent.size))
    ascending = sorted(wanted, key=_width)
    part = document.part(job.cut.part)
    try:
        for size, image in rungs(document, part, job.extent, ascending, whole=job.cut.strays):
            if facts is None:
                facts = Facts(
                    alpha=alpha_kind(image), baseline_bytes=baseline_bytes(document, image)
                )
            for variant in (v for v in missing if v.size == size):
                source = document.moving(size) if variant.moves else image
                making.encode(variant, fit_alpha(source, variant.format, job.recipe))
    finally:
        making.finish()
    assert facts is not None
    return facts


def _width(size: Size) -> int:
    return size.width


def _file(job: Job, variant: Variant, stored: Stored) -> File:
    return File(
        cut=job.cut.name,
        path=variant.path,
        format=variant.format,
        width=variant.width,
        height=variant.height,
        bytes=stored.bytes,
        sha256=stored.sha256,
        quality=variant.quality,
        reused=stored.reused,
        moves=variant.moves,
    )


def _record(job: Job, facts: Facts | None, files: list[File]) -> CutRecord:
    moving = {v.path for v in job.variants if v.moves}
    offers = [Offer(f.path, f.format, f.width, f.height, f.path in moving) for f in files]
    return CutRecord(
        name=job.cut.name,
        source=job.source,
        part=job.cut.part,
        recipe=job.cut.recipe,
        origin=job.cut.origin,
        x=job.extent.x,
        y=job.extent.y,
        width=job.extent.width,
        height=job.extent.height,
        alpha=facts.alpha if facts else None,
        baseline_bytes=facts.baseline_bytes if facts else None,
        css=job.css or None,
        alt=job.alt,
        markup=plain_box(job.css, job.extent.size)
        if job.css
        else picture(offers, job.extent.size, job.alt),
    )


def failed_report(job: Job, reason: str) -> JobReport:
    """The report of a job that could not be carried out at all."""
    return JobReport(
        record=_record(job, None, []), failed=[Remark(cut=job.cut.name, reason=reason)]
    )

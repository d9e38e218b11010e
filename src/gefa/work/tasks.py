"""What a worker process does: for each kind of task a function that is told its body and gives its
report; ``gefa.work.perform`` lists them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property, lru_cache
from pathlib import Path

import pyvips

from gefa.core.cut.suggest import objects_of
from gefa.core.errors import GefaError
from gefa.core.look.proof import measure_curve, rate_file, reference
from gefa.core.make.estimate import Estimate
from gefa.core.make.job import CutJob
from gefa.core.make.keys import key_of
from gefa.core.make.make_cut import carry_out, take_out
from gefa.core.make.pdf import pdf_of
from gefa.core.make.report import JobReport
from gefa.core.make.sampling import look_at
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.scratch import Scratch
from gefa.core.read.survey import survey
from gefa.store.blobs import BlobShelf, BlobStore
from gefa.store.contracts import (
    CurveBody,
    CutBody,
    EstimateBody,
    EstimateReport,
    MadeReport,
    PdfBody,
    PdfReport,
    Preview,
    ProofBody,
    ProofReport,
    ReadBody,
    ReadReport,
    ScoreBody,
    ShowBody,
    TakeBody,
    TakeReport,
    TryBody,
    TryReport,
    UploadBody,
    UploadReport,
)
from gefa.store.places import blobs_for
from gefa.work.allowance import OTHER_SECONDS, allow, making_seconds, reading_seconds
from gefa.work.preview import (
    LARGE,
    SMALL,
    as_webp,
    draw,
    fitted,
    part_picture,
    pick_map,
    tiles_of,
)
from gefa.work.queue import Outcome, WorkQueue
from gefa.work.upload import treat

SCRATCH = "scratch"
"""the folder for copies of large pictures, inside the data folder"""


@dataclass(frozen=True)
class Desk:
    """The surroundings of a task: the data folder ``folder``, the job ``task``, and so many
    ``threads`` for encoders."""

    folder: Path
    task: str
    threads: int

    @cached_property
    def blobs(self) -> BlobStore:
        return blobs_for(self.folder)

    @cached_property
    def shelf(self) -> BlobShelf:
        return BlobShelf(self.blobs, self.task)

    def open(self, blob: str, name: str) -> Document:
        return _opened(self.folder, blob, name)

    def mark_of(self, job: CutJob) -> Callable[[], Document] | None:
        """A function that opens the picture a job lays over a corner."""
        mark = job.recipe.mark
        if mark is None:
            return None
        return lambda: read(self.blobs.path(job.mark), mark.picture)

    def counter(self) -> Callable[..., None]:
        """A function to call for each finished file, for progress."""
        queue, done = _queue(self.folder), 0

        def tell(*_: object) -> None:
            nonlocal done
            done += 1
            queue.tell(self.task, done)

        return tell

    def report_early(self, report: MadeReport) -> None:
        """Report what is known before everything is."""
        outcome = Outcome(job=self.task, report=report.model_dump(mode="json"), more=True)
        _queue(self.folder).answer(outcome)


@lru_cache(maxsize=1)
def _opened(folder: Path, blob: str, name: str) -> Document:
    """The last source stays open: jobs of a run share it, and blobs never change."""
    return read(blobs_for(folder).path(blob), name, Scratch(folder / SCRATCH))


@lru_cache(maxsize=1)
def _queue(folder: Path) -> WorkQueue:
    return WorkQueue(folder)


# -- sources -----------------------------------------------------------------------------


def read_source(desk: Desk, asked: ReadBody) -> ReadReport:
    """Survey a source; SourceError if it cannot be read."""
    allow(reading_seconds(desk.blobs.path(asked.blob).stat().st_size))
    document = desk.open(asked.blob, asked.name)
    if not document.layered:
        draw(document, fitted(document.size, SMALL))  # a truncated picture is found only so
    return ReadReport(survey=survey(document))


def show_source(desk: Desk, asked: ShowBody) -> Preview:
    """Draw the pictures of a source for the screens."""
    document = desk.open(asked.blob, asked.name)
    size = fitted(document.size, LARGE)
    picture = draw(document, size)
    small = picture.thumbnail_image(SMALL, height=SMALL, size="down")
    before_after = {}
    if asked.pairs:
        older = read(desk.blobs.path(asked.older), asked.name, Scratch(desk.folder / SCRATCH))
        for pair in asked.pairs:
            drawn = (part_picture(older, pair.before), part_picture(document, pair.after))
            before_after[pair.after] = [
                desk.blobs.put(data).sha256 if data else "" for data in drawn
            ]
    return Preview(
        picture=desk.blobs.put(as_webp(picture)).sha256,
        small=desk.blobs.put(as_webp(small)).sha256,
        pick=desk.blobs.put(pick_map(document, size)).sha256,
        width=picture.width,
        height=picture.height,
        tiles=tiles_of(document, desk.blobs),
        objects=objects_of(document),
        before_after=before_after,
    )


# -- runs --------------------------------------------------------------------------------


def take_originals(desk: Desk, asked: TakeBody) -> TakeReport:
    """Export bitmaps of a design."""
    document = desk.open(asked.blob, asked.name)
    return TakeReport(originals=take_out(asked.name, asked.jobs, document, desk.shelf))


def write_pdf(desk: Desk, asked: PdfBody) -> PdfReport:
    """Write a PDF with a page for each cut. Each page has an allowance of its own."""

    def pages() -> Iterator[tuple[Document, CutJob]]:
        for source in asked.sources:
            seconds = reading_seconds(desk.blobs.path(source.blob).stat().st_size)
            for job in source.jobs:
                allow(seconds)
                yield desk.open(source.blob, source.name), job
        allow(OTHER_SECONDS)  # to put them together

    return PdfReport(blob=desk.blobs.put(pdf_of(asked.name, pages())).sha256)


def make_cut(desk: Desk, asked: CutBody) -> JobReport:
    """Make the files of one cut."""
    size = desk.blobs.path(asked.blob).stat().st_size
    allow(reading_seconds(size) + making_seconds([asked.job]))
    return carry_out(
        asked.job,
        lambda: desk.open(asked.blob, asked.name),
        desk.shelf,
        desk.counter(),
        desk.threads,
        desk.mark_of(asked.job),
    )


def estimate_cuts(desk: Desk, asked: EstimateBody) -> EstimateReport:
    """Estimate the weights of cuts' files. A cut that cannot be drawn has no estimate: a run says
    why."""
    size = desk.blobs.path(asked.blob).stat().st_size
    allow(reading_seconds(size) + making_seconds(asked.jobs))
    found = EstimateReport()
    for job in asked.jobs:
        found.estimates[job.estimate_key] = Estimate()
        with suppress(GefaError):
            document = desk.open(asked.blob, asked.name)
            foretold = look_at(job, document, desk.shelf, desk.mark_of(job))
            found.estimates[job.estimate_key] = foretold.estimate
            if foretold.report is not None:
                found.made |= foretold.report.made
                found.facts |= foretold.report.facts
    return found


# -- trials and close looks ----------------------------------------------------------------


def note_latest_trial(blobs: BlobStore, recipe: str, topic: str) -> None:
    """Let waiting trials of the recipe be skipped, except this one."""
    key = key_of("latest trial", recipe)
    if (blobs.noted(key) or {}).get("topic") != topic:
        blobs.note(key, {"topic": topic})


def try_recipe(desk: Desk, asked: TryBody) -> TryReport:
    """Make a recipe's files of a sample; none if the recipe has changed meanwhile."""
    latest = desk.blobs.noted(key_of("latest trial", asked.recipe)) or {}
    if latest.get("topic", asked.topic) != asked.topic:
        return TryReport()
    return TryReport(report=make_cut(desk, asked))


def draw_proof(desk: Desk, asked: ProofBody) -> ProofReport:
    """Draw the reference of a proof."""
    data = _reference(desk, asked).pngsave_buffer(compression=1, filter="up", keep="none")
    return ProofReport(reference=desk.blobs.put(data).sha256)


def draw_curve(desk: Desk, asked: CurveBody) -> MadeReport:
    """Measure the points of a curve; report each at once."""
    image = _reference(desk, asked)
    made = {}
    for key, variant in measure_curve(asked.job, image, asked.size, asked.format, desk.shelf):
        made[key] = variant
        desk.report_early(MadeReport(made={key: variant}))
    return MadeReport(made=made)


def score_variant(desk: Desk, asked: ScoreBody) -> MadeReport:
    """Measure the score of a file with a fixed quality."""
    made = rate_file(asked.job, _reference(desk, asked), asked.key, asked.format, desk.shelf)
    return MadeReport(made={asked.key: made} if made is not None else {})


def _reference(desk: Desk, asked: ProofBody) -> pyvips.Image:
    document = desk.open(asked.blob, asked.name)
    return reference(asked.job, document, asked.size, desk.shelf, desk.mark_of(asked.job))


# -- uploads -----------------------------------------------------------------------------


def treat_upload(desk: Desk, asked: UploadBody) -> UploadReport:
    """Make the variants of an uploaded picture, or of a picture that a slot is tried on."""
    path = desk.blobs.path(asked.blob)
    allow(reading_seconds(path.stat().st_size))
    document = read(path, asked.name, Scratch(desk.folder / SCRATCH))
    return treat(asked, document, desk.blobs, desk.shelf, desk.counter(), desk.threads)

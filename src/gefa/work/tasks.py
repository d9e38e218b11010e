"""What a worker process does. Each function gets the data folder and a task's body, and gives a
report; both are plain JSON values."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import pyvips
from pydantic import BaseModel

from gefa.core.cut.suggest import objects_of
from gefa.core.geometry import Size
from gefa.core.look.proof import measure_curve, rate_file, reference
from gefa.core.make.jobs import CutJob, OriginalJob, key_of
from gefa.core.make.make_cut import carry_out, take_out
from gefa.core.make.pdf import pdf_of
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.scratch import Scratch
from gefa.core.read.survey import Survey, survey
from gefa.core.treat.formats import Format
from gefa.store.blobs import BlobShelf, BlobStore
from gefa.store.places import blobs_for
from gefa.work.preview import (
    LARGE,
    SMALL,
    Preview,
    as_webp,
    draw,
    fitted,
    part_picture,
    pick_map,
    tiles_of,
)
from gefa.work.queue import WorkQueue
from gefa.work.upload import UploadBody, treat

SCRATCH = "scratch"
"""the folder for copies of large pictures, inside the data folder"""


class ReadBody(BaseModel):
    """Read a source: ``blob`` is its content, ``name`` what people call it."""

    blob: str
    name: str


class ReadReport(BaseModel):
    survey: Survey


class ChangedPart(BaseModel):
    """Paths of a changed part in the older and the newer revision."""

    before: str
    after: str


class ShowBody(BaseModel):
    """Draw what the screens show of a source; ``older`` is the content before it, if any."""

    blob: str
    name: str
    older: str = ""
    pairs: list[ChangedPart] = []


class TakeBody(BaseModel):
    """Take bitmaps out of a design as they are stored."""

    blob: str
    name: str
    jobs: list[OriginalJob]


class PdfBody(BaseModel):
    """Write a PDF with a page for each cut."""

    blob: str
    name: str
    jobs: list[CutJob]


class CutBody(BaseModel):
    """Make the files of one cut."""

    blob: str
    name: str
    job: CutJob


class TryBody(CutBody):
    """Try a recipe on one cut. ``topic`` says which trial it is: only the latest of a recipe is
    worth making."""

    recipe: str
    topic: str


class ProofBody(CutBody):
    """Draw what the variants of a cut are compared with, at a size in px."""

    width: int
    height: int

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)


class ProofReport(BaseModel):
    """The blob of a PNG."""

    reference: str


class CurveBody(ProofBody):
    """Measure how weight and look of a cut grow with the quality of a format."""

    format: Format


class ScoreBody(ProofBody):
    """Measure how one file of a cut looks."""

    key: str
    format: Format


def read_source(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Survey a source; SourceError if it cannot be read."""
    asked = ReadBody.model_validate(body)
    document = _opened(folder, asked.blob, asked.name)
    if not document.layered:
        draw(document, fitted(document.size, SMALL))  # a truncated picture is found only so
    return ReadReport(survey=survey(document)).model_dump(mode="json")


def show_source(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Draw what the screens show of a source."""
    asked = ShowBody.model_validate(body)
    blobs = blobs_for(folder)
    document = _opened(folder, asked.blob, asked.name)
    size = fitted(document.size, LARGE)
    picture = draw(document, size)
    small = picture.thumbnail_image(SMALL, height=SMALL, size="down")
    before_after = {}
    if asked.pairs:
        older = read(blobs.path(asked.older), asked.name, Scratch(folder / SCRATCH))
        for pair in asked.pairs:
            drawn = (part_picture(older, pair.before), part_picture(document, pair.after))
            before_after[pair.after] = [blobs.put(data).sha256 if data else "" for data in drawn]
    return Preview(
        picture=blobs.put(as_webp(picture)).sha256,
        small=blobs.put(as_webp(small)).sha256,
        pick=blobs.put(pick_map(document, size)).sha256,
        width=picture.width,
        height=picture.height,
        tiles=tiles_of(document, blobs),
        objects=objects_of(document),
        before_after=before_after,
    ).model_dump(mode="json")


def take_originals(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Take bitmaps out of a design."""
    asked = TakeBody.model_validate(body)
    document = _opened(folder, asked.blob, asked.name)
    made = take_out(asked.name, asked.jobs, document, BlobShelf(blobs_for(folder), job_id))
    return {"originals": [file.model_dump(mode="json") for file in made]}


def write_pdf(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Write a PDF with a page for each cut."""
    asked = PdfBody.model_validate(body)
    document = _opened(folder, asked.blob, asked.name)
    return {"blob": blobs_for(folder).put(pdf_of(document, asked.jobs)).sha256}


def make_cut(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Make the files of one cut of a run."""
    asked = CutBody.model_validate(body)
    blobs = blobs_for(folder)
    report = carry_out(
        asked.job,
        lambda: _opened(folder, asked.blob, asked.name),
        BlobShelf(blobs, job_id),
        _teller(folder, job_id),
        threads,
        _mark_of(folder, asked.job),
    )
    return report.model_dump(mode="json")


def note_latest_trial(blobs: BlobStore, recipe: str, topic: str) -> None:
    """Let trials of the recipe that wait be passed over, but for this one."""
    key = key_of("latest trial", recipe)
    if (blobs.noted(key) or {}).get("topic") != topic:
        blobs.note(key, {"topic": topic})


def try_recipe(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Make what a recipe makes of a sample; nothing if it was changed again meanwhile."""
    asked = TryBody.model_validate(body)
    latest = blobs_for(folder).noted(key_of("latest trial", asked.recipe)) or {}
    if latest.get("topic", asked.topic) != asked.topic:
        return {"passed_over": True}
    return make_cut(folder, job_id, body, threads)


def draw_proof(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Draw the reference of a proof."""
    asked = ProofBody.model_validate(body)
    blobs = blobs_for(folder)
    data = _reference(folder, asked, blobs, job_id).pngsave_buffer(
        compression=1, filter="up", keep="none"
    )
    return ProofReport(reference=blobs.put(data).sha256).model_dump()


def draw_curve(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Measure the points of a curve; each is there for all to see as soon as it is known."""
    asked = CurveBody.model_validate(body)
    blobs = blobs_for(folder)
    image = _reference(folder, asked, blobs, job_id)
    shelf = BlobShelf(blobs, job_id)
    tell = _teller(folder, job_id)
    for stored in measure_curve(asked.job, image, asked.size, asked.format, shelf):
        tell(stored)
    return {}


def score_variant(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Measure how a file looks that was made at a fixed quality."""
    asked = ScoreBody.model_validate(body)
    blobs = blobs_for(folder)
    image = _reference(folder, asked, blobs, job_id)
    rate_file(asked.job, image, asked.key, asked.format, BlobShelf(blobs, job_id))
    return {}


def _reference(folder: Path, asked: ProofBody, blobs: BlobStore, job_id: str) -> pyvips.Image:
    document = _opened(folder, asked.blob, asked.name)
    mark = _mark_of(folder, asked.job)
    return reference(asked.job, document, asked.size, BlobShelf(blobs, job_id), mark)


def _mark_of(folder: Path, job: CutJob) -> Callable[[], Document] | None:
    """How to open the picture that a job lays over a corner."""
    mark = job.recipe.mark
    if mark is None:
        return None
    return lambda: read(blobs_for(folder).path(job.mark), mark.picture)


def treat_upload(folder: Path, job_id: str, body: dict[str, Any], threads: int) -> dict[str, Any]:
    """Make the variants of an uploaded picture, or of one that a slot is tried with."""
    asked = UploadBody.model_validate(body)
    tell = _teller(folder, job_id)
    return treat(folder, job_id, asked, threads, tell, folder / SCRATCH).model_dump(mode="json")


@lru_cache(maxsize=1)
def _opened(folder: Path, blob: str, name: str) -> Document:
    """The last source stays open: a run's jobs are of the same one, and blobs never change."""
    return read(blobs_for(folder).path(blob), name, Scratch(folder / SCRATCH))


@lru_cache(maxsize=1)
def _queue(folder: Path) -> WorkQueue:
    return WorkQueue(folder)


def _teller(folder: Path, job_id: str) -> Callable[[object], None]:
    done = 0

    def tell(_: object) -> None:
        nonlocal done
        done += 1
        _queue(folder).tell(job_id, done)

    return tell


TASKS: dict[str, Callable[[Path, str, dict[str, Any], int], dict[str, Any]]] = {
    "read": read_source,
    "show": show_source,
    "take": take_originals,
    "pdf": write_pdf,
    "cut": make_cut,
    "upload": treat_upload,
    "trial": treat_upload,
    "try": try_recipe,
    "proof": draw_proof,
    "curve": draw_curve,
    "score": score_variant,
}

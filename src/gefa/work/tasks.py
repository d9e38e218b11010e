"""What a worker process does. Each function gets the data folder and a task's body, and gives a
report; both are plain JSON values."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from gefa.core.export import Job, JobReport, carry_out, prepare
from gefa.core.plan import CutEntry, Plan
from gefa.core.read import CANVAS_PATH, read
from gefa.core.read.document import Document
from gefa.core.read.survey import Survey, survey
from gefa.core.treat.recipe import Recipe
from gefa.store.blobs import BlobShelf, BlobStore
from gefa.work.preview import LARGE, SMALL, Preview, as_webp, draw, fitted, pick_map
from gefa.work.queue import WorkQueue

SLOT_RECIPE = "slot"


class ReadBody(BaseModel):
    """Read a source: ``blob`` is its content, ``name`` what people call it."""

    blob: str
    name: str


class ReadReport(BaseModel):
    survey: Survey
    preview: Preview


class CutBody(BaseModel):
    """Make the files of one cut."""

    blob: str
    name: str
    job: Job


class UploadBody(BaseModel):
    """Treat an uploaded picture by a slot's recipe."""

    blob: str
    name: str
    alt: str
    recipe: Recipe


class UploadReport(BaseModel):
    """Sizes in px. ``failed`` and ``warnings`` come with the files in ``made``."""

    width: int
    height: int
    format: str
    placeholder: str
    made: JobReport


def read_source(folder: Path, job_id: str, body: dict[str, Any]) -> dict[str, Any]:
    """Survey a source and draw its previews; SourceError if it cannot be read."""
    asked = ReadBody.model_validate(body)
    blobs = BlobStore(folder)
    document = read(blobs.path(asked.blob), asked.name)
    picture = draw(document, fitted(document.size, LARGE))
    surveyed = survey(document)
    small = picture.thumbnail_image(SMALL, height=SMALL, size="down")
    shown = Preview(
        picture=blobs.put(as_webp(picture)).sha256,
        small=blobs.put(as_webp(small)).sha256,
        pick=blobs.put(pick_map(document, surveyed, fitted(document.size, LARGE))).sha256,
        width=picture.width,
        height=picture.height,
    )
    return ReadReport(survey=surveyed, preview=shown).model_dump(mode="json")


def make_cut(folder: Path, job_id: str, body: dict[str, Any]) -> dict[str, Any]:
    """Make the files of one cut of a run."""
    asked = CutBody.model_validate(body)
    blobs = BlobStore(folder)
    report = carry_out(
        asked.job,
        lambda: _opened(blobs.path(asked.blob), asked.name),
        BlobShelf(blobs, job_id),
        _teller(folder, job_id),
    )
    return report.model_dump(mode="json")


def treat_upload(folder: Path, job_id: str, body: dict[str, Any]) -> dict[str, Any]:
    """Make the variants of an uploaded picture; SourceError if it is none."""
    asked = UploadBody.model_validate(body)
    blobs = BlobStore(folder)
    document = read(blobs.path(asked.blob), asked.name)
    plan = Plan(
        recipes={SLOT_RECIPE: asked.recipe},
        cuts=(CutEntry(part=CANVAS_PATH, name=Path(asked.name).stem, recipe=SLOT_RECIPE),),
    )
    surveyed = survey(document, lambda part: part.path == CANVAS_PATH)
    prepared = prepare(surveyed, plan)
    job = prepared.jobs[0].model_copy(update={"alt": asked.alt})
    report = carry_out(job, lambda: document, BlobShelf(blobs, job_id), _teller(folder, job_id))
    report.failed += prepared.failed
    report.warnings += prepared.warnings
    return UploadReport(
        width=document.size.width,
        height=document.size.height,
        format=document.format,
        placeholder=_main_colour(document),
        made=report,
    ).model_dump(mode="json")


def _main_colour(document: Document) -> str:
    """The average colour as ``#rrggbb``, to stand in until the picture has come."""
    small = draw(document, fitted(document.size, 32))
    means = [small[band].avg() for band in range(3)]
    return "#" + "".join(f"{round(mean):02x}" for mean in means)


@lru_cache(maxsize=1)
def _opened(path: Path, name: str) -> Document:
    """The last source stays open: a run's jobs are of the same one, and blobs never change."""
    return read(path, name)


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


TASKS: dict[str, Callable[[Path, str, dict[str, Any]], dict[str, Any]]] = {
    "read": read_source,
    "cut": make_cut,
    "upload": treat_upload,
}

"""Run a plan over a document: the one way from a source to files.

The command line, the worker processes and the tests all come through here: ``prepare`` (in
``jobs.py``) says what there is to make, ``carry_out`` makes the files of one cut.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from gefa.core.cut.crop import crop_within
from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import CutRecord, File, OriginalFile
from gefa.core.deliver.markup import Offer, picture, plain_box
from gefa.core.deliver.shelf import Shelf
from gefa.core.geometry import Rect, Size, height_for
from gefa.core.make.cut_warnings import Facts, cautions, measured
from gefa.core.make.jobs import CutJob, OriginalJob, key_of
from gefa.core.make.order_of_work import course
from gefa.core.make.variant_maker import Decisions, Making
from gefa.core.read.document import Document
from gefa.core.treat.formats import Format
from gefa.core.treat.pictures import Pictures
from gefa.core.treat.recipe import AlphaPolicy, Fit, Keep

Known = TypeVar("Known", bound=BaseModel)


class JobReport(BaseModel):
    """What became of a job. ``keys`` gives each file's path the key it was made from, ``facts``
    what was measured, by key."""

    record: CutRecord
    files: list[File] = []
    keys: dict[str, str] = {}
    facts: dict[str, dict[str, Any]] = {}
    failed: list[Remark] = []
    warnings: list[Remark] = []
    left_out: list[Remark] = []


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


def facts_key(job: CutJob) -> str:
    """The key under which a cut's Facts are kept."""
    return key_of("facts", job.key_at(_widest(job), Format.PNG, None))


def carry_out(
    job: CutJob,
    opened: Callable[[], Document],
    shelf: Shelf,
    on_file: Callable[[File], None] = lambda _: None,
    threads: int = 1,
    mark: Callable[[], Document] | None = None,
) -> JobReport:
    """Make the files of one cut, or find them on the shelf.

    ``opened`` gives the document and is only called when there is something to draw, and so does
    ``mark`` for the picture that the recipe lays over a corner. ``threads`` encoders run at once.
    A variant that its encoder refuses is reported and costs no other. Raises SourceError if the
    source cannot be drawn.
    """
    if not job.variants:
        return JobReport(record=_record(job, job.extent, None, []))
    facts = _recalled(shelf, facts_key(job), Facts)
    said = _recalled(shelf, said_key(job), Decisions) or Decisions()
    making = Making(job, shelf, on_file, threads, said)
    making.recall()
    if making.missing() or facts is None or not _decided(job, said):
        document = opened()
        said.crop = said.crop or _crop(job, document)
        facts = _make(making, document, mark, facts)
    found = {facts_key(job): facts.model_dump(mode="json")}
    found[said_key(job)] = said.model_dump(mode="json")
    for key, value in found.items():
        shelf.keep_facts(key, value)
    files = [making.file(v) for v in job.variants if v.path in making.files]
    return JobReport(
        record=_record(job, _region(job, said.crop), facts, files, said.why),
        files=files,
        keys={v.path: v.key for v in job.variants if v.path in making.files},
        facts=found,
        failed=making.failed,
        left_out=said.left_out_remarks(job),
        warnings=[*said.warning_remarks(job), *cautions(job, facts, files)],
    )


def _decided(job: CutJob, said: Decisions) -> bool:
    return said.decided(job) and not (job.crop and said.crop is None)


def said_key(job: CutJob) -> str:
    """The key under which is kept what making a cut had to say."""
    return key_of("said", *(variant.key for variant in job.variants))


def _recalled(shelf: Shelf, key: str, kind: type[Known]) -> Known | None:
    known = shelf.recall_facts(key)
    try:
        return kind.model_validate(known) if known else None
    except ValidationError:
        return None


def _crop(job: CutJob, document: Document) -> Rect | None:
    """What the recipe takes of the cut, in px within it; None for all."""
    if job.crop is None:
        return None
    return crop_within(document, document.part(job.cut.part), job.extent, job.crop)


def _region(job: CutJob, crop: Rect | None) -> Rect:
    """What of the canvas is shown, in canvas px."""
    return job.extent if crop is None else crop.moved(job.extent.x, job.extent.y)


def _widest(job: CutJob) -> Size:
    return max((v.size for v in job.variants), key=_width, default=job.extent.size)


def crop_of(job: CutJob, document: Document, shelf: Shelf) -> Rect | None:
    """What the recipe takes of the cut, in px within it, as it was when its files were made."""
    said = _recalled(shelf, said_key(job), Decisions)
    return said.crop if said is not None and said.crop else _crop(job, document)


def pictures_for(
    job: CutJob, document: Document, crop: Rect | None, mark: Callable[[], Document] | None
) -> Pictures:
    """What the files of a job are encoded from; ``crop`` is in px within the cut."""
    return Pictures(
        document,
        document.part(job.cut.part),
        _region(job, crop),
        _widest(job),
        whole=job.cut.strays,
        under=job.recipe.alpha is AlphaPolicy.UNDERLAY and job.cut.rect is None,
        tone=job.recipe.tone,
        mark=(job.recipe.mark, mark()) if job.recipe.mark and mark else None,
    )


def _make(
    making: Making,
    document: Document,
    mark: Callable[[], Document] | None,
    facts: Facts | None,
) -> Facts:
    job = making.job
    widest = _widest(job)
    pictures = pictures_for(job, document, making.said.crop, mark)
    making.copyright = document.copyright if job.recipe.metadata is Keep.COPYRIGHT else ""
    try:
        for size in course(making, pictures):
            image = pictures.at(size)
            if size == widest and facts is None:
                facts = measured(document, image)
            making.begin(size, pictures, image)
    finally:
        making.finish()
    return facts or measured(document, pictures.at(widest))


def _width(size: Size) -> int:
    return size.width


def _record(
    job: CutJob, shown: Rect, facts: Facts | None, files: list[File], why: str = ""
) -> CutRecord:
    moving = {v.path for v in job.variants if v.moves}
    offers = [Offer(f.path, f.format, f.width, f.height, f.path in moving) for f in files]
    return CutRecord(
        name=job.cut.name,
        source=job.source,
        part=job.cut.part,
        recipe=job.cut.recipe,
        origin=job.cut.origin,
        x=shown.x,
        y=shown.y,
        width=shown.width,
        height=shown.height,
        alpha=facts.alpha if facts else None,
        baseline_bytes=facts.baseline_bytes if facts else None,
        css=job.css or None,
        alt=job.alt,
        why=why,
        markup=plain_box(job.css, job.extent.size)
        if job.css
        else picture(offers, _shown_size(job, shown), job.alt, densities=_by_density(job)),
    )


def failed_report(job: CutJob, reason: str) -> JobReport:
    """The report of a job that could not be carried out at all."""
    return JobReport(
        record=_record(job, job.extent, None, []), failed=[Remark(cut=job.cut.name, reason=reason)]
    )


def _by_density(job: CutJob) -> bool:
    return job.recipe.shown is not None and job.cut.size is None


def _shown_size(job: CutJob, shown: Rect) -> Size:
    """The size in the markup, px: the natural one, in the ratio that the files have; with
    densities the one it is shown at."""
    if not job.variants:
        return shown.size
    if _by_density(job):
        first = job.variants[0].size
        width = job.recipe.shown or first.width
        return Size(width, height_for(first, width))
    widest = max((variant.size for variant in job.variants), key=_width)
    if job.recipe.fit is Fit.FILL and job.recipe.ratio and job.cut.size is None:
        return widest
    return shown.size

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
from gefa.core.jobs import Job, OriginalJob, Variant, key_of
from gefa.core.making import Making, Said
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.encode import ENCODER
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.make import baseline_bytes, rungs
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
        return JobReport(record=_record(job, job.extent, None, []))
    measured, said = facts_key(job), _said_key(job)
    facts = _recalled(shelf, measured, Facts)
    making = Making(job, shelf, on_file, threads, _recalled(shelf, said, Said) or Said())
    missing = making.recall()
    crop = making.said.crop
    if missing or facts is None or (job.crop and crop is None):
        document = opened()
        crop = crop or _crop(job, document)
        facts = _make(making, document, _region(job, crop), missing, facts)
    making.said = making.said.model_copy(update={"crop": crop})
    found = {measured: facts.model_dump(mode="json"), said: making.said.model_dump(mode="json")}
    for key, value in found.items():
        shelf.keep_facts(key, value)
    files = [making.file(v) for v in job.variants if v.path in making.files]
    return JobReport(
        record=_record(job, _region(job, crop), facts, files),
        files=files,
        keys={v.path: v.key for v in job.variants if v.path in making.files},
        facts=found,
        failed=making.failed,
        left_out=making.said.left_out_remarks(job),
        warnings=[*making.said.warning_remarks(job), *_weighed_down(job, facts, files)],
    )


def _said_key(job: Job) -> str:
    return key_of("said", *(variant.key for variant in job.variants))


def _recalled(shelf: Shelf, key: str, kind: type[Known]) -> Known | None:
    known = shelf.recall_facts(key)
    try:
        return kind.model_validate(known) if known else None
    except ValidationError:
        return None


def _crop(job: Job, document: Document) -> Rect | None:
    """What the recipe takes of the cut, in px within it; None for all."""
    if job.crop is None:
        return None
    return crop_within(document, document.part(job.cut.part), job.extent, job.crop)


def _region(job: Job, crop: Rect | None) -> Rect:
    """What of the canvas is shown, in canvas px."""
    return job.extent if crop is None else crop.moved(job.extent.x, job.extent.y)


def _make(
    making: Making,
    document: Document,
    region: Rect,
    missing: list[Variant],
    facts: Facts | None,
) -> Facts:
    job = making.job
    wanted = {variant.size for variant in missing}
    widest = max((v.size for v in job.variants), key=_width, default=region.size)
    if facts is None:
        wanted.add(widest)
    # A search starts from what the next smaller width needed; else the largest goes first.
    ordered = sorted(wanted, key=_width, reverse=not making.searches)
    part = document.part(job.cut.part)
    making.copyright = document.copyright if job.recipe.metadata is Keep.COPYRIGHT else ""
    try:
        for size, image in rungs(document, part, region, ordered, whole=job.cut.strays):
            if facts is None and size == widest:
                baseline = baseline_bytes(document, image)
                facts = Facts(alpha=alpha_kind(image), baseline_bytes=baseline)
            making.begin([variant for variant in missing if variant.size == size], image, document)
    finally:
        making.finish()
    assert facts is not None
    return facts


def _width(size: Size) -> int:
    return size.width


def _weighed_down(job: Job, facts: Facts, files: list[File]) -> list[Remark]:
    """Warnings that follow from what was measured."""
    found = []
    if facts.alpha is not AlphaKind.NONE and job.recipe.alpha is AlphaPolicy.KEEP:
        opaque = [FORMATS[f].label for f in job.recipe.formats if not FORMATS[f].alpha]
        if len(opaque) == len(job.recipe.formats):
            found.append(f"its transparency is lost: {' and '.join(opaque)} cannot hold it")
    widest = max((file.width for file in files), default=0)
    lightest = min((file.bytes for file in files if file.width == widest), default=0)
    if lightest > facts.baseline_bytes:
        found.append(
            f"its lightest file of {widest:,} px, {lightest / 1000:,.1f} kB, is heavier than"
            f" its baseline, {facts.baseline_bytes / 1000:,.1f} kB"
        )
    return [Remark(cut=job.cut.name, reason=reason) for reason in found]


def _record(job: Job, shown: Rect, facts: Facts | None, files: list[File]) -> CutRecord:
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
        markup=plain_box(job.css, job.extent.size)
        if job.css
        else picture(offers, _shown_size(job, shown), job.alt, densities=_by_density(job)),
    )


def failed_report(job: Job, reason: str) -> JobReport:
    """The report of a job that could not be carried out at all."""
    return JobReport(
        record=_record(job, job.extent, None, []), failed=[Remark(cut=job.cut.name, reason=reason)]
    )


def _by_density(job: Job) -> bool:
    return job.recipe.shown is not None and job.cut.size is None


def _shown_size(job: Job, shown: Rect) -> Size:
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

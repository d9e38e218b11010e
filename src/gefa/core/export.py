"""Run a plan over a document: the one way from a source to files.

The command line, the worker processes and the tests all come through here. ``prepare`` says what
there is to make without drawing or encoding; ``carry_out`` makes the files of one cut.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from gefa.core.cut.cut import Cut, Remark
from gefa.core.cut.gather import gather
from gefa.core.deliver.manifest import CutRecord, File
from gefa.core.deliver.markup import Offer, picture
from gefa.core.deliver.names import NameBook
from gefa.core.deliver.shelf import Shelf, Stored
from gefa.core.errors import EncodeError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.plan import Plan
from gefa.core.read.document import Document, Part
from gefa.core.read.survey import PartFacts, Survey, outline, survey
from gefa.core.treat.encode import ENCODER, encode, too_large_for
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.make import baseline_bytes, fit_alpha, rungs
from gefa.core.treat.recipe import Recipe


class Variant(BaseModel):
    """One file to make. ``key`` says everything its bytes depend on; sizes in px."""

    model_config = ConfigDict(frozen=True)

    key: str
    path: str
    format: Format
    width: int
    height: int
    quality: int | None

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)


class Job(BaseModel):
    """The files of one cut, self-contained: with the source's bytes it is all a worker needs.

    ``extent`` is in canvas px.
    """

    model_config = ConfigDict(frozen=True)

    source: str
    cut: Cut
    recipe: Recipe
    extent: Rect
    fingerprint: str
    variants: tuple[Variant, ...]
    alt: str = ""


class JobReport(BaseModel):
    """What became of a job. ``keys`` gives each file's path the key it was made from."""

    record: CutRecord
    files: list[File] = []
    keys: dict[str, str] = {}
    facts_key: str = ""
    failed: list[Remark] = []
    warnings: list[Remark] = []


@dataclass
class Prepared:
    """What a run will do: jobs, and what it already has to say."""

    jobs: list[Job] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    failed: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)


class Facts(BaseModel):
    """What is measured of a cut's pixels once: its alpha, and its baseline in bytes."""

    alpha: AlphaKind
    baseline_bytes: int


def survey_for(document: Document, plan: Plan, *, default: bool = True) -> Survey:
    """The document's tree, measured where the plan makes cuts."""
    chosen = {cut.part for cut in gather(outline(document), plan, default=default).cuts}
    return survey(document, lambda part: part.path in chosen)


def prepare(
    source: Survey, plan: Plan, names: NameBook | None = None, *, default: bool = True
) -> Prepared:
    """Expand plan × source into jobs; draws and encodes nothing.

    A part that could not be measured, or shows nothing, fails alone.
    """
    book = names or NameBook()
    gathered = gather(source, plan, default=default)
    prepared = Prepared(left_out=gathered.left_out, warnings=gathered.warnings)
    by_path = {part.path: part for part in source.parts}
    called: dict[str, str] = {}
    for cut in gathered.cuts:
        part = by_path[cut.part]
        if part.problem or part.extent is None or part.extent.empty:
            reason = part.problem or f"the part {cut.part!r} has no visible pixels"
            prepared.failed.append(Remark(cut=cut.name, part=cut.part, reason=reason))
            continue
        named = cut.model_copy(update={"name": book.cut(cut.name)})
        called[cut.part] = named.name
        if part.blend != "src-over":
            reason = f"its blend mode {part.blend} against what lies below is dropped"
            prepared.warnings.append(Remark(cut=named.name, part=cut.part, reason=reason))
        recipe = plan.recipe(cut.recipe)
        prepared.jobs.append(_job(source, part, part.extent, named, recipe, book, prepared))
    prepared.warnings += [
        Remark(cut=called.get(notice.part, notice.part), part=notice.part, reason=notice.reason)
        for notice in source.notices
    ]
    return prepared


def _job(
    source: Survey,
    part: PartFacts,
    extent: Rect,
    cut: Cut,
    recipe: Recipe,
    book: NameBook,
    prepared: Prepared,
) -> Job:
    variants = []
    for size in ladder(extent.size, recipe.widths, part.scalable):
        for format in recipe.formats:
            problem = too_large_for(format, size)
            if problem:
                prepared.failed.append(Remark(cut=cut.name, part=cut.part, reason=problem))
                continue
            variants.append(
                _variant(source.name, part.fingerprint, cut, recipe, size, format, book)
            )
    return Job(
        source=source.name,
        cut=cut,
        recipe=recipe,
        extent=extent,
        fingerprint=part.fingerprint,
        variants=tuple(variants),
        alt=part.display_name,
    )


def _variant(
    source: str,
    fingerprint: str,
    cut: Cut,
    recipe: Recipe,
    size: Size,
    format: Format,
    book: NameBook,
) -> Variant:
    fields = {
        "cut": cut.name,
        "source": Path(source).stem,
        "width": str(size.width),
        "height": str(size.height),
        "format": format.value,
        "ext": FORMATS[format].extension,
    }
    quality = recipe.quality_for(format)
    treatment = [ENCODER, size.width, size.height, format, quality, recipe.alpha, recipe.matte]
    return Variant(
        key=_key(fingerprint, *treatment),
        path=book.path(recipe.name, fields),
        format=format,
        width=size.width,
        height=size.height,
        quality=quality,
    )


def _key(*ingredients: object) -> str:
    text = json.dumps([str(ingredient) for ingredient in ingredients])
    return hashlib.blake2b(text.encode(), digest_size=20).hexdigest()


def facts_key(job: Job) -> str:
    """The key under which a cut's Facts are kept."""
    widest = max((variant.width for variant in job.variants), default=job.extent.width)
    return _key(job.fingerprint, ENCODER, "facts", widest)


def carry_out(
    job: Job,
    opened: Callable[[], Document],
    shelf: Shelf,
    on_file: Callable[[File], None] = lambda _: None,
) -> JobReport:
    """Make the files of one cut, or find them on the shelf.

    ``opened`` gives the document and is only called when there is something to draw. A variant
    that its encoder refuses is reported and costs no other. Raises SourceError if the source
    cannot be drawn.
    """
    files: dict[str, File] = {}
    missing: list[Variant] = []
    failed: list[Remark] = []
    for variant in job.variants:
        stored = shelf.recall(variant.key, variant.path)
        if stored is None:
            missing.append(variant)
            continue
        files[variant.path] = _file(job, variant, stored)
        on_file(files[variant.path])
    measured = facts_key(job)
    facts = _recalled_facts(shelf, measured)
    if missing or facts is None:
        document = opened()
        part = document.part(job.cut.part)
        facts = _encode_all(job, document, part, missing, facts, shelf, files, failed, on_file)
        shelf.keep_facts(measured, facts.model_dump(mode="json"))
    ordered = [files[v.path] for v in job.variants if v.path in files]
    return JobReport(
        record=_record(job, facts, ordered),
        files=ordered,
        keys={v.path: v.key for v in job.variants if v.path in files},
        facts_key=measured,
        failed=failed,
    )


def _recalled_facts(shelf: Shelf, key: str) -> Facts | None:
    known = shelf.recall_facts(key)
    return Facts.model_validate(known) if known else None


def _encode_all(
    job: Job,
    document: Document,
    part: Part,
    missing: list[Variant],
    facts: Facts | None,
    shelf: Shelf,
    files: dict[str, File],
    failed: list[Remark],
    on_file: Callable[[File], None],
) -> Facts:
    wanted = {variant.size for variant in missing}
    if facts is None:
        wanted.add(max((v.size for v in job.variants), key=_width, default=job.extent.size))
    for size, image in rungs(document, part, job.extent, sorted(wanted, key=_width)):
        if facts is None:
            facts = Facts(alpha=alpha_kind(image), baseline_bytes=baseline_bytes(document, image))
        for variant in (v for v in missing if v.size == size):
            try:
                pixels = fit_alpha(image, variant.format, job.recipe)
                data = encode(pixels, variant.format, variant.quality)
            except EncodeError as error:
                failed.append(Remark(cut=job.cut.name, reason=f"{variant.path}: {error}"))
                continue
            stored = shelf.keep(variant.key, variant.path, data)
            files[variant.path] = _file(job, variant, stored)
            on_file(files[variant.path])
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
    )


def _record(job: Job, facts: Facts | None, files: list[File]) -> CutRecord:
    offers = [Offer(f.path, f.format, f.width, f.height) for f in files]
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
        markup=picture(offers, job.extent.size, job.alt),
    )


def failed_report(job: Job, reason: str) -> JobReport:
    """The report of a job that could not be carried out at all."""
    return JobReport(
        record=_record(job, None, []), failed=[Remark(cut=job.cut.name, reason=reason)]
    )

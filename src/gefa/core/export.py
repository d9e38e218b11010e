"""Run a plan over a document: the one way from a source to files.

The command line, the worker processes and the tests all come through here. ``prepare`` says what
there is to make without drawing or encoding; ``carry_out`` makes the files of one cut.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from pathlib import Path

import pyvips
from pydantic import BaseModel, ConfigDict

from gefa.core.cut.cut import Cut, Remark
from gefa.core.cut.gather import gather
from gefa.core.cut.glob import covers
from gefa.core.cut.slices import fingerprint
from gefa.core.deliver.manifest import CutRecord, File, OriginalFile
from gefa.core.deliver.markup import Offer, picture, plain_box
from gefa.core.deliver.names import NameBook, safe
from gefa.core.deliver.shelf import Shelf, Stored
from gefa.core.errors import EncodeError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.plan import Plan
from gefa.core.read.document import Document
from gefa.core.read.stored import EXTENSIONS
from gefa.core.read.survey import OriginalFacts, PartFacts, Survey, outline, survey
from gefa.core.treat.encode import ENCODER, encode, too_large_for
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.make import baseline_bytes, fit_alpha, rungs
from gefa.core.treat.recipe import Recipe

LARGE_MEGAPIXELS = 40.0
"""above which a person is asked before a run"""


class Variant(BaseModel):
    """One file to make. ``key`` says everything its bytes depend on; sizes in px. ``moves`` keeps
    all frames of an animation."""

    model_config = ConfigDict(frozen=True)

    key: str
    path: str
    format: Format
    width: int
    height: int
    quality: int | None
    moves: bool = False

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)


class Job(BaseModel):
    """The files of one cut, self-contained: with the source's bytes it is all a worker needs.

    ``extent`` is in canvas px. ``css`` shows the cut without any file.
    """

    model_config = ConfigDict(frozen=True)

    source: str
    cut: Cut
    recipe: Recipe
    extent: Rect
    fingerprint: str
    variants: tuple[Variant, ...]
    alt: str = ""
    css: str = ""

    @property
    def megapixels(self) -> float:
        """Of its largest file."""
        return max((variant.size.megapixels for variant in self.variants), default=0.0)


class JobReport(BaseModel):
    """What became of a job. ``keys`` gives each file's path the key it was made from."""

    record: CutRecord
    files: list[File] = []
    keys: dict[str, str] = {}
    facts_key: str = ""
    failed: list[Remark] = []
    warnings: list[Remark] = []


class OriginalJob(BaseModel):
    """A bitmap to be taken out of a design as it is stored, to ``path``."""

    model_config = ConfigDict(frozen=True)

    facts: OriginalFacts
    path: str


@dataclass
class Prepared:
    """What a run will do: jobs, and what it already has to say. ``gaps`` tells, in words, what
    drawn slices leave of the canvas."""

    jobs: list[Job] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    failed: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)
    gaps: str = ""
    originals: list[OriginalJob] = field(default_factory=list)

    @property
    def large(self) -> list[Job]:
        """Jobs with a file above 40 megapixels."""
        return [job for job in self.jobs if job.megapixels > LARGE_MEGAPIXELS]

    def warn(self, cut: Cut, reason: str) -> None:
        self.warnings.append(Remark(cut=cut.name, part=cut.key, reason=reason))

    def fail(self, cut: Cut, reason: str) -> None:
        self.failed.append(Remark(cut=cut.name, part=cut.key, reason=reason))


@dataclass(frozen=True)
class _Pixels:
    """What a cut shows: where (canvas px), what of, and whether it is drawn at any size."""

    extent: Rect
    fingerprint: str
    scalable: bool
    css: str = ""


class Facts(BaseModel):
    """What is measured of a cut's pixels once: its alpha, and its baseline in bytes."""

    alpha: AlphaKind
    baseline_bytes: int


def survey_for(document: Document, plan: Plan, *, default: bool = True) -> Survey:
    """The document's tree, measured where the plan makes cuts; all of it if it slices."""
    gathered = gather(outline(document), plan, default=default)
    chosen = {cut.part for cut in gathered.cuts}
    if plan.originals or any(cut.rect for cut in gathered.cuts):
        return survey(document)
    return survey(document, lambda part: part.path in chosen)


def prepare(
    source: Survey, plan: Plan, names: NameBook | None = None, *, default: bool = True
) -> Prepared:
    """Expand plan × source into jobs; draws and encodes nothing.

    A part that could not be measured, or shows nothing, fails alone.
    """
    book = names or NameBook()
    gathered = gather(source, plan, default=default)
    prepared = Prepared(left_out=gathered.left_out, warnings=gathered.warnings, gaps=gathered.gaps)
    by_path = {part.path: part for part in source.parts}
    called: dict[str, str] = {}
    for cut in gathered.cuts:
        part = by_path[cut.part]
        problem = _nothing_to_cut(part)
        if problem:
            prepared.fail(cut, problem)
            continue
        named = cut.model_copy(update={"name": book.cut(cut.name)})
        called[cut.part] = named.name
        recipe = plan.recipe(cut.recipe)
        shown = _pixels(source, part, named, prepared)
        prepared.jobs.append(_job(source, part, shown, named, recipe, book, prepared))
    prepared.warnings += [
        Remark(cut=called.get(notice.part, notice.part), part=notice.part, reason=notice.reason)
        for notice in source.notices
    ]
    prepared.originals = [
        OriginalJob(facts=facts, path=book.path(f"originals/{safe(facts.name)}.{{ext}}", fields))
        for facts in source.originals
        if any(_covers(entry.parts, facts.part) for entry in plan.originals)
        for fields in ({"ext": EXTENSIONS[facts.media_type]},)
    ]
    return prepared


def _covers(glob: str, path: str) -> bool:
    return glob == "*" or covers(glob, path)


def take_out(
    source: str, jobs: Sequence[OriginalJob], document: Document, shelf: Shelf
) -> list[OriginalFile]:
    """Write originals to the shelf, byte for byte as they are stored."""
    made = []
    for job in jobs:
        facts = job.facts
        data = document.original_bytes(facts.key)
        key = _key("original", hashlib.sha256(data).hexdigest())
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


def _nothing_to_cut(part: PartFacts) -> str:
    if part.problem or part.extent is None or part.extent.empty:
        return part.problem or f"the part {part.path!r} has no visible pixels"
    return ""


def _pixels(source: Survey, part: PartFacts, cut: Cut, prepared: Prepared) -> _Pixels:
    assert part.extent is not None
    if cut.rect is not None:
        return _Pixels(cut.rect, fingerprint(source, cut.rect), False)
    if part.blend != "src-over":
        prepared.warn(cut, f"its blend mode {part.blend} against what lies below is dropped")
    if part.strays is not None:
        if not cut.strays:
            return _Pixels(part.strays.rest, part.strays.fingerprint, part.scalable)
        prepared.warn(cut, part.strays.words)
    css = "" if cut.as_file or cut.size else part.css
    return _Pixels(part.extent, part.fingerprint, part.scalable, css)


def _sizes(shown: _Pixels, cut: Cut, recipe: Recipe, prepared: Prepared) -> list[Size]:
    """The sizes to make, in px, by the recipe's widths or by the cut's own size."""
    natural = shown.extent.size
    if cut.size is None:
        return ladder(natural, recipe.widths, shown.scalable)
    wanted = cut.size.pixels(natural)
    if not shown.scalable and (wanted.width > natural.width or wanted.height > natural.height):
        share = min(natural.width / wanted.width, natural.height / wanted.height)
        made = Size(max(1, int(wanted.width * share)), max(1, int(wanted.height * share)))
        prepared.warn(
            cut,
            f"{wanted.width:,} × {wanted.height:,} px were asked for; there are only"
            f" {natural.width:,} × {natural.height:,}, and nothing is enlarged:"
            f" {made.width:,} × {made.height:,} px are made",
        )
        wanted = made
    if abs(wanted.height - natural.height * wanted.width / natural.width) > 1.0:
        prepared.warn(
            cut,
            f"{wanted.width:,} × {wanted.height:,} px distort it: its own ratio is"
            f" {natural.width:,} : {natural.height:,}",
        )
    return [wanted]


def _job(
    source: Survey,
    part: PartFacts,
    shown: _Pixels,
    cut: Cut,
    recipe: Recipe,
    book: NameBook,
    prepared: Prepared,
) -> Job:
    variants = []
    sizes = [] if shown.css else _sizes(shown, cut, recipe, prepared)
    still = [
        FORMATS[format].label
        for format in recipe.formats
        if source.frames > 1 and (not FORMATS[format].moves or cut.rect)
    ]
    if still and sizes:
        prepared.warn(
            cut, f"has {source.frames} frames; {' and '.join(still)} show the first one only"
        )
    _tell_resolution(cut, recipe, prepared)
    for size in sizes:
        for format in recipe.formats:
            problem = too_large_for(format, size)
            if problem:
                prepared.fail(cut, problem)
                continue
            moves = source.frames > 1 and FORMATS[format].moves and cut.rect is None
            variants.append(
                _variant(source.name, shown.fingerprint, cut, recipe, size, format, book, moves)
            )
    return Job(
        source=source.name,
        cut=cut,
        recipe=recipe,
        extent=shown.extent,
        fingerprint=shown.fingerprint,
        variants=tuple(variants),
        alt=cut.name if cut.rect else part.display_name,
        css=shown.css,
    )


def _tell_resolution(cut: Cut, recipe: Recipe, prepared: Prepared) -> None:
    if cut.size is None or cut.size.resolution is None:
        return
    mute = [FORMATS[f].label for f in recipe.formats if not FORMATS[f].resolution]
    if mute:
        kept = f"{cut.size.resolution:g} dpi cannot be written into {' and '.join(mute)} files"
        prepared.warn(cut, kept)


def _variant(
    source: str,
    content: str,
    cut: Cut,
    recipe: Recipe,
    size: Size,
    format: Format,
    book: NameBook,
    moves: bool,
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
    if moves:
        treatment.append("moves")
    if cut.size is not None and cut.size.resolution is not None:
        treatment.append(f"{cut.size.resolution:g} dpi")
    return Variant(
        key=_key(content, *treatment),
        path=book.path(recipe.name, fields),
        format=format,
        width=size.width,
        height=size.height,
        quality=quality,
        moves=moves,
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

"""Makes the files of one cut. Command line, workers and tests all come through here.

The command line, the worker processes and the tests all come through ``carry_out``. It asks
``decide`` what is needed, has that made or measured, and asks again, until it is decided.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence

from gefa.core.cut.crop import crop_within
from gefa.core.deliver.manifest import File, OriginalFile
from gefa.core.errors import TakenPath
from gefa.core.geometry import Rect
from gefa.core.make.cut_warnings import warnings_of
from gefa.core.make.decide import Decisions, Known, Needs, decide
from gefa.core.make.facts import measured
from gefa.core.make.job import CutJob, OriginalJob, PlannedVariant
from gefa.core.make.keys import key_of
from gefa.core.make.report import JobReport, record_of, region_of, remark_about
from gefa.core.make.shelf import Shelf
from gefa.core.make.variant_maker import OnMade, OwnFile, VariantMaker
from gefa.core.read.document import Document
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.pictures import Pictures
from gefa.core.treat.recipe import Aim, AlphaPolicy, Keep

MOST_TURNS = 2_000
"""turns of deciding and making: a job has at most a few thousand variants, and each
turn makes some"""


def original_key(sha256: str) -> str:
    """The key of a bitmap that is taken out of a design as it is stored."""
    return key_of("original", sha256)


def take_out(
    source: str, jobs: Sequence[OriginalJob], document: Document, shelf: Shelf
) -> list[OriginalFile]:
    """Put originals on the shelf, byte for byte as stored."""
    made = []
    for job in jobs:
        facts = job.facts
        data = document.original_bytes(facts.key)
        sha256 = hashlib.sha256(data).hexdigest()
        key = original_key(sha256)
        shelf.put(key, MadeVariant(sha256=sha256, bytes=len(data)), data)
        shelf.place(key, job.path)
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
                bytes=len(data),
                sha256=sha256,
            )
        )
    return made


def carry_out(
    job: CutJob,
    opened: Callable[[], Document],
    shelf: Shelf,
    on_made: OnMade = lambda variant, made: None,
    threads: int = 1,
    mark: Callable[[], Document] | None = None,
) -> JobReport:
    """Make the files of one cut, or find them on the shelf.

    ``opened`` gives the document, and ``mark`` the picture for a corner; each is called only if
    needed. ``threads`` encoders run at once; ``on_made`` is called for each variant. If an encoder
    refuses a variant, the report says so and the others are made. SourceError if the source cannot
    be drawn.
    """
    if not job.variants:
        return JobReport(record=record_of(job, job.extent, None, []))
    return _Making(job, opened, shelf, on_made, threads, mark).report()


def find_cut(job: CutJob, shelf: Shelf) -> JobReport | None:
    """The report of a cut whose files are all on the shelf, each put at its path; None if anything
    has to be made or measured."""
    try:
        return carry_out(job, _nothing, shelf)
    except _Missing:
        return None


class _Missing(Exception):
    """Something has to be drawn."""


def _nothing() -> Document:
    raise _Missing


class _Making:
    """A job that is being made."""

    def __init__(
        self,
        job: CutJob,
        opened: Callable[[], Document],
        shelf: Shelf,
        on_made: OnMade,
        threads: int,
        mark: Callable[[], Document] | None,
    ) -> None:
        self._job, self._opened, self._shelf = job, opened, shelf
        self._on_made, self._threads, self._mark = on_made, threads, mark
        self._facts = shelf.facts(job.facts_key)
        self._made = shelf.known(variant.key for variant in job.variants)
        self._refused: dict[str, str] = {}
        self._taken: dict[str, str] = {}
        self._document: Document | None = None
        self._pictures: Pictures | None = None
        self._maker: VariantMaker | None = None

    def report(self) -> JobReport:
        job = self._job
        decisions = self._decided()
        kept = [variant for variant in decisions.kept if variant.path not in self._taken]
        files = [self._file(variant) for variant in kept]
        assert self._facts is not None
        shown = region_of(job, self._facts.crop)
        remarks = warnings_of(job, self._facts, files)
        return JobReport(
            record=record_of(job, shown, self._facts, files, decisions.why),
            files=files,
            keys={variant.path: variant.key for variant in kept},
            made=self._made,
            facts={job.facts_key: self._facts},
            failed=[
                *(remark_about(job, reason) for reason in self._taken.values()),
                *(
                    remark_about(job, f"{variant.path}: {self._refused[variant.key]}")
                    for variant in job.variants
                    if variant.key in self._refused
                ),
            ],
            left_out=[remark_about(job, reason) for reason in decisions.left_out],
            warnings=[*(remark_about(job, reason) for reason in decisions.warnings), *remarks],
        )

    def _decided(self) -> Decisions:
        """Decide, make, decide again. Kept files are put in their places; a file that is gone from
        the shelf is made again."""
        for _ in range(MOST_TURNS):
            known = Known(self._facts, self._made, frozenset(self._refused))
            step = decide(self._job, known)
            if isinstance(step, Needs):
                self._fulfil(step)
                continue
            gone = [v for v in step.kept if not self._placed(v)]
            if not gone:
                return step
            for variant in gone:
                del self._made[variant.key]
        raise RuntimeError(f"{self._job.cut.name} cannot be decided: {step}")

    def _placed(self, variant: PlannedVariant) -> bool:
        try:
            return self._shelf.place(variant.key, variant.path)
        except TakenPath as error:
            self._taken[variant.path] = error.told
            return True

    def _fulfil(self, needs: Needs) -> None:
        if needs.facts:
            self._facts = self._measured()
            self._shelf.put_facts(self._job.facts_key, self._facts)
        if needs.variants:
            maker = self._making()
            maker.make(needs.variants)
            self._made |= maker.made
            self._refused |= maker.refused
        for variant in needs.looks:
            known = self._making().measure(variant, self._made[variant.key])
            if known is None:
                del self._made[variant.key]
            else:
                self._made[variant.key] = known

    def _measured(self) -> CutFacts:
        document = self._drawn()
        crop = self._facts.crop if self._facts is not None else crop_of(self._job, document)
        self._pictures = pictures_for(self._job, document, crop, self._mark)
        sizes = sorted({v.size for v in self._job.variants}, key=lambda size: size.width)
        return measured(
            document,
            self._pictures,
            self._job.widest,
            crop,
            sizes if self._job.steps is not None else (),
        )

    def _drawn(self) -> Document:
        if self._document is None:
            self._document = self._opened()
        return self._document

    def _making(self) -> VariantMaker:
        if self._maker is None:
            assert self._facts is not None
            document = self._drawn()
            keeps = self._job.recipe.metadata is Keep.COPYRIGHT
            if self._pictures is None:
                self._pictures = pictures_for(self._job, document, self._facts.crop, self._mark)
            self._maker = VariantMaker(
                self._job,
                self._pictures,
                self._facts,
                self._shelf,
                threads=self._threads,
                copyright=document.copyright if keeps else "",
                own=self._own_file(document),
                on_made=self._on_made,
            )
        return self._maker

    def _own_file(self, document: Document) -> OwnFile | None:
        """The part's own file, if the recipe keeps the whole part as it is and no metadata."""
        job, recipe = self._job, self._job.recipe
        whole = job.cut.rect is None and job.cut.size is None and job.crop is None
        plain = not recipe.tone and recipe.mark is None
        keeps = recipe.metadata is Keep.COPYRIGHT and bool(document.copyright)
        taken = recipe.takes_untouched and whole and plain and not keeps
        stored = document.stored_file(document.part(job.cut.part)) if taken else None
        return OwnFile(stored) if stored is not None else None

    def _file(self, variant: PlannedVariant) -> File:
        made = self._made[variant.key]
        return File(
            source=self._job.source,
            cut=self._job.cut.name,
            path=variant.path,
            format=variant.format,
            width=variant.width,
            height=variant.height,
            bytes=made.bytes,
            sha256=made.sha256,
            quality=made.quality,
            score=made.score,
            reused=not self._shelf.is_new(variant.key),
            moves=variant.moves,
            limit=made.limit,
            untouched=made.untouched,
            gzip=made.gzip,
            short=made.short,
            key=variant.key,
            budget=variant.quality.max_bytes if isinstance(variant.quality, Aim) else None,
        )


# -- what is drawn -----------------------------------------------------------------------


def crop_of(job: CutJob, document: Document) -> Rect | None:
    """The recipe's crop, in px within the cut; None for all."""
    if job.crop is None:
        return None
    return crop_within(document, document.part(job.cut.part), job.extent, job.crop)


def pictures_for(
    job: CutJob, document: Document, crop: Rect | None, mark: Callable[[], Document] | None
) -> Pictures:
    """The pictures that a job's files are encoded from; ``crop`` is in px within the cut."""
    return Pictures(
        document,
        document.part(job.cut.part),
        region_of(job, crop),
        job.widest,
        whole=job.cut.strays,
        under=job.recipe.alpha is AlphaPolicy.UNDERLAY and job.cut.rect is None,
        tone=job.recipe.tone,
        mark=(job.recipe.mark, mark()) if job.recipe.mark and mark else None,
    )

"""The files of one job while they are made: encoded side by side, compared, and put down."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from itertools import pairwise
from math import log2

import pyvips
from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File
from gefa.core.deliver.shelf import Shelf, Stored
from gefa.core.errors import EncodeError
from gefa.core.geometry import Rect, Size
from gefa.core.make.jobs import CutJob, PlannedVariant
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.treat.auto_formats import Candidate, choose
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, ORDER, Format
from gefa.core.treat.pictures import Pictures, fit_alpha
from gefa.core.treat.quality_search import EncodeResult
from gefa.core.treat.recipe import Aim, AlphaPolicy
from gefa.core.treat.typical_curves import DRIFT, HEAVIER, PERFECT, Curve, moved
from gefa.core.units import weight

SHORT = 0.005
"""points that a score may be short of its look by being rounded"""


class Decisions(BaseModel):
    """What making a job's files had to say, kept for when they are only recalled: the crop (px
    within the cut); the formats and widths (px) that were chosen on the way, and why; by the
    variant's key, reasons for files that were left out, and what kept an encoder from its look;
    and warnings. Nothing of it depends on names or on where the cut lies: both may be others by
    then."""

    crop: Rect | None = None
    formats: tuple[Format, ...] = ()
    widths: tuple[int, ...] = ()
    why: str = ""
    left_out: dict[str, str] = {}
    limits: dict[str, str] = {}
    warnings: list[str] = []

    def wanted(self, job: CutJob) -> list[PlannedVariant]:
        """The variants that are to be made, as far as that was decided."""
        return [
            variant
            for variant in job.variants
            if (not self.formats or variant.format in self.formats)
            and (not self.widths or variant.width in self.widths)
            and variant.key not in self.left_out
        ]

    def decided(self, job: CutJob) -> bool:
        """Whether nothing is left to be chosen while the files are made."""
        return bool(self.formats or not job.recipe.auto) and bool(self.widths or not job.steps)

    def warning_remarks(self, job: CutJob) -> list[Remark]:
        return [_about(job, reason) for reason in self.warnings]

    def left_out_remarks(self, job: CutJob) -> list[Remark]:
        """One for each reason."""
        reasons = dict.fromkeys(
            self.left_out[v.key] for v in job.variants if v.key in self.left_out
        )
        return [_about(job, reason) for reason in reasons]


def _about(job: CutJob, reason: str) -> Remark:
    return Remark(cut=job.cut.name, part=job.cut.key, reason=reason)


@dataclass(frozen=True)
class _Made:
    """A file to be compared with others: its bytes, and how it looks if that was measured. A look
    that is ``enough`` was asked for: what looks better still is no better."""

    data: bytes
    score: float | None
    moves: bool
    enough: float = PERFECT


@dataclass
class _Rung:
    """One size of the picture, and the files of it that have been made."""

    image: pyvips.Image
    open: set[Format]
    found: dict[Format, _Made] = field(default_factory=dict)
    looked: dict[bool, EncodeSource] = field(default_factory=dict)


class Making:
    """Makes the files of ``job``, at most ``threads`` at once. ``said`` is what is known of an
    earlier making of the same."""

    def __init__(
        self,
        job: CutJob,
        shelf: Shelf,
        on_file: Callable[[File], None],
        threads: int,
        said: Decisions,
    ) -> None:
        self.job = job
        self.said = said
        self.files: dict[str, File] = {}
        self.failed: list[Remark] = []
        self.copyright = ""
        self.searches = any(isinstance(variant.quality, Aim) for variant in job.variants)
        self._shelf, self._on_file = shelf, on_file
        self._threads = threads
        self._pool = ThreadPoolExecutor(threads)
        self._running: dict[Future[EncodeResult], tuple[PlannedVariant, _Rung]] = {}
        self._begun: set[str] = set()
        self._curves: dict[Format, tuple[int, Curve]] = {}
        self._rivals: set[tuple[Format, Format]] | None = None
        self._rungs: list[_Rung] = []
        self._last_rung: _Rung | None = None
        self._recalled: dict[str, Stored] = {}
        self._smaller: dict[bool, EncodeSource] = {}

    def recall(self) -> None:
        """Take what is on the shelf."""
        for variant in self.said.wanted(self.job):
            stored = self._shelf.recall(variant.key, variant.path)
            if stored is not None:
                self._recalled[variant.path] = stored
                self._there(variant, stored)

    def missing(self) -> list[PlannedVariant]:
        """What is wanted, is not there, and was not yet begun."""
        return [
            variant
            for variant in self.said.wanted(self.job)
            if variant.path not in self.files and variant.path not in self._begun
        ]

    def begin(self, size: Size, pictures: Pictures, image: pyvips.Image) -> None:
        """Begin the missing files of one size; waits while as many are on their way as there are
        threads, so that no more pictures are held than that."""
        variants = [variant for variant in self.missing() if variant.size == size]
        rung = self._last_rung = _Rung(image, {variant.format for variant in variants})
        for known in self.said.wanted(self.job):
            if known.size == size and known.path in self._recalled and self._looks_at(variants):
                stored = self._recalled[known.path]
                data = self._shelf.load(stored, known.path)
                rung.found[known.format] = _Made(data, stored.score, known.moves, _enough(known))
                self._looked(rung, known, pictures)
        for variant in variants:
            self._begun.add(variant.path)
            self._wait_for(variant)
            looked = self._looked(rung, variant, pictures)
            started = self._pool.submit(find, looked, self._wish(variant))
            self._running[started] = (variant, rung)

    def _looks_at(self, variants: list[PlannedVariant]) -> bool:
        """Whether files that are already there matter: others are made, or chosen from."""
        return bool(variants) or not self.said.decided(self.job)

    def settle(self) -> None:
        """Wait for everything that was begun."""
        self._take(wait(self._running).done)

    def finish(self) -> None:
        """Wait for the last files, and leave out what is worth nothing."""
        self.settle()
        self._pool.shutdown()
        self._leave_out()

    # -- what is decided on the way --------------------------------------------------------

    def choose_formats(self) -> None:
        """Take what is worth making from the files of the size that was begun last."""
        self.settle()
        rung = self._last_rung
        assert rung is not None
        image = rung.image
        if self.job.recipe.alpha is not AlphaPolicy.KEEP:
            image = fit_alpha(image, Format.JPEG, self.job.recipe)
        alpha = alpha_kind(image)
        aim = self.job.recipe.quality_for(ORDER[0])
        target = aim.look if isinstance(aim, Aim) and aim.look is not None else 0.0
        tried = {format: self._candidate(rung, format, alpha, target) for format in rung.found}
        if not tried:
            self.said.formats = self.job.recipe.candidates
            return
        looked = next(iter(rung.looked.values()))
        choice = choose(tried, looked.look, alpha, target, rung.image.width)
        self.said.formats, self.said.why = choice.formats, choice.why
        for format, reason in choice.against.items():
            self._discard(format, reason)

    def _candidate(self, rung: _Rung, format: Format, alpha: AlphaKind, target: float) -> Candidate:
        made = rung.found[format]
        lacks = ""
        if alpha is not AlphaKind.NONE and not FORMATS[format].alpha:
            lacks = "loses the transparency"
        elif _scored(rung, format) < target - SHORT:
            lacks = "does not look as good"
        return Candidate(len(made.data), lacks, made.moves)

    def weights(self) -> dict[int, int]:
        """Bytes of the lightest file of each width (px) that has one."""
        self.settle()
        found: dict[int, int] = {}
        for file in self.files.values():
            found[file.width] = min(file.bytes, found.get(file.width, file.bytes))
        return found

    def choose_widths(self, widths: Iterable[int], apart: int) -> None:
        """Keep these widths (px) of those that were made; tells where neighbours are more than
        ``apart`` bytes apart all the same."""
        self.said.widths = tuple(widths)
        known = self.weights()
        for narrow, wide in pairwise(self.said.widths):
            if abs(known[wide] - known[narrow]) > apart:
                self.said.warnings.append(
                    f"from {narrow:,} to {wide:,} px its weight goes from {weight(known[narrow])}"
                    f" to {weight(known[wide])}, and no width between them makes a smaller step"
                )
        for variant in self.job.variants:
            if variant.path in self.files and variant.width not in self.said.widths:
                del self.files[variant.path]
                self._shelf.discard(variant.path)
        self._rungs = [rung for rung in self._rungs if rung.image.width in self.said.widths]

    # -- one file after another ------------------------------------------------------------

    def _wait_for(self, variant: PlannedVariant) -> None:
        if isinstance(variant.quality, Aim):
            neighbour = [f for f, (v, _) in self._running.items() if v.format is variant.format]
            self._take(wait(neighbour).done)
        while len(self._running) >= self._threads:
            self._take(wait(self._running, return_when=FIRST_COMPLETED).done)

    def _looked(self, rung: _Rung, variant: PlannedVariant, pictures: Pictures) -> EncodeSource:
        still = fit_alpha(rung.image, variant.format, self.job.recipe)
        alpha = bool(still.hasalpha())
        if alpha not in rung.looked:
            rung.looked[alpha] = EncodeSource(still, smaller=self._smaller.get(alpha))
            self._smaller = {alpha: rung.looked[alpha]} if self.searches else {}
        if variant.moves:
            moving = fit_alpha(pictures.moving(variant.size), variant.format, self.job.recipe)
            return EncodeSource(moving, still)
        return rung.looked[alpha]

    def _wish(self, variant: PlannedVariant) -> EncodeRequest:
        settings = self.job.recipe.settings_for(variant.format)
        curve = None
        if variant.format in self._curves:
            width, found = self._curves[variant.format]
            by_look = isinstance(variant.quality, Aim) and variant.quality.look is not None
            drift = DRIFT[variant.format] if by_look else HEAVIER
            curve = moved(found, drift * log2(variant.width / width))
        return EncodeRequest(
            variant.format,
            variant.quality,
            replace(settings, copyright=self.copyright),
            self.job.cut.size.resolution if self.job.cut.size else None,
            curve,
        )

    def _take(self, done: Iterable[Future[EncodeResult]]) -> None:
        for future in done:
            variant, rung = self._running.pop(future)
            try:
                found = future.result()
            except EncodeError as error:
                self._fail(variant, str(error))
            else:
                self._took(variant, rung, found)
            rung.open.discard(variant.format)
            if not rung.open:
                self._compare(rung)

    def _took(self, variant: PlannedVariant, rung: _Rung, found: EncodeResult) -> None:
        if found.curve is not None:
            self._curves[variant.format] = (variant.width, found.curve)
        if not found.fits:
            self.said.left_out[variant.key] = f"{variant.width:,} px are left out: {found.limit}"
            self.said.warnings.append(f"over budget at {variant.width:,} px: {found.limit}")
            return
        if found.limit:
            self.said.limits[variant.key] = found.limit
            if found.short:
                self.said.warnings.append(f"at {variant.width:,} px {found.limit}")
        rung.found[variant.format] = _Made(found.data, found.score, variant.moves, _enough(variant))
        stored = self._shelf.keep(
            variant.key, variant.path, found.data, quality=found.quality, score=_shown(found.score)
        )
        self._there(variant, stored)

    def _fail(self, variant: PlannedVariant, reason: str) -> None:
        self.failed.append(Remark(cut=self.job.cut.name, reason=f"{variant.path}: {reason}"))

    def _compare(self, rung: _Rung) -> None:
        """Keep the sizes for a look at the end, while a format is not lighter than an older one at
        any of them so far: most are at the first."""
        if self.job.recipe.every_format:
            return
        rivals = {
            (older, newer)
            for newer in rung.found
            for older in rung.found
            if ORDER.index(older) > ORDER.index(newer) and _no_lighter(rung, older, newer)
        }
        self._rivals = rivals if self._rivals is None else self._rivals & rivals
        # The smallest first: a look at it costs least, and may settle it.
        self._rungs = [rung, *self._rungs] if self._rivals else []

    def _leave_out(self) -> None:
        """A source of a ``<picture>`` needs all its widths, so a format goes as a whole: if an
        older one is not heavier and looks no worse at every width."""
        sizes = {variant.size for variant in self.said.wanted(self.job)}
        if len(self._rungs) < len(sizes):
            return
        gone: set[Format] = set()
        for older, newer in sorted(self._rivals or (), key=lambda pair: ORDER.index(pair[1])):
            if gone & {older, newer} or any(_looks_worse(r, older, newer) for r in self._rungs):
                continue
            gone.add(newer)
            self._discard(newer, _reason(self._rungs, older, newer))

    def _discard(self, format: Format, reason: str) -> None:
        for variant in self.job.variants:
            if variant.format is format and variant.path in self.files:
                del self.files[variant.path]
                self._shelf.discard(variant.path)
                self.said.left_out[variant.key] = reason

    def file(self, variant: PlannedVariant) -> File:
        """A file that was made or recalled, with its limit."""
        limit = self.said.limits.get(variant.key, "")
        return self.files[variant.path].model_copy(update={"limit": limit})

    def _there(self, variant: PlannedVariant, stored: Stored) -> None:
        self.files[variant.path] = File(
            cut=self.job.cut.name,
            path=variant.path,
            format=variant.format,
            width=variant.width,
            height=variant.height,
            bytes=stored.bytes,
            sha256=stored.sha256,
            quality=stored.quality,
            score=stored.score,
            reused=stored.reused,
            moves=variant.moves,
            budget=variant.quality.max_bytes if isinstance(variant.quality, Aim) else None,
        )
        self._on_file(self.files[variant.path])


def _shown(score: float | None) -> float | None:
    return None if score is None else round(score, 2)


def _enough(variant: PlannedVariant) -> float:
    aim = variant.quality
    return aim.look if isinstance(aim, Aim) and aim.look is not None else PERFECT


def _no_lighter(rung: _Rung, older: Format, newer: Format) -> bool:
    ours, theirs = rung.found[newer], rung.found[older]
    if FORMATS[newer].alpha and not FORMATS[older].alpha and True in rung.looked:
        return False  # the older one has lost the transparency
    return len(ours.data) >= len(theirs.data) and ours.moves <= theirs.moves


def _looks_worse(rung: _Rung, older: Format, newer: Format) -> bool:
    return _scored(rung, older) < _scored(rung, newer)


def _scored(rung: _Rung, format: Format) -> float:
    found = rung.found[format]
    if found.score is not None:
        return min(found.score, found.enough)
    looked = rung.looked.get(True) or next(iter(rung.looked.values()))
    return looked.score(found.data)


def _reason(rungs: list[_Rung], older: Format, newer: Format) -> str:
    bytes = [sum(len(rung.found[f].data) for rung in rungs) for f in (older, newer)]
    return (
        f"{FORMATS[newer].label} is left out: {FORMATS[older].label} is lighter or as light"
        f" ({weight(bytes[0])} against {weight(bytes[1])}) and looks no worse, at every width"
    )

"""Encodes the variants that were decided on, several at once. Decides nothing."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import replace
from functools import cached_property
from threading import Lock

import pyvips

from gefa.core.errors import EncodeError, NotDrawable
from gefa.core.geometry import Size, height_for
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.shelf import VariantShelf
from gefa.core.pixels import on_matte
from gefa.core.read.document import StoredFile
from gefa.core.treat.curves import PERFECT
from gefa.core.treat.encode_at_quality import (
    PROBE_WIDTH,
    EncodeRequest,
    EncodeSource,
    find,
)
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.pictures import Pictures, fit_alpha
from gefa.core.treat.quality_search import EncodeResult
from gefa.core.treat.recipe import Aim
from gefa.core.treat.svg_file import sent_bytes
from gefa.core.treat.untouched import bare, least_bytes, shows


class OwnFile:
    """The file that a part is stored in, which may serve as the variant of its format and natural
    size."""

    def __init__(self, stored: StoredFile) -> None:
        self._stored = stored

    def for_variant(self, variant: PlannedVariant, image: pyvips.Image, most: int) -> bytes | None:
        """Its bytes without metadata; None if the format or size differs, if there are more than
        ``most`` bytes, or if it does not show ``image``."""
        stored = self._stored
        if variant.size != stored.size or variant.format != stored.format or variant.moves:
            return None
        if least_bytes(self._stored.read(), variant.format) > most:
            return None
        own = self._bare
        if own is None or len(own) > most:
            return None
        return own if shows(own, variant.format, image, drawn=stored.drawn) else None

    @cached_property
    def _bare(self) -> bytes | None:
        return bare(self._stored.read(), Format(self._stored.format))


OnMade = Callable[[PlannedVariant, MadeVariant], None]


class VariantMaker:
    """Encodes variants of ``job`` from ``pictures``, at most ``threads`` at once, and puts them on
    the shelf; calls ``on_made`` for each. ``own`` is the picture's own file, if it may pass
    through."""

    def __init__(
        self,
        job: CutJob,
        pictures: Pictures,
        facts: CutFacts,
        shelf: VariantShelf,
        *,
        threads: int = 1,
        copyright: str = "",
        own: OwnFile | None = None,
        on_made: OnMade = lambda variant, made: None,
    ) -> None:
        self._job, self._pictures, self._facts, self._shelf = job, pictures, facts, shelf
        self._threads = threads
        self._copyright = copyright
        self._own = own
        self._on_made = on_made
        self._held: tuple[Size, pyvips.Image] | None = None
        self._sources: dict[tuple[Size, bool], EncodeSource] = {}
        self._probes: dict[bool, EncodeSource] = {}
        self._probe_lock = Lock()
        self.made: dict[str, MadeVariant] = {}
        self.refused: dict[str, str] = {}

    def make(self, variants: Iterable[PlannedVariant]) -> None:
        """Add to ``made``, by key; variants that an encoder refuses go to ``refused``, with the
        reason. Variants of one size come one after another, so that only one size's picture is in
        memory."""
        with ThreadPoolExecutor(self._threads) as pool:
            running: dict[Future[EncodeResult], PlannedVariant] = {}
            for variant in variants:
                while len(running) >= self._threads:
                    self._take(running, wait(running, return_when=FIRST_COMPLETED).done)
                source = self._source_for(variant)
                running[pool.submit(self._found, source, variant)] = variant
            self._take(running, wait(running).done)
        self._sources.clear()
        self._held = None

    def _found(self, source: EncodeSource, variant: PlannedVariant) -> EncodeResult:
        """The file from the search; the picture's own file if that shows the same and weighs no
        more."""
        if FORMATS[variant.format].drawn:
            return self._drawn(variant)
        found = find(source, self._request(variant))
        own = None
        if self._own is not None:
            own = self._own.for_variant(variant, source.image, len(found.data))
        if own is None:
            return found
        most = variant.quality.max_bytes if isinstance(variant.quality, Aim) else None
        fits = most is None or len(own) <= most
        return EncodeResult(None, own, found.encodes, score=PERFECT, fits=fits, untouched=True)

    def _drawn(self, variant: PlannedVariant) -> EncodeResult:
        """The SVG file; if there cannot be one, the reason and no bytes."""
        try:
            data = self._pictures.as_svg(variant.size, self._job.recipe)
        except NotDrawable as problem:
            return EncodeResult(None, b"", 0, limit=problem.reason, fits=False)
        return EncodeResult(None, data, 1, score=PERFECT)

    def _take(
        self,
        running: dict[Future[EncodeResult], PlannedVariant],
        done: Iterable[Future[EncodeResult]],
    ) -> None:
        for future in done:
            variant = running.pop(future)
            try:
                found = future.result()
            except EncodeError as error:
                self.refused[variant.key] = error.told
                continue
            made = MadeVariant(
                sha256=hashlib.sha256(found.data).hexdigest() if found.fits else "",
                bytes=len(found.data),
                quality=found.quality,
                score=_rounded(found.score),
                limit=found.limit,
                short=found.short,
                fits=found.fits,
                untouched=found.untouched,
                gzip=sent_bytes(found.data) if FORMATS[variant.format].drawn else 0,
            )
            self._shelf.put(variant.key, made, found.data if found.fits else None)
            self.made[variant.key] = made
            self._on_made(variant, made)

    def measure(self, variant: PlannedVariant, made: MadeVariant) -> MadeVariant | None:
        """The variant with its score; None if its bytes are gone."""
        data = self._shelf.load(variant.key)
        if data is None:
            return None
        score = self._source(variant.size, variant.format).score(data, variant.format)
        known = made.model_copy(update={"score": _rounded(score)})
        self._shelf.note(variant.key, known)
        return known

    # -- what is encoded -----------------------------------------------------------------

    def _request(self, variant: PlannedVariant) -> EncodeRequest:
        settings = self._job.recipe.settings_for(variant.format)
        return EncodeRequest(
            variant.format,
            variant.quality,
            replace(settings, copyright=self._copyright),
            self._job.cut.size.resolution if self._job.cut.size else None,
        )

    def _source_for(self, variant: PlannedVariant) -> EncodeSource:
        still = self._source(variant.size, variant.format)
        if not variant.moves:
            return still
        moving = self._fitted(self._pictures.moving(variant.size), variant.format)
        return EncodeSource(moving, still.image, nature=self._facts.nature)

    def _source(self, size: Size, format: Format) -> EncodeSource:
        """The picture at a size, with or without transparency as the format needs; the last size
        stays in memory for the next format."""
        # A width of the ladder may be the probe's: what is searched there is searched once.
        if size == self._probe_size:
            return self._probe(alpha=bool(self._fitted(self._probe_picture, format).hasalpha()))
        if self._held is None or self._held[0] != size:
            self._sources.clear()
            self._held = size, self._pictures.at(size)
        image = self._fitted(self._held[1], format)
        # Formats whose picture is the same share it, and what is found out about it.
        alpha = bool(image.hasalpha())
        if (size, alpha) not in self._sources:
            self._sources[size, alpha] = EncodeSource(
                image, nature=self._facts.nature, probe=lambda: self._probe(alpha=alpha)
            )
        return self._sources[size, alpha]

    def _fitted(self, picture: pyvips.Image, format: Format) -> pyvips.Image:
        return fit_alpha(picture, format, self._job.recipe)

    # -- the small copy that searches begin on ---------------------------------------------

    @property
    def _probe_size(self) -> Size:
        widest = self._job.widest
        return Size(PROBE_WIDTH, height_for(widest, PROBE_WIDTH))

    def _probe(self, *, alpha: bool) -> EncodeSource:
        with self._probe_lock:
            if alpha not in self._probes:
                small = self._probe_picture
                # Drawn small, an opaque picture may have edges that let something through.
                image = small if alpha else on_matte(small, self._job.recipe.matte)
                self._probes[alpha] = EncodeSource(image, nature=self._facts.nature)
            return self._probes[alpha]

    @cached_property
    def _probe_picture(self) -> pyvips.Image:
        return self._pictures.at(self._probe_size)


def _rounded(score: float | None) -> float | None:
    return None if score is None else round(score, 2)

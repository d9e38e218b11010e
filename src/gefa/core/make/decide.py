"""Decides which files a cut has, from what is known so far: pure functions over plain values.

``decide`` is asked again and again. It says what it needs to know next, files or looks, until it
can say which files the cut has. It never sees how something came to be known: made just now, or
found on the shelf. So the same job gives the same files, whatever is on the shelf already.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import pairwise

from gefa.core.geometry import Size
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.pixels import AlphaKind
from gefa.core.treat.auto_formats import TRIAL_WIDTH, Candidate, choose, hopeless
from gefa.core.treat.curves import PERFECT
from gefa.core.treat.formats import FORMATS, ORDER, Format
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.recipe import AlphaPolicy, Steps
from gefa.core.treat.weight_steps import fewest, next_widths, shape_of
from gefa.core.units import weight

SHORT = 0.005
"""points a score may be below its look through rounding"""


@dataclass(frozen=True)
class Known:
    """Everything known about a job: its facts, the variants already made, by key, and the keys that
    an encoder refused."""

    facts: CutFacts | None = None
    made: Mapping[str, MadeVariant] = field(default_factory=dict)
    refused: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Needs:
    """What must be known before the next decision: ``facts``; variants to make, in this order;
    ``looks`` to measure of variants already made."""

    facts: bool = False
    variants: tuple[PlannedVariant, ...] = ()
    looks: tuple[PlannedVariant, ...] = ()


@dataclass(frozen=True)
class Decisions:
    """The files of a cut. ``why`` explains chosen formats in a sentence; ``left_out`` gives reasons
    for files that are not made."""

    kept: tuple[PlannedVariant, ...]
    why: str = ""
    left_out: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()


class _Missing(Exception):
    """Raised when a decision needs something that is not known yet."""

    def __init__(self, needs: Needs) -> None:
        super().__init__("more has to be known")
        self.needs = needs


def decide(job: CutJob, known: Known) -> Needs | Decisions:
    """The files of ``job``, or what must be known to decide on them."""
    try:
        return _Decider(job, known).decisions()
    except _Missing as missing:
        return missing.needs


class _Decider:
    """One round of decisions about a job, from what is known."""

    def __init__(self, job: CutJob, known: Known) -> None:
        self._job, self._known = job, known
        self._left_out: list[str] = []
        self._warnings: list[str] = []

    def decisions(self) -> Decisions:
        job = self._job
        if not job.variants:  # CSS shows it without any file
            return Decisions((), "", ())
        if self._known.facts is None or self._lacks_growth():
            raise _Missing(Needs(facts=True))
        drawn = self._why_drawn(job.drawing) if job.drawing is not None else ""
        if job.drawing is not None and drawn and not job.recipe.every_format:
            return Decisions((job.drawing,), drawn, tuple(self._left_out))
        formats, why = job.recipe.rasters, ""
        if job.recipe.auto:
            formats, why = self._chosen_formats()
        widths = sorted({variant.width for variant in job.pixels})
        if job.steps is not None:
            widths = self._chosen_widths(job.steps, formats, widths)
        made = self._made(v for v in job.pixels if v.width in widths and v.format in formats)
        kept = self._that_fit(made)
        kept = self._unbeaten(kept)
        kept = self._that_help(kept)
        return Decisions(
            tuple(v for v in job.variants if v in kept or (drawn and v == job.drawing)),
            f"{drawn} {why}".strip(),
            tuple(dict.fromkeys(self._left_out)),
            tuple(dict.fromkeys([*self._warnings, *self._short(kept)])),
        )

    def _lacks_growth(self) -> bool:
        facts = self._known.facts
        return self._job.steps is not None and facts is not None and not facts.growth

    @property
    def _facts(self) -> CutFacts:
        assert self._known.facts is not None
        return self._known.facts

    def _made(self, variants: Iterable[PlannedVariant]) -> list[PlannedVariant]:
        """The variants that could be made. If some are still to be made, the smallest
        comes first."""
        wanted = sorted(variants, key=lambda v: (v.width, ORDER.index(v.format)))
        here = self._known.made
        missing = [v for v in wanted if v.key not in here and v.key not in self._known.refused]
        if missing:
            raise _Missing(Needs(variants=tuple(missing)))
        return [v for v in wanted if v.key in here]

    def _of(self, variant: PlannedVariant) -> MadeVariant:
        return self._known.made[variant.key]

    # -- drawings that stay drawings -----------------------------------------------------

    def _why_drawn(self, drawing: PlannedVariant) -> str:
        """Why the SVG file replaces all widths, in a sentence; empty if it does not."""
        made = self._made([drawing])
        if not made or not self._of(drawing).fits:
            if made:
                self._left_out.append(f"SVG is left out: {self._of(drawing).limit}")
                if not self._job.pixels:
                    self._warnings.append(f"has no file: {self._of(drawing).limit}")
            return ""
        own = self._of(drawing)
        told = f"SVG of {weight(own.bytes)}, sent as {weight(own.sent)} by gzip"
        compared = self._job.pixels and not self._job.recipe.every_format
        lightest = self._lightest_raster() if compared else None
        if lightest is None:
            return f"It is drawn: {told}."
        other = f"{FORMATS[lightest.format].label} at {lightest.width:,} px weighs"
        other = f"{other} {weight(self._of(lightest).bytes)}"
        if own.sent > self._of(lightest).bytes:
            self._left_out.append(
                f"SVG is left out: it is too intricate. It is sent as {weight(own.sent)} by gzip,"
                f" and {other}"
            )
            return ""
        return f"It is drawn, and one {told}, is lighter than its widest picture: {other}."

    def _lightest_raster(self) -> PlannedVariant | None:
        """The lightest of the widest files that reach the look; None if none does."""
        pixels = self._job.pixels
        widest = max(variant.width for variant in pixels)
        alpha = self._facts.alpha if self._job.recipe.alpha is AlphaPolicy.KEEP else AlphaKind.NONE
        against = hopeless(self._facts.nature, alpha) if self._job.recipe.auto else {}
        opaque = alpha is AlphaKind.NONE
        here = self._made(
            variant
            for variant in pixels
            if variant.width == widest and variant.format not in against
            if opaque or FORMATS[variant.format].alpha
        )
        fitting = [v for v in here if self._of(v).fits and not self._of(v).short]
        return min(fitting, key=lambda v: self._of(v).bytes, default=None)

    # -- formats that are left open ------------------------------------------------------

    def _chosen_formats(self) -> tuple[tuple[Format, ...], str]:
        """Choose formats by their weights at one width."""
        job = self._job
        widths = sorted({variant.width for variant in job.pixels})
        if job.steps is not None:
            widths = [widths[0], widths[-1]]
        width = min(widths, key=lambda width: abs(width - TRIAL_WIDTH))
        alpha = self._facts.alpha if job.recipe.alpha is AlphaPolicy.KEEP else AlphaKind.NONE
        here = [variant for variant in job.pixels if variant.width == width]
        against = {} if any(v.moves for v in here) else hopeless(self._facts.nature, alpha)
        trial = self._made(variant for variant in here if variant.format not in against)
        trial = [variant for variant in trial if self._of(variant).fits]
        if not trial:
            return job.recipe.rasters, ""
        target = job.recipe.look if any(variant.look for variant in trial) else 0.0
        tried = {v.format: self._candidate(v, alpha, target) for v in trial}
        choice = choose(tried, self._facts.nature, self._facts.colours, alpha, target, width)
        # That JPEG has no transparency need not be told of every piece of a design.
        told = against if alpha is AlphaKind.NONE else {}
        self._left_out += [
            f"{FORMATS[format].label} is left out: {reason}" for format, reason in told.items()
        ]
        self._left_out += choice.against.values()
        return choice.formats, choice.why

    def _candidate(self, variant: PlannedVariant, alpha: AlphaKind, target: float) -> Candidate:
        made = self._of(variant)
        lacks = ""
        if alpha is not AlphaKind.NONE and not FORMATS[variant.format].alpha:
            lacks = "loses the transparency"
        elif made.score is not None and made.score < target - SHORT:
            lacks = "does not look as good"
        return Candidate(made.bytes, lacks, variant.moves)

    # -- widths that are left open -------------------------------------------------------

    def _chosen_widths(
        self, steps: Steps, formats: tuple[Format, ...], candidates: list[int]
    ) -> list[int]:
        """Choose enough widths that the lightest files of neighbours are at most a step apart."""
        shape = shape_of(self._facts.growth)
        widest = self._widest_that_fits(formats, candidates)
        candidates = [width for width in candidates if width <= widest]
        widths = {candidates[0], candidates[-1]}
        while True:
            variants = [v for v in self._job.pixels if v.width in widths and v.format in formats]
            weights = self._weights(variants)
            more = next_widths(weights, set(candidates) - widths, steps.apart, shape)
            if not more:
                break
            widths |= set(more)
        chosen = fewest(weights, steps.apart)
        self._tell_large_steps(chosen, weights, steps.apart)
        return chosen or sorted(widths)

    def _widest_that_fits(self, formats: tuple[Format, ...], candidates: list[int]) -> int:
        """The widest candidate (px, ascending) whose file fits the budget in any format; the widest
        of all if none fits, so that the report can say so."""
        fitting, too_wide = 0, len(candidates) - 1
        if self._fits(formats, candidates[too_wide]) or not self._fits(formats, candidates[0]):
            return candidates[too_wide]
        while too_wide - fitting > 1:
            middle = (fitting + too_wide) // 2
            if self._fits(formats, candidates[middle]):
                fitting = middle
            else:
                too_wide = middle
        return candidates[fitting]

    def _fits(self, formats: tuple[Format, ...], width: int) -> bool:
        here = [v for v in self._job.pixels if v.width == width and v.format in formats]
        return any(self._of(variant).fits for variant in self._made(here))

    def _weights(self, variants: list[PlannedVariant]) -> dict[int, int]:
        """Bytes of the lightest file of each width (px). A file over its budget counts too: it is
        left out later, but the steps below stay the same."""
        found: dict[int, int] = {}
        for variant in self._made(variants):
            bytes = self._of(variant).bytes
            found[variant.width] = min(bytes, found.get(variant.width, bytes))
        return found

    def _tell_large_steps(self, chosen: list[int], weights: dict[int, int], apart: int) -> None:
        for narrow, wide in pairwise(chosen):
            if abs(weights[wide] - weights[narrow]) > apart:
                self._warnings.append(
                    f"from {narrow:,} to {wide:,} px its weight goes from"
                    f" {weight(weights[narrow])} to {weight(weights[wide])}, and no width between"
                    " them makes a smaller step"
                )

    # -- files that are worth nothing ----------------------------------------------------

    def _that_fit(self, variants: list[PlannedVariant]) -> list[PlannedVariant]:
        for variant in variants:
            made = self._of(variant)
            if not made.fits:
                self._left_out.append(f"{variant.width:,} px are left out: {made.limit}")
                self._warnings.append(f"over budget at {variant.width:,} px: {made.limit}")
        return [variant for variant in variants if self._of(variant).fits]

    def _that_help(self, variants: list[PlannedVariant]) -> list[PlannedVariant]:
        """Leave out widths whose lightest file is hardly lighter than that of the next wider one;
        the recipe says by how much it must be."""
        recipe = self._job.recipe
        if not recipe.widths or not recipe.apart.weight:
            return variants
        here: dict[int, dict[Format, int]] = {}
        for variant in variants:
            here.setdefault(variant.width, {})[variant.format] = self._of(variant).bytes
        widths = sorted(here, reverse=True)
        kept = widths[:1]
        for width in widths[1:]:
            wider = here[kept[-1]]
            most = 1 - recipe.apart.weight
            if any(f not in wider or bytes <= most * wider[f] for f, bytes in here[width].items()):
                kept.append(width)
            else:
                self._left_out.append(self._idle(width, kept[-1], here))
        return [variant for variant in variants if variant.width in kept]

    def _idle(self, width: int, wider: int, here: Mapping[int, Mapping[Format, int]]) -> str:
        own, other = (min(here[one].values()) for one in (width, wider))
        return (
            f"{width:,} px are left out: at {weight(own)} they are not"
            f" {100 * self._job.recipe.apart.weight:g} % lighter than {wider:,} px at"
            f" {weight(other)}"
        )

    def _short(self, variants: list[PlannedVariant]) -> Iterator[str]:
        for variant in variants:
            made = self._of(variant)
            if made.short:
                yield f"at {variant.width:,} px {made.limit}"

    def _unbeaten(self, variants: list[PlannedVariant]) -> list[PlannedVariant]:
        """Leave out formats that an older format beats. A ``<source>`` needs all widths of a
        ``<picture>``, so a whole format goes: if an older one weighs no more over all widths, and
        looks no worse at any."""
        if self._job.recipe.every_format:
            return variants
        by_size: dict[Size, dict[Format, PlannedVariant]] = {}
        for variant in variants:
            by_size.setdefault(variant.size, {})[variant.format] = variant
        gone: set[Format] = set()
        for newer in ORDER:
            for older in ORDER[ORDER.index(newer) + 1 :]:
                if gone & {older, newer} or not self._beats(older, newer, by_size):
                    continue
                gone.add(newer)
                self._left_out.append(self._reason(older, newer, by_size))
        return [variant for variant in variants if variant.format not in gone]

    def _beats(
        self,
        older: Format,
        newer: Format,
        by_size: Mapping[Size, Mapping[Format, PlannedVariant]],
    ) -> bool:
        pairs = []
        for formats in by_size.values():
            if newer not in formats and older not in formats:
                continue
            if newer not in formats or older not in formats:
                return False
            pairs.append((formats[older], formats[newer]))
        if not pairs or self._loses_transparency(older, newer):
            return False
        if any(theirs.moves > ours.moves for ours, theirs in pairs):
            return False
        ours, theirs = (sum(self._of(v).bytes for v in side) for side in zip(*pairs, strict=True))
        if theirs < ours:
            return False
        # The smallest first: a look at it costs least, and may settle it.
        pairs.sort(key=lambda pair: pair[0].width)
        return not any(self._look_of(ours) < self._look_of(theirs) for ours, theirs in pairs)

    def _loses_transparency(self, older: Format, newer: Format) -> bool:
        transparent = (
            self._facts.alpha is not AlphaKind.NONE and self._job.recipe.alpha is AlphaPolicy.KEEP
        )
        return transparent and FORMATS[newer].alpha and not FORMATS[older].alpha

    def _look_of(self, variant: PlannedVariant) -> float:
        """The score, capped at the look that was asked for: more than that counts for nothing."""
        score = self._of(variant).score
        if score is None:
            raise _Missing(Needs(looks=(variant,)))
        if variant.look is None:
            return min(score, PERFECT)
        return min(score, self._job.recipe.look if self._job.recipe.auto else variant.look)

    def _reason(
        self,
        older: Format,
        newer: Format,
        by_size: Mapping[Size, Mapping[Format, PlannedVariant]],
    ) -> str:
        lighter, heavier = (
            sum(self._of(formats[f]).bytes for formats in by_size.values() if f in formats)
            for f in (older, newer)
        )
        return (
            f"{FORMATS[newer].label} is left out: {FORMATS[older].label} is as light or lighter"
            f" ({weight(lighter)} against {weight(heavier)} over all widths) and looks no worse"
        )

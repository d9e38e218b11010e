"""What a job will come to, as far as that is known without making anything."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gefa.core.make.decide import Decisions, Known, decide
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.made import CutFacts, MadeVariant
from gefa.core.treat.formats import FORMATS


@dataclass(frozen=True)
class Foresight:
    """``decided`` tells that ``variants`` are just the files that the job has; else they are about
    as many. ``made`` are those that were made before, by key."""

    decided: bool
    variants: tuple[PlannedVariant, ...]
    made: Mapping[str, MadeVariant]

    @property
    def expected(self) -> int:
        """Bytes: what is made already, and a guess from the number of pixels for the rest."""
        return sum(
            self.made[v.key].bytes if v.key in self.made else guessed(v) for v in self.variants
        )


def foresee(job: CutJob, facts: CutFacts | None, made: Mapping[str, MadeVariant]) -> Foresight:
    """The files of a job, from what was measured of it and made before."""
    step = decide(job, Known(facts, made))
    decided = isinstance(step, Decisions)
    variants = step.kept if isinstance(step, Decisions) else tuple(job.expected)
    return Foresight(decided, variants, {v.key: made[v.key] for v in variants if v.key in made})


def guessed(variant: PlannedVariant) -> int:
    """Bytes of a file that is not made yet, by its pixels and the usual bits for each."""
    pixels = variant.size.width * variant.size.height
    return round(pixels * FORMATS[variant.format].bits / 8)

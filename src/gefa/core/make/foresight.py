"""Predicts the files of a job and their weight without making them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gefa.core.make.decide import Decisions, Known, decide
from gefa.core.make.estimate import Estimate
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.treat.curves import PERFECT
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.recipe import Aim


@dataclass(frozen=True)
class Foresight:
    """``decided`` means that ``variants`` are exactly the files of the job; else there will be
    about as many. ``made`` are those made before, by key; ``expected`` is the weight of all in
    bytes. ``estimated`` means that this comes from made files or a look at the pixels, and is not a
    guess."""

    decided: bool
    variants: tuple[PlannedVariant, ...]
    made: Mapping[str, MadeVariant]
    expected: int
    estimated: bool


def foresee(
    job: CutJob,
    facts: CutFacts | None,
    made: Mapping[str, MadeVariant],
    estimate: Estimate | None = None,
) -> Foresight:
    """Foretell the files of a job from its facts, variants made before and its estimate."""
    step = decide(job, Known(facts, made))
    if isinstance(step, Decisions):
        return _of(step.kept, made, {}, decided=True)
    weights = _weights(job, made, estimate) if estimate is not None else {}
    if weights and estimate is not None:
        known = {v.key: _as_made(v, weights[v.key]) for v in job.variants if v.key in weights}
        if job.drawing is not None and job.drawing.key not in weights:
            known[job.drawing.key] = MadeVariant(sha256="", bytes=0, fits=False)
        step = decide(job, Known(facts or estimate.facts, known | dict(made)))
        if isinstance(step, Decisions):
            return _of(step.kept, made, weights, decided=False)
    return _of(tuple(job.expected), made, weights, decided=False)


def _of(
    variants: tuple[PlannedVariant, ...],
    made: Mapping[str, MadeVariant],
    weights: Mapping[str, int],
    *,
    decided: bool,
) -> Foresight:
    here = {v.key: made[v.key] for v in variants if v.key in made}
    expected = sum(
        here[v.key].sent if v.key in here else weights.get(v.key) or guessed(v) for v in variants
    )
    estimated = all(v.key in here or v.key in weights for v in variants)
    return Foresight(decided, variants, here, expected, estimated)


def _weights(job: CutJob, made: Mapping[str, MadeVariant], estimate: Estimate) -> dict[str, int]:
    """Expected bytes of the variants, by key. If variants of the same format were made, the
    estimate is corrected by the error at the nearest of them."""
    weights = {v.key: found for v in job.variants if (found := estimate.weight(v))}
    corrected = {}
    for variant in job.variants:
        if variant.key not in weights:
            continue
        beside = [
            v for v in job.variants
            if v.format is variant.format and v.key in made and v.key in weights
        ]  # fmt: skip
        weight = float(weights[variant.key])
        if beside:
            nearest = min(beside, key=lambda v: abs(v.width - variant.width))
            weight *= made[nearest.key].bytes / weights[nearest.key]
        corrected[variant.key] = round(weight)
    return corrected


def _as_made(variant: PlannedVariant, weight: int) -> MadeVariant:
    """A variant as it should come out: at its look."""
    allowed = variant.quality.max_bytes if isinstance(variant.quality, Aim) else None
    score = PERFECT if variant.look is None else variant.look
    fits = allowed is None or weight <= allowed
    return MadeVariant(sha256="", bytes=weight, score=score, fits=fits)


def guessed(variant: PlannedVariant) -> int:
    """A guess of the bytes of a file that is not made yet, from its pixels and the usual bits per
    pixel."""
    pixels = variant.size.width * variant.size.height
    return round(pixels * FORMATS[variant.format].bits / 8)

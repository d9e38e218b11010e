"""Warnings about a cut that was made."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.make.job import CutJob
from gefa.core.pixels import AlphaKind
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.made import CutFacts
from gefa.core.treat.nature import Nature
from gefa.core.treat.recipe import AlphaPolicy
from gefa.core.units import listed, weight

SHOWS = 0.14
"""difference of an edge's mean colour from the matte, 0..1, from which a halo shows on other
backgrounds"""
CRISP = 85.0
"""the look from which letters keep their edges"""
CRISP_QUALITY = 90
"""the same as a quality number, where no look was measured"""


def warnings_of(job: CutJob, facts: CutFacts, files: Sequence[File]) -> list[Remark]:
    """Warnings that follow from the measured facts."""
    reasons = [*_lost_alpha(job, facts), *_halo(job, facts), *_heavy(facts, files)]
    reasons += _blurred_text(job, facts, files)
    about = {"cut": job.cut.name, "part": job.cut.key, "source": job.source}
    return [Remark(**about, reason=reason) for reason in reasons]


def _lost_alpha(job: CutJob, facts: CutFacts) -> Iterator[str]:
    if facts.alpha is AlphaKind.NONE or job.recipe.alpha is not AlphaPolicy.KEEP:
        return
    if not any(FORMATS[format].alpha for format in job.recipe.candidates):
        opaque = listed([FORMATS[format].label for format in job.recipe.candidates])
        yield f"its transparency is lost: {opaque} cannot hold it"


def _halo(job: CutJob, facts: CutFacts) -> Iterator[str]:
    flattened = job.recipe.alpha is AlphaPolicy.MATTE or not any(
        FORMATS[format].alpha for format in job.recipe.candidates
    )
    if flattened and facts.edge and _apart(facts.edge, job.recipe.matte) > SHOWS:
        yield (
            f"its soft edges are blended into the matte {job.recipe.matte}; on any other background"
            " they show as a halo. Use the page's colour as the matte, or keep transparency"
        )


def _apart(one: str, other: str) -> float:
    channels = [(int(one[i : i + 2], 16), int(other[i : i + 2], 16)) for i in (1, 3, 5)]
    return max(abs(a - b) for a, b in channels) / 255


def _heavy(facts: CutFacts, files: Sequence[File]) -> Iterator[str]:
    sent = sent_to_large_screens(files)
    if sent is not None and sent.bytes > facts.baseline_bytes:
        yield (
            f"its lightest file of {sent.width:,} px, {weight(sent.bytes)}, is heavier than"
            f" its baseline, {weight(facts.baseline_bytes)}"
        )


def _blurred_text(job: CutJob, facts: CutFacts, files: Sequence[File]) -> Iterator[str]:
    if not files or not (job.text or facts.nature is Nature.TEXT):
        return
    if all(_may_blur(file) for file in files):
        lossy = listed(list(dict.fromkeys(FORMATS[file.format].label for file in files)))
        yield (
            f"it shows text, and {lossy} may blur its letters; add PNG, or ask for a look of"
            f" {CRISP:g}"
        )


def _may_blur(file: File) -> bool:
    if file.quality is None:
        return False
    return file.score < CRISP if file.score is not None else file.quality < CRISP_QUALITY

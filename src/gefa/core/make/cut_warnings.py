"""What is measured of a cut's pixels, and what one wants to be warned of once it is made."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import pyvips
from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import File
from gefa.core.make.jobs import CutJob
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.nature import Nature, nature_of
from gefa.core.treat.pictures import baseline_bytes
from gefa.core.treat.recipe import AlphaPolicy
from gefa.core.units import listed, weight

SOFT = (16, 239)
"""alpha (0..255) of pixels that are an edge's"""
FEWEST = 30
"""edge pixels that an edge shows by"""
SHOWS = 0.14
"""how far an edge's mean colour is from the matte, 0..1, when it shows as a halo elsewhere"""
CRISP = 85.0
"""the look at which letters keep their edges"""
CRISP_QUALITY = 90
"""the same for a quality number, where no look was measured"""


class Facts(BaseModel):
    """What is measured of a cut's pixels once: its alpha, its baseline in bytes, what kind of
    picture it is, and the mean colour of its soft edges as ``#rrggbb``, empty without such."""

    alpha: AlphaKind
    baseline_bytes: int
    nature: Nature
    edge: str


def measured(document: Document, image: pyvips.Image) -> Facts:
    """Of the picture at its largest size, 8-bit sRGB."""
    alpha = alpha_kind(image)
    return Facts(
        alpha=alpha,
        baseline_bytes=baseline_bytes(document, image),
        nature=nature_of(image).nature,
        edge=_edge_colour(image) if alpha is AlphaKind.SOFT else "",
    )


def _edge_colour(image: pyvips.Image) -> str:
    pixels = image.numpy()
    alpha = pixels[..., 3]
    soft = (alpha >= SOFT[0]) & (alpha <= SOFT[1])
    if int(soft.sum()) < FEWEST or alpha.min() > 0:
        return ""  # a veil over everything has no edge
    return "#" + "".join(f"{round(value):02x}" for value in pixels[soft][:, :3].mean(axis=0))


def cautions(job: CutJob, facts: Facts, files: Sequence[File]) -> list[Remark]:
    """Warnings that follow from what was measured."""
    reasons = [*_lost_alpha(job, facts), *_halo(job, facts), *_heavy(facts, files)]
    reasons += _blurred_text(job, facts, files)
    return [Remark(cut=job.cut.name, part=job.cut.key, reason=reason) for reason in reasons]


def _lost_alpha(job: CutJob, facts: Facts) -> Iterator[str]:
    if facts.alpha is AlphaKind.NONE or job.recipe.alpha is not AlphaPolicy.KEEP:
        return
    if not any(FORMATS[format].alpha for format in job.recipe.candidates):
        opaque = listed([FORMATS[format].label for format in job.recipe.candidates])
        yield f"its transparency is lost: {opaque} cannot hold it"


def _halo(job: CutJob, facts: Facts) -> Iterator[str]:
    flattened = job.recipe.alpha is AlphaPolicy.MATTE or not any(
        FORMATS[format].alpha for format in job.recipe.candidates
    )
    if flattened and facts.edge and _apart(facts.edge, job.recipe.matte) > SHOWS:
        yield (
            f"its soft edges are blended into the matte {job.recipe.matte}; on any other ground"
            " they show as a halo. Take the page's own colour as the matte, or keep transparency"
        )


def _apart(one: str, other: str) -> float:
    channels = [(int(one[i : i + 2], 16), int(other[i : i + 2], 16)) for i in (1, 3, 5)]
    return max(abs(a - b) for a, b in channels) / 255


def _heavy(facts: Facts, files: Sequence[File]) -> Iterator[str]:
    widest = max((file.width for file in files), default=0)
    lightest = min((file.bytes for file in files if file.width == widest), default=0)
    if lightest > facts.baseline_bytes:
        yield (
            f"its lightest file of {widest:,} px, {weight(lightest)}, is heavier than"
            f" its baseline, {weight(facts.baseline_bytes)}"
        )


def _blurred_text(job: CutJob, facts: Facts, files: Sequence[File]) -> Iterator[str]:
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

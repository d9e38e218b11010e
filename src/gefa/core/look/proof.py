"""Looking closely at a cut: its picture as it should be, and what each quality makes of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Protocol

import pyvips

from gefa.core.deliver.shelf import Shelf, Stored
from gefa.core.geometry import Size
from gefa.core.make.jobs import CutJob
from gefa.core.make.make_cut import crop_of, pictures_for
from gefa.core.read.document import Document
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.pictures import fit_alpha
from gefa.core.treat.recipe import AlphaPolicy

QUALITIES = (50, 74, 35, 84, 62, 92, 20)
"""where curves are measured, in the order in which they are the most use"""


class RatedShelf(Shelf, Protocol):
    """A shelf that scores of what stands on it can be noted on."""

    def rate(self, key: str, score: float) -> None:
        """Note how the file made from ``key`` looks, SSIMULACRA2."""


def qualities_for(job: CutJob, format: Format) -> tuple[int, ...]:
    """The quality numbers of a curve, the recipe's own first if it has one."""
    own = job.recipe.quality_for(format)
    return tuple(dict.fromkeys([*([own] if isinstance(own, int) else []), *QUALITIES]))


def reference(
    job: CutJob,
    document: Document,
    size: Size,
    shelf: Shelf,
    mark: Callable[[], Document] | None = None,
) -> pyvips.Image:
    """The picture that variants of ``size`` px are encoded from, with its transparency if the
    recipe keeps it."""
    pictures = pictures_for(job, document, crop_of(job, document, shelf), mark)
    image = pictures.at(size)
    if job.recipe.alpha is AlphaPolicy.KEEP:
        return image
    return fit_alpha(image, Format.JPEG, job.recipe)


def measure_curve(
    job: CutJob, image: pyvips.Image, size: Size, format: Format, shelf: RatedShelf
) -> Iterator[Stored]:
    """Make the files of a curve, one after another, or find them on the shelf; each is on it under
    ``Job.key_at``, with its score."""
    looked = EncodeSource(fit_alpha(image, format, job.recipe))
    for quality in qualities_for(job, format):
        key = job.key_at(size, format, quality)
        stored = shelf.recall(key, key)
        if stored is None:
            wish = EncodeRequest(format, quality, job.recipe.settings_for(format))
            data = find(looked, wish).data
            score = round(looked.score(data), 2)
            stored = shelf.keep(key, key, data, quality=quality, score=score)
        elif stored.score is None:
            shelf.rate(key, round(looked.score(shelf.load(stored, key)), 2))
        yield stored


def rate_file(
    job: CutJob, image: pyvips.Image, key: str, format: Format, shelf: RatedShelf
) -> None:
    """Measure how a file that was made looks beside ``image``, its picture at the same size."""
    stored = shelf.recall(key, key)
    if stored is not None and stored.score is None:
        looked = EncodeSource(fit_alpha(image, format, job.recipe))
        shelf.rate(key, round(looked.score(shelf.load(stored, key)), 2))


def curve_formats(job: CutJob) -> tuple[Format, ...]:
    """The formats that curves are drawn of: those of the recipe that have a quality."""
    return tuple(format for format in job.recipe.candidates if FORMATS[format].lossy)

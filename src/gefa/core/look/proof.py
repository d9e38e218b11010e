"""A proof: the reference of a cut, and the bytes and score of each quality."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator

import pyvips

from gefa.core.geometry import Size
from gefa.core.make.job import CutJob
from gefa.core.make.make_cut import crop_of, pictures_for
from gefa.core.make.shelf import Shelf
from gefa.core.pixels import on_matte
from gefa.core.read.document import Document
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.made import MadeVariant
from gefa.core.treat.pictures import fit_alpha
from gefa.core.treat.recipe import AlphaPolicy

QUALITIES = (50, 74, 35, 84, 62, 92, 20)
"""quality numbers of curves, most useful first"""


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
    facts = shelf.facts(job.facts_key)
    crop = facts.crop if facts is not None else crop_of(job, document)
    image = pictures_for(job, document, crop, mark).at(size)
    if job.recipe.alpha is AlphaPolicy.KEEP:
        return image
    return on_matte(image, job.recipe.matte)


def measure_curve(
    job: CutJob, image: pyvips.Image, size: Size, format: Format, shelf: Shelf
) -> Iterator[tuple[str, MadeVariant]]:
    """Make the files of a curve one by one, or find them on the shelf. Each comes with its score
    and the key from ``CutJob.key_at``."""
    source = EncodeSource(fit_alpha(image, format, job.recipe))
    settings = job.recipe.settings_for(format)
    for quality in qualities_for(job, format):
        key = job.key_at(size, format, quality)
        made = shelf.known([key]).get(key)
        data = shelf.load(key) if made is not None else None
        if made is None or data is None:
            data = find(source, EncodeRequest(format, quality, settings)).data
            digest = hashlib.sha256(data).hexdigest()
            made = MadeVariant(sha256=digest, bytes=len(data), quality=quality)
            made = _rated(made, source, data, format)
            shelf.put(key, made, data)
        elif made.score is None:
            made = _rated(made, source, data, format)
            shelf.note(key, made)
        yield key, made


def rate_file(
    job: CutJob, image: pyvips.Image, key: str, format: Format, shelf: Shelf
) -> MadeVariant | None:
    """The score of a made file against ``image``, its picture at the same size; None if its bytes
    are gone."""
    made = shelf.known([key]).get(key)
    data = shelf.load(key)
    if made is None or data is None:
        return None
    if made.score is None:
        made = _rated(made, EncodeSource(fit_alpha(image, format, job.recipe)), data, format)
        shelf.note(key, made)
    return made


def _rated(made: MadeVariant, source: EncodeSource, data: bytes, format: Format) -> MadeVariant:
    return made.model_copy(update={"score": round(source.score(data, format), 2)})


def curve_formats(job: CutJob) -> tuple[Format, ...]:
    """The formats to draw curves for: those of the recipe that have a quality."""
    return tuple(format for format in job.recipe.candidates if FORMATS[format].lossy)

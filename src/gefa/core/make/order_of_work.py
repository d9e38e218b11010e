"""In which order the sizes of a job are made, and what is decided in between."""

from __future__ import annotations

from collections.abc import Iterator

from gefa.core.geometry import Size
from gefa.core.make.variant_maker import Making
from gefa.core.treat.auto_formats import TRIAL_WIDTH
from gefa.core.treat.pictures import Pictures
from gefa.core.treat.weight_steps import fewest, growth, next_widths


def course(making: Making, pictures: Pictures) -> Iterator[Size]:
    """The sizes to make, one after another; each is begun before the next is asked for.

    Formats that are left open are chosen after a trial at one width, widths that are left open
    as the weights of those before them come in.
    """
    job = making.job
    by_width = {variant.width: variant.size for variant in job.variants}
    widths = sorted(by_width)
    if job.steps:
        widths = list(making.said.widths) or [widths[0], widths[-1]]
    if job.recipe.auto and not making.said.formats:
        yield by_width[min(widths, key=lambda width: abs(width - TRIAL_WIDTH))]
        making.choose_formats()
    yield from _missing(making, set(widths))
    if job.steps and not making.said.widths:
        shape = growth([by_width[width] for width in sorted(by_width)], pictures.at)
        while more := next_widths(making.weights(), by_width, job.steps.apart, shape):
            yield from (by_width[width] for width in more)
        apart = job.steps.apart
        making.choose_widths(fewest(making.weights(), apart), apart)


def _missing(making: Making, widths: set[int]) -> Iterator[Size]:
    """A search starts from what the next smaller width needed; else the largest goes first."""
    sizes = {variant.size for variant in making.missing() if variant.width in widths}
    yield from sorted(sizes, key=lambda size: size.width, reverse=not making.searches)

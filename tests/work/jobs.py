"""A job as workers are told it."""

from __future__ import annotations

from gefa.core.cut.cut import Cut, Origin
from gefa.core.geometry import Rect
from gefa.core.make.job import CutJob
from gefa.core.treat.recipe import Recipe


def cut_job() -> CutJob:
    """One that makes no file."""
    cut = Cut(name="a", part="/", recipe="r", origin=Origin.HAND)
    return CutJob(
        source="a.png",
        cut=cut,
        recipe=Recipe(formats=("jpeg",), widths=(9,)),
        extent=Rect(0, 0, 9, 9),
        fingerprint="f",
        variants=(),
    )

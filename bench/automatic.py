"""What choosing by itself costs: automatic formats at a look, against fixed formats and numbers."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Aim, Recipe

WIDTHS = (400, 800, 1200, 1600)
LOOK = 75.0
FIXED = Recipe(formats=(Format.AVIF, Format.WEBP, Format.JPEG), widths=WIDTHS)
AUTOMATIC = Recipe(formats="auto", widths=WIDTHS, quality=Aim(look=LOOK))


@dataclass
class Automatic:
    """CPU seconds and bytes of both, how many files automatic formats gave, and how many of them
    miss their look."""

    fixed_seconds: float = 0.0
    automatic_seconds: float = 0.0
    fixed_bytes: int = 0
    automatic_bytes: int = 0
    files: int = 0
    missed: int = 0

    @property
    def times(self) -> float:
        return self.automatic_seconds / self.fixed_seconds


def automatic(sources: Sequence[Path]) -> Automatic:
    """Every source whole, one after the other, by one thread each."""
    sums = Automatic()
    for path in sources:
        seconds, bytes, _, _ = _made(path, FIXED)
        sums.fixed_seconds += seconds
        sums.fixed_bytes += bytes
        seconds, bytes, files, missed = _made(path, AUTOMATIC)
        sums.automatic_seconds += seconds
        sums.automatic_bytes += bytes
        sums.files += files
        sums.missed += missed
    return sums


def _made(path: Path, recipe: Recipe) -> tuple[float, int, int, int]:
    """CPU seconds, bytes, files, and how many of them are short of their look."""
    plan = Plan(default="r", recipes={"r": recipe})
    document = read(path)
    (job, *_) = prepare(survey_for(document, plan), plan).jobs
    shelf = MemoryShelf()
    started = time.process_time()
    report = carry_out(job, lambda: read(path), shelf)
    seconds = time.process_time() - started
    missed = sum(f.score is not None and f.score < LOOK - 0.01 for f in report.files)
    return seconds, sum(file.bytes for file in report.files), len(report.files), missed

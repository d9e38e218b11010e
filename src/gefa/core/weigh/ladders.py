"""Ladders of cuts that pages show, beside today's."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from pydantic import BaseModel, ConfigDict

from gefa.core.weigh.audience import Audience
from gefa.core.weigh.best_ladder import Demand, Ladder, best_ladders, cost_of, proposed
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.sent import sent
from gefa.core.weigh.shown import ShownFile, ShownPage, ShownPicture


class Step(BaseModel):
    """A ladder of so many widths (px): the mean bytes of a visit, and the share of visits (0..1)
    that get too few px."""

    model_config = ConfigDict(frozen=True)

    widths: tuple[int, ...]
    bytes: int
    blurred: float


class LadderAdvice(BaseModel):
    """Advice on the ladder of a cut, or of a recipe's cuts: today's ladder, the best one for each
    number of widths, and the proposed one. ``needed`` are px with their share of visits."""

    model_config = ConfigDict(frozen=True)

    name: str
    cuts: tuple[str, ...]
    natural: int
    today: Step
    best: list[Step]
    proposed: Step
    needed: list[tuple[int, float]] = []

    @property
    def saves(self) -> float:
        """The share of today's bytes that the proposal saves, 0..1."""
        return 1 - self.proposed.bytes / self.today.bytes if self.today.bytes else 0.0

    @property
    def is_better(self) -> bool:
        """Whether the proposal is worth a change: lighter, sharper, or as good with fewer files."""
        if self.proposed.blurred > self.today.blurred + 1e-9:
            return False
        if self.proposed.blurred < self.today.blurred - 1e-9 or self.saves >= WORTH_TELLING:
            return True
        return self.saves >= -1e-3 and len(self.proposed.widths) < len(self.today.widths)


WORTH_TELLING = 0.02
"""of a cut's bytes"""


def demands_of(
    shown: Iterable[ShownPicture], audience: Audience, naturals: Mapping[str, int]
) -> dict[str, list[Demand]]:
    """The demand for each cut, on all pages. ``naturals`` are the natural widths of cuts in px,
    beyond which the widest file must do."""
    found: dict[str, list[Demand]] = {}
    for picture in shown:
        loads = sent(picture, audience)
        start = 0
        for source in picture.sources:
            numbers = range(start, start + len(source.files))
            start += len(source.files)
            rows = np.isin(loads.file, list(numbers)) & (loads.needed >= 1)
            cut = source.files[0].cut
            if not cut or source.files[0].drawn or not rows.any():
                continue
            found.setdefault(cut, []).append(
                Demand(
                    loads.needed[rows],
                    audience.shares[rows] * picture.reached * picture.times,
                    WeightCurve.of(source.files),
                    naturals.get(cut, max(file.width for file in source.files)),
                    source.files[0].format,
                )
            )
    return found


def advice(
    name: str,
    cuts: Sequence[str],
    demands: Sequence[Demand],
    today: Sequence[int],
    *,
    too_few: float = 0.0,
) -> LadderAdvice | None:
    """Advice on a ladder; None if nobody needs the picture."""
    best = best_ladders(demands, too_few=too_few)
    if not best or not today:
        return None
    return LadderAdvice(
        name=name,
        cuts=tuple(cuts),
        natural=max(demand.natural for demand in demands),
        today=_step(cost_of(today, demands)),
        best=[_step(ladder) for ladder in best],
        proposed=_step(proposed(best)),
        needed=_needed(demands),
    )


def ladders_of(
    pages: Iterable[ShownPage],
    audience: Audience,
    naturals: Mapping[str, int],
    *,
    too_few: float = 0.0,
) -> list[LadderAdvice]:
    """Advice for each cut on the pages; the one that saves most bytes first."""
    shown = [picture for page in pages for picture in page.pictures]
    widths = widths_of(file for picture in shown for file in picture.files)
    found = []
    for cut, demands in demands_of(shown, audience, naturals).items():
        told = advice(cut, [cut], demands, widths[cut], too_few=too_few)
        if told is not None:
            found.append(told)
    return sorted(found, key=lambda one: one.proposed.bytes - one.today.bytes)


def recipe_ladders(
    pages: Iterable[ShownPage],
    audience: Audience,
    naturals: Mapping[str, int],
    recipes: Mapping[str, str],
    *,
    too_few: float = 0.0,
) -> list[LadderAdvice]:
    """Advice for each recipe with several cuts on the pages: one ladder for all of them.
    ``recipes`` maps cuts to recipes."""
    shown = [picture for page in pages for picture in page.pictures]
    widths = widths_of(file for picture in shown for file in picture.files)
    demands = demands_of(shown, audience, naturals)
    grouped: dict[str, list[str]] = {}
    for cut in demands:
        grouped.setdefault(recipes.get(cut, ""), []).append(cut)
    found = []
    for recipe, cuts in sorted(grouped.items()):
        if not recipe or len(cuts) < 2:
            continue
        today = sorted({width for cut in cuts for width in widths[cut]})
        wanted = [demand for cut in cuts for demand in demands[cut]]
        told = advice(recipe, cuts, wanted, today, too_few=too_few)
        if told is not None:
            found.append(told)
    return found


def widths_of(files: Iterable[ShownFile]) -> dict[str, list[int]]:
    """The made widths of each cut, in px."""
    found: dict[str, set[int]] = {}
    for file in files:
        if file.cut and not file.drawn:
            found.setdefault(file.cut, set()).add(file.width)
    return {cut: sorted(widths) for cut, widths in found.items()}


def priced(widths: Sequence[int], demands: Sequence[Demand]) -> Step:
    """The cost of a ladder with these widths."""
    return _step(cost_of(widths, demands))


def _step(ladder: Ladder) -> Step:
    return Step(widths=ladder.widths, bytes=round(ladder.bytes), blurred=ladder.blurred)


def _needed(demands: Sequence[Demand]) -> list[tuple[int, float]]:
    sums: dict[int, float] = {}
    for demand in demands:
        for px, share in zip(demand.needed, demand.shares, strict=True):
            sums[round(float(px))] = sums.get(round(float(px)), 0.0) + float(share)
    return sorted(sums.items())

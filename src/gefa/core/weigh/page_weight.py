"""What a visit of a page loads: its bytes over an audience, waste and blur.

A visit reaches the lazy pictures of a page in the order of their ``seen`` shares: whoever reaches
one that 0.4 of visits see has passed those that more see. So each row of an audience is as many
kinds of visits as the page has different shares.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import BaseModel, ConfigDict

from gefa.core.plan.pages import BudgetAt, PageBudget
from gefa.core.weigh.audience import Audience, Floats
from gefa.core.weigh.sent import Sent, sent
from gefa.core.weigh.shown import ShownPage


class Plain(BaseModel):
    """Plain data, as JSON has it."""

    model_config = ConfigDict(frozen=True)


class SentFile(Plain):
    """A file sent to a visitor: ``needed`` and ``sent`` are px of width."""

    picture: str
    path: str
    bytes: int
    needed: int
    sent: int
    times: int = 1
    over: int = 0
    blurred: bool = False


class Visit(Plain):
    """Visits of one row of an audience: their share (0..1), and the mean ``bytes`` they load; lazy
    pictures count for those who reach them."""

    viewport_width: float
    device_pixel_ratio: float
    formats: list[str]
    share: float
    bytes: int
    files: list[SentFile]


class PictureWeight(Plain):
    """The mean cost of one picture for a visit: bytes, how many of them are over-delivered, and the
    share of visits (0..1) that see it blurred."""

    picture: str
    bytes: int
    waste: int
    blurred: float


class PageWeight(Plain):
    """The bytes that visits of a page load: the mean, the percentiles p50, p75 and p95, and the
    maximum.

    ``blurred`` is the share of visits with a picture of too few px, ``waste`` the bytes beyond
    those of files of exactly the needed widths. ``kept`` is None without a budget.
    """

    name: str
    audience: str
    mean: int
    p50: int
    p75: int
    p95: int
    worst: int
    blurred: float
    waste: int
    budget: PageBudget | None
    kept: bool | None
    pictures: list[PictureWeight]
    visits: list[Visit]
    problems: list[str] = []

    def at(self, which: BudgetAt) -> int:
        """Bytes of the visit that a budget is for."""
        return int(getattr(self, which.value))

    @property
    def heaviest(self) -> list[PictureWeight]:
        """The three heaviest pictures."""
        return sorted(self.pictures, key=lambda one: -one.bytes)[:3]


def weigh_page(
    page: ShownPage,
    audience: Audience,
    budget: PageBudget | None = None,
    *,
    visits: bool = True,
) -> PageWeight:
    """What this audience loads of a page; without ``visits``, only the sums."""
    loads = [sent(picture, audience) for picture in page.pictures]
    _load_once(loads)
    kinds = list(_kinds(loads, audience))
    amounts = np.concatenate([kind.bytes for kind in kinds])
    masses = np.concatenate([kind.share for kind in kinds])
    at = {q: _percentile(amounts, masses, q) for q in (0.5, 0.75, 0.95)}
    figures = {
        "mean": round(float(amounts @ masses)),
        "p50": at[0.5],
        "p75": at[0.75],
        "p95": at[0.95],
        "worst": round(float(amounts[masses > 0].max())),
    }
    return PageWeight(
        name=page.name,
        audience=audience.name,
        **figures,
        blurred=float(sum((kind.share * kind.blurred).sum() for kind in kinds)),
        waste=round(sum(_mean(one, one.over, audience) for one in loads)),
        budget=budget,
        kept=None if budget is None else figures[budget.at.value] <= budget.bytes,
        pictures=[_picture_weight(one, audience) for one in loads],
        visits=_visits(loads, audience) if visits else [],
        problems=list(page.problems),
    )


def loaded_bytes(page: ShownPage, audience: Audience) -> list[float]:
    """Mean bytes of a visit for each row of an audience, and nothing else."""
    loads = [sent(picture, audience) for picture in page.pictures]
    if not loads:
        return [0.0] * _rows(audience)
    _load_once(loads)
    weights = (one.bytes * (one.picture.times * one.picture.reached) for one in loads)
    return [float(amount) for amount in sum(weights, np.zeros(_rows(audience)))]


@dataclass(frozen=True)
class _Kind:
    """Visits that reach the same pictures, for each row."""

    share: Floats
    bytes: Floats
    blurred: Floats


def _kinds(loads: Sequence[Sent], audience: Audience) -> Iterator[_Kind]:
    levels = sorted({1.0, *(one.picture.reached for one in loads)} - {0.0}, reverse=True)
    for level, below in zip(levels, [*levels[1:], 0.0], strict=True):
        reached = [one for one in loads if one.picture.reached >= level]
        weights = sum((one.bytes * one.picture.times for one in reached), np.zeros(_rows(audience)))
        blurred = np.zeros(_rows(audience), dtype=np.bool_)
        for one in reached:
            blurred |= one.blurred
        yield _Kind(audience.shares * (level - below), weights, blurred.astype(np.float64))


def _rows(audience: Audience) -> int:
    return len(audience.rows)


def _percentile(amounts: Floats, masses: Floats, share: float) -> int:
    """The smallest amount that this share of visits does not exceed."""
    order = np.argsort(amounts, kind="stable")
    reached = np.cumsum(masses[order])
    at = int(np.searchsorted(reached, share * reached[-1] - 1e-12))
    return round(float(amounts[order][min(at, len(order) - 1)]))


def _load_once(loads: Sequence[Sent]) -> None:
    """A file shown by several pictures of a page loads once: it counts for the picture that most
    visits reach, or the first of them."""
    counts = Counter(file.path for one in loads for file in set(one.picture.files))
    if all(count == 1 for count in counts.values()):
        return
    shared = {path for path, count in counts.items() if count > 1}
    order = sorted(loads, key=lambda one: -one.picture.reached)
    for row in range(len(loads[0].file)):
        loaded: set[str] = set()
        for one in order:
            if one.file[row] < 0:
                continue
            path = one.picture.files[one.file[row]].path
            if path in shared and path in loaded:
                one.bytes[row] = one.over[row] = 0.0
            loaded.add(path)


def _mean(one: Sent, amounts: Floats, audience: Audience) -> float:
    """The mean over all visits."""
    return float(amounts @ audience.shares) * one.picture.reached * one.picture.times


def _picture_weight(one: Sent, audience: Audience) -> PictureWeight:
    return PictureWeight(
        picture=one.picture.name,
        bytes=round(_mean(one, one.bytes, audience)),
        waste=round(_mean(one, one.over, audience)),
        blurred=float((one.blurred * audience.shares).sum()) * one.picture.reached,
    )


def _visits(loads: Sequence[Sent], audience: Audience) -> list[Visit]:
    return [
        Visit(
            viewport_width=row.viewport_width,
            device_pixel_ratio=row.device_pixel_ratio,
            formats=[format.value for format in row.formats],
            share=float(audience.shares[at]),
            bytes=round(
                sum(float(one.bytes[at]) * one.picture.times * one.picture.reached for one in loads)
            ),
            files=[_sent_file(one, at) for one in loads if one.file[at] >= 0],
        )
        for at, row in enumerate(audience.rows)
    ]


def _sent_file(one: Sent, row: int) -> SentFile:
    file = one.picture.files[one.file[row]]
    return SentFile.model_construct(
        picture=one.picture.name,
        path=file.path,
        bytes=int(one.bytes[row]),
        needed=round(float(one.needed[row])),
        sent=round(float(one.width[row])),
        times=one.picture.times,
        over=round(float(one.over[row])),
        blurred=bool(one.blurred[row]),
    )

"""What the Weight screen shows: pages, what visitors are sent, and ladders, as drawings."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from math import log2
from typing import NamedTuple

from cachetools import LRUCache
from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.core.plan.pages import AudienceRow, BudgetAt, PageEntry
from gefa.core.plan.plan import Plan
from gefa.core.units import weight
from gefa.core.weigh.audience import NEUTRAL, Audience, neutral
from gefa.core.weigh.best_ladder import Demand
from gefa.core.weigh.ladders import (
    LadderAdvice,
    Step,
    advice,
    demands_of,
    ladders_of,
    priced,
    recipe_ladders,
    widths_of,
)
from gefa.core.weigh.page_weight import PageWeight, SentFile, loaded_bytes, weigh_page
from gefa.core.weigh.shown import ShownPage
from gefa.folder.page_weights import Weighing, audience_called, natural_widths
from gefa.store.models import Run
from gefa.store.shown_cuts import ShownCuts, cuts_mark, shown_cuts, wanted_names
from gefa.store.site_plan import plan_mark
from gefa.store.upload_addresses import PREFIX, find_upload
from gefa.web.services import Services

WIDTH, HEIGHT = 640, 300
LEFT, RIGHT, TOP, BOTTOM = 62, 56, 14, 58
"""px of the drawing around the lines; shares of visits stand below"""
NARROWEST, WIDEST = 280, 2_560
"""CSS px of the drawn viewports"""
SAMPLES = 240
"""viewport widths at which a page is weighed for a line"""
SHARES = 26
"""px of the drawing for shares of visits"""
MOST_LINES = 4
"""densities to draw, those with most visits"""
RECIPE = "recipe:"
"""prefix for all cuts of a recipe"""
LEAST_APART = 13
"""px between two labels of lines"""
MARKED = (320, 480, 768, 1024, 1440, 1920, 2560)


class Tick(NamedTuple):
    """A position on an axis, and its label."""

    at: float
    text: str


class Line(NamedTuple):
    """The bytes of a page by viewport width, at one density."""

    density: float
    path: str
    end: float
    chosen: bool


class Name(NamedTuple):
    """The label at the end of lines: one for lines that end together."""

    y: float
    text: str
    chosen: bool


class Share(NamedTuple):
    """Visits of one viewport width: its position, and the height of the bar."""

    x: float
    height: float
    words: str


@dataclass(frozen=True)
class Chart:
    """A page's bytes by viewport width. ``x`` and ``y`` are px of the drawing."""

    lines: list[Line]
    names: list[Name]
    shares: list[Share]
    up: list[Tick]
    across: list[Tick]
    budget: float | None
    most: float

    @staticmethod
    def x(width: float) -> float:
        span = log2(WIDEST) - log2(NARROWEST)
        within = min(WIDEST, max(NARROWEST, width))
        return LEFT + (log2(within) - log2(NARROWEST)) / span * (WIDTH - LEFT - RIGHT)


@dataclass(frozen=True)
class Place:
    """The selected viewport: CSS px, and device px per CSS px."""

    width: float = 390
    density: float = 2


class ShownSent(NamedTuple):
    """A picture as sent to the selected viewport. ``needed`` and ``sent`` are sides of two frames,
    as shares of the larger; ``href`` shows the file."""

    file: SentFile
    href: str
    needed: float
    sent: float
    alt: str


class PageRow(NamedTuple):
    """A page of the table. ``before`` is its mean with the previous run's files, in bytes."""

    entry: PageEntry
    weight: PageWeight
    before: int | None


_ROWS: LRUCache[tuple[str, ...], list[PageRow]] = LRUCache(16)
_ROWS_LOCK = threading.Lock()


class PageChange(NamedTuple):
    """Mean bytes of a page's visit after a run, and before it, if it could be weighed then."""

    page: str
    now: int
    before: int | None
    kept: bool | None


@dataclass
class Desk:
    """All pages of a site, with the newest files."""

    plan: Plan
    cuts: ShownCuts
    audience: Audience
    weighing: Weighing
    problem: str = ""
    audiences: list[str] = field(default_factory=list)

    @classmethod
    def of(cls, session: Session, given: Services, plan: Plan, name: str) -> Desk:
        """The view of a plan for an audience. PlanError if there is no such audience; if its file
        is missing, a warning, and the neutral audience."""
        base = given.site.folder if given.site else None
        problem = ""
        try:
            audience = audience_called(plan, name, base)
        except PlanError as error:
            if name and name not in {entry.name for entry in plan.audiences}:
                raise
            audience, problem = neutral(), str(error)
        cuts = shown_cuts(session, wanted_names(plan))
        out = given.site.out if given.site else None
        weighing = Weighing(
            plan, cuts.manifest, audience, base, out, lambda url: find_upload(session, url)
        )
        names = [*(entry.name for entry in plan.audiences), NEUTRAL]
        return cls(plan, cuts, audience, weighing, problem, list(dict.fromkeys(names)))

    def entry(self, name: str) -> PageEntry | None:
        return next((entry for entry in self.plan.pages if entry.called == name), None)

    def rows(self, session: Session) -> list[PageRow]:
        """Every page, compared with the previous run's files. Cached until the plan, a file or a
        source changes; not on a site's folder, whose pages are files themselves."""
        if self.weighing.base is not None:
            return self._rows(session)
        database = str(session.get_bind().engine.url)
        key = (database, plan_mark(session), cuts_mark(session), self.audience.name)
        with _ROWS_LOCK:
            known = _ROWS.get(key)
        if known is None:
            known = self._rows(session)
            with _ROWS_LOCK:
                _ROWS[key] = known
        return known

    def _rows(self, session: Session) -> list[PageRow]:
        newest = session.get(Run, max(self.cuts.runs.values(), default=""))
        before = self._means_before(session, newest) if newest is not None else {}
        return [
            PageRow(entry, self.weighing.page(entry, visits=False), before.get(entry.called))
            for entry in self.plan.pages
        ]

    def changes(self, session: Session, run: Run) -> list[PageChange]:
        """The pages that a run changed."""
        if not self.plan.pages:
            return []
        before = self._means_before(session, run)
        after = shown_cuts(session, wanted_names(self.plan), run=run)
        if run.id not in after.runs.values():
            return []
        weighing = Weighing(self.plan, after.manifest, self.audience, None)
        pages = [weighing.page(e, visits=False) for e in self.plan.pages if not e.html]
        return [
            PageChange(one.name, one.mean, before.get(one.name), one.kept)
            for one in pages
            if not one.problems
        ]

    def _means_before(self, session: Session, run: Run) -> dict[str, int]:
        """The means, before a run, of pages that could be weighed."""
        cuts = shown_cuts(session, wanted_names(self.plan), run=run, before=True)
        weighing = Weighing(self.plan, cuts.manifest, self.audience, None)
        pages = (weighing.page(e, visits=False) for e in self.plan.pages if not e.html)
        return {one.name: one.mean for one in pages if not one.problems}

    def page(self, entry: PageEntry) -> tuple[PageWeight, ShownPage]:
        """What the audience is sent of a page, and its pictures."""
        found = self.weighing.page(entry)
        return found, self.weighing.shown[-1]

    def at(self, shown: ShownPage, place: Place) -> list[ShownSent]:
        """Each picture of a page as sent to one viewport."""
        row = AudienceRow(viewport_width=place.width, device_pixel_ratio=place.density, share=1)
        visit = weigh_page(shown, Audience("one", [row])).visits[0]
        alts = {picture.name: picture.alt for picture in shown.pictures}
        found = []
        for file in visit.files:
            largest = max(file.needed, file.sent, 1)
            found.append(
                ShownSent(
                    file,
                    self._href(file.path),
                    file.needed / largest,
                    file.sent / largest,
                    alts.get(file.picture, ""),
                )
            )
        return found

    def _href(self, path: str) -> str:
        if path.startswith(PREFIX):
            return path
        cut = next((file.cut for file in self.cuts.manifest.files if file.path == path), "")
        run = self.cuts.runs.get(cut, "")
        return f"/runs/{run}/files/{path}" if run else ""

    # -- ladders -------------------------------------------------------------------------

    def ladder(self, shown: ShownPage, name: str) -> LadderAdvice | None:
        """The ladder of a cut on a page, or of all its cuts with a recipe."""
        cuts = self.cuts_of(shown, name)
        demands = self.demands(shown, name)
        widths = widths_of(file for one in shown.pictures for file in one.files)
        today = sorted({width for cut in cuts for width in widths.get(cut, [])})
        return advice(name.removeprefix(RECIPE), cuts, demands, today) if demands else None

    def cuts_of(self, shown: ShownPage, name: str) -> list[str]:
        """The cut of that name, or those of a page with a recipe."""
        if not name.startswith(RECIPE):
            return [name]
        recipe = name.removeprefix(RECIPE)
        on_page = {cut for picture in shown.pictures for cut in picture.cuts}
        records = self.cuts.manifest.cuts
        return [one.name for one in records if one.name in on_page and one.recipe == recipe]

    def ladders(self, shown: ShownPage) -> list[str]:
        """Cuts of a page with a ladder, the one with the most to gain first."""
        naturals = natural_widths(self.cuts.manifest)
        recipes = {cut.name: cut.recipe for cut in self.cuts.manifest.cuts}
        own = [one.name for one in ladders_of([shown], self.audience, naturals)]
        shared = recipe_ladders([shown], self.audience, naturals, recipes)
        return [*own, *(f"{RECIPE}{one.name}" for one in shared)]

    def demands(self, shown: ShownPage, name: str) -> list[Demand]:
        """The visitors' demand for a cut, or for all cuts of a recipe."""
        naturals = natural_widths(self.cuts.manifest)
        found = demands_of(shown.pictures, self.audience, naturals)
        return [one for cut in self.cuts_of(shown, name) for one in found.get(cut, [])]


def priced_for(desk: Desk, shown: ShownPage, cut: str, widths: Sequence[int]) -> Step | None:
    """The cost of a ladder with these widths on a page; None if nobody needs the cut there."""
    demands = desk.demands(shown, cut)
    return priced(widths, demands) if demands and widths else None


# -- drawings ----------------------------------------------------------------------------


def chart_of(shown: ShownPage, audience: Audience, entry: PageEntry, density: float) -> Chart:
    """The chart of a page for an audience, with the line of one density in front."""
    step = (log2(WIDEST) - log2(NARROWEST)) / (SAMPLES - 1)
    widths = [2 ** (log2(NARROWEST) + at * step) for at in range(SAMPLES)]
    densities = _densities(audience, density)
    loads = {one: _bytes_over(shown, widths, one) for one in densities}
    budget = entry.budget.bytes if entry.budget else 0
    most = max(budget, *(max(line) for line in loads.values()), 1) * 1.06

    def y(amount: float) -> float:
        return HEIGHT - BOTTOM - amount / most * (HEIGHT - BOTTOM - TOP)

    lines = [
        Line(one, _steps(widths, [y(b) for b in line]), y(line[-1]), one == density)
        for one, line in loads.items()
    ]
    return Chart(
        sorted(lines, key=lambda line: line.chosen),
        _names(lines),
        _shares(audience),
        [Tick(y(at), weight(at)) for at in _round(most)],
        [Tick(Chart.x(width), f"{width:,}") for width in MARKED],
        y(budget) if budget else None,
        most,
    )


def _names(lines: Sequence[Line]) -> list[Name]:
    groups: list[list[Line]] = []
    for line in sorted(lines, key=lambda line: (line.end, line.density)):
        if groups and line.end - groups[-1][0].end < LEAST_APART:
            groups[-1].append(line)
        else:
            groups.append([line])
    names = []
    for group in groups:
        densities = sorted(line.density for line in group)
        ends = dict.fromkeys((densities[0], densities[-1]))
        text = "–".join(f"{density:g}" for density in ends)
        names.append(Name(group[0].end, f"{text}×", any(line.chosen for line in group)))
    return names


def _densities(audience: Audience, chosen: float) -> list[float]:
    sums: dict[float, float] = {}
    for row, share in zip(audience.rows, audience.shares, strict=True):
        sums[row.device_pixel_ratio] = sums.get(row.device_pixel_ratio, 0) + float(share)
    common = sorted(sums, key=lambda density: -sums[density])[:MOST_LINES]
    return sorted({*common, chosen})


def _bytes_over(shown: ShownPage, widths: Sequence[float], density: float) -> list[float]:
    rows = [AudienceRow(viewport_width=w, device_pixel_ratio=density, share=1) for w in widths]
    return loaded_bytes(shown, Audience("line", rows))


def _steps(widths: Sequence[float], ys: Sequence[float]) -> str:
    """A path that runs across, and up or down where the choice changes."""
    path = f"M{Chart.x(widths[0]):.1f} {ys[0]:.1f}"
    last = ys[0]
    for width, y in zip(widths[1:], ys[1:], strict=True):
        if abs(y - last) > 0.05:
            path += f"H{Chart.x(width):.1f}V{y:.1f}"
            last = y
    return path + f"H{Chart.x(widths[-1]):.1f}"


def _shares(audience: Audience) -> list[Share]:
    sums: dict[float, float] = {}
    for row, share in zip(audience.rows, audience.shares, strict=True):
        sums[row.viewport_width] = sums.get(row.viewport_width, 0) + float(share)
    most = max(sums.values())
    return [
        Share(
            Chart.x(width),
            share / most * SHARES,
            f"{width:g} px: {share * 100:.0f} % of visits",
        )
        for width, share in sorted(sums.items())
    ]


def _round(most: float) -> list[float]:
    """Four or five round amounts, from 0."""
    unit = 10.0 ** (len(str(int(most))) - 1)
    step = next(s * unit for s in (0.2, 0.25, 0.5, 1, 2) if most / (s * unit) <= 5)
    return [at * step for at in range(int(most / step) + 1)]


@dataclass(frozen=True)
class LadderDrawing:
    """Widths on an axis in px: the demand, today's ladder, the best one, and the tried one."""

    needed: list[Share]
    today: list[Tick]
    best: list[Tick]
    tried: list[Tick]
    across: list[Tick]
    most: int
    blurred: float


LADDER_WIDTH = WIDTH


def ladder_drawing(told: LadderAdvice, tried: Sequence[int]) -> LadderDrawing:
    """On a linear axis up to the widest of them."""
    widest = max((px for px, _ in told.needed), default=told.natural)
    most = max(widest, told.natural, *told.today.widths, *tried, 1)

    def x(px: float) -> float:
        return LEFT + min(px, most) / most * (WIDTH - LEFT - RIGHT)

    heaviest = max((share for _, share in told.needed), default=1.0)
    step = next(s for s in (100, 200, 250, 500, 1000, 2000, 5000, 20_000) if most / s <= 7)
    return LadderDrawing(
        [
            Share(x(px), share / heaviest * SHARES, f"{px:,} px: {share * 100:.0f} % of visits")
            for px, share in told.needed
        ],
        [Tick(x(px), str(px)) for px in told.today.widths],
        [Tick(x(px), str(px)) for px in told.proposed.widths],
        [Tick(x(px), str(px)) for px in tried],
        [Tick(x(px), f"{px:,}") for px in range(0, most + 1, step)],
        most,
        told.today.blurred,
    )


BUDGET_WORDS = {
    BudgetAt.MEAN: "on average",
    BudgetAt.P50: "for half of the visits",
    BudgetAt.P75: "for 75 % of visits",
    BudgetAt.P95: "for 95 % of visits",
    BudgetAt.WORST: "for every visit",
}

"""What was weighed, as text, Markdown and JUnit."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from xml.etree import ElementTree

from pydantic import BaseModel

from gefa.core.units import percent, weight
from gefa.core.weigh.faults import MarkupFault
from gefa.core.weigh.ladders import LadderAdvice
from gefa.core.weigh.page_weight import PageWeight


class Weighed(BaseModel):
    """Pages with their weights, mistakes in their markup, and better ladders."""

    pages: list[PageWeight]
    faults: list[MarkupFault] = []
    ladders: list[LadderAdvice] = []

    @property
    def over(self) -> list[PageWeight]:
        """Pages over their budgets."""
        return [page for page in self.pages if page.kept is False]

    @property
    def failed(self) -> bool:
        """Whether a build should fail."""
        return bool(self.over) or any(page.problems for page in self.pages)


def over_budget(page: PageWeight) -> str:
    """By how much a page is over its budget, its heaviest pictures, and what would
    bring it under."""
    assert page.budget is not None
    amount = page.at(page.budget.at)
    heaviest = ", ".join(f"{one.picture} {weight(one.bytes)}" for one in page.heaviest)
    over = amount - page.budget.bytes
    told = (
        f"{weight(amount)} at {page.budget.at.value}, {weight(over)} over its budget of"
        f" {weight(page.budget.bytes)}. Heaviest: {heaviest}."
    )
    if page.waste >= over:
        return f"{told} {weight(page.waste)} of a visit is wasted: a better ladder may be enough."
    lighter = percent(over / amount)
    return f"{told} Files have to get {lighter} lighter: lower the look, or show fewer pictures."


def as_text(weighed: Weighed) -> Iterator[str]:
    """A line for each page, then mistakes and better ladders."""
    wide = max((len(page.name) for page in weighed.pages), default=4)
    yield (
        f"{'page':<{wide}}  {'mean':>9} {'p75':>9} {'worst':>9} {'waste':>9} {'blurred':>9}  budget"
    )
    for page in weighed.pages:
        yield (
            f"{page.name:<{wide}}  {weight(page.mean):>9} {weight(page.p75):>9}"
            f" {weight(page.worst):>9} {weight(page.waste):>9} {percent(page.blurred):>9}"
            f"  {_kept(page)}"
        )
    for page in weighed.pages:
        yield from (f"{page.name}: {problem}" for problem in page.problems)
    yield from (f"{page.name}: {over_budget(page)}" for page in weighed.over)
    yield from map(str, weighed.faults)
    for one in weighed.ladders:
        yield ladder_line(one)


def ladder_line(one: LadderAdvice) -> str:
    """A proposed ladder beside today's."""
    return (
        f"{one.name}: {_widths(one.proposed.widths)} instead of {_widths(one.today.widths)}:"
        f" {weight(one.proposed.bytes)} a visit instead of {weight(one.today.bytes)}"
        f" ({-100 * one.saves:+.0f} %), {percent(one.proposed.blurred)} blurred instead of"
        f" {percent(one.today.blurred)}"
    )


def as_markdown(weighed: Weighed) -> Iterator[str]:
    """Markdown for a comment on a pull request."""
    yield "| page | mean | p75 | worst | waste | blurred | budget |"
    yield "|---|--:|--:|--:|--:|--:|---|"
    for page in weighed.pages:
        cells = (
            _cell(page.name),
            *map(weight, (page.mean, page.p75, page.worst, page.waste)),
            percent(page.blurred),
            _kept(page),
        )
        yield f"| {' | '.join(cells)} |"
    told = [f"**{_cell(page.name)}**: {over_budget(page)}" for page in weighed.over]
    told += [f"{_cell(page.name)}: {p}" for page in weighed.pages for p in page.problems]
    told += [str(fault) for fault in weighed.faults]
    told += [ladder_line(one) for one in weighed.ladders]
    if told:
        yield ""
        yield from (f"- {line}" for line in told)


def as_junit(weighed: Weighed) -> str:
    """JUnit XML with a test case for each page."""
    failing = [page for page in weighed.pages if page.kept is False or page.problems]
    suite = ElementTree.Element(
        "testsuite",
        name="gefa weigh",
        tests=str(len(weighed.pages)),
        failures=str(len(failing)),
    )
    for page in weighed.pages:
        case = ElementTree.SubElement(suite, "testcase", classname="gefa weigh", name=page.name)
        told = [*page.problems, *([over_budget(page)] if page.kept is False else [])]
        for reason in told:
            failure = ElementTree.SubElement(case, "failure", type="weight", message=reason)
            failure.text = reason
        faults = [str(fault) for fault in weighed.faults if fault.page == page.name]
        if faults:
            ElementTree.SubElement(case, "system-out").text = "\n".join(faults)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True)


def _kept(page: PageWeight) -> str:
    if page.budget is None:
        return "–"
    if page.problems:
        return "not known"
    state = "kept" if page.kept else "over"
    return f"{state}: {weight(page.budget.bytes)} at {page.budget.at.value}"


def _widths(widths: Sequence[int]) -> str:
    return ", ".join(map(str, widths)) + " px"


def _cell(text: str) -> str:
    return text.replace("|", "\\|")

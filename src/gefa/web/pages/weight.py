"""Weight: what the site's pages send to their visitors, and ladders that fit them better."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Depends, Query, Request, Response, UploadFile
from fastapi.responses import RedirectResponse
from pydantic import ValidationError
from sqlmodel import Session

from gefa.core.cut.cut import Origin
from gefa.core.errors import PlanError
from gefa.core.plan.pages import AudienceEntry
from gefa.core.plan.problems import problems_in_words
from gefa.core.treat.recipe import Recipe
from gefa.core.weigh.audience import NEUTRAL, audience_rows
from gefa.core.weigh.shown import ShownPage
from gefa.store.models import Source
from gefa.store.one_change import is_latest, latest_of_recipe, undo_change
from gefa.store.plans import change_shared, editor_of, keep_edit, shared_plan, step_id
from gefa.store.recipes import save_recipe, shelf_of_recipes
from gefa.store.roles import Permission
from gefa.store.sources import latest_revision
from gefa.web.fields import Fields, FormOf
from gefa.web.pages import weight_view
from gefa.web.pages.plan import plan_now
from gefa.web.pages.weight_view import (
    BUDGET_WORDS,
    RECIPE,
    Desk,
    Place,
    chart_of,
    ladder_drawing,
    priced_for,
)
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/weight")

MOST_WIDTHS = 40
"""of a ladder to try"""
WIDEST = 99_999
"""px"""
_WIDTH = re.compile(r"[1-9][0-9]{0,4}")
MAX_AUDIENCE_BYTES = 4_000_000


@dataclass(frozen=True)
class WeightQuery:
    """An address of the screen: ``cut`` is the ladder to show, ``widths`` are tried for it."""

    page: str
    audience: str
    place: Place
    cut: str
    widths: str

    def address(self, path: str = "/weight", **changes: object) -> str:
        fields: dict[str, object] = {
            "page": self.page,
            "audience": self.audience,
            "width": f"{self.place.width:g}",
            "density": f"{self.place.density:g}",
            "cut": self.cut,
            "widths": self.widths,
        }
        told = {key: value for key, value in (fields | changes).items() if value}
        return f"{path}?{urlencode(told)}"


def _asked(
    page: Annotated[str, Query(max_length=400)] = "",
    audience: Annotated[str, Query(max_length=300)] = "",
    width: Annotated[float, Query(ge=100, le=8_000)] = 390,
    density: Annotated[float, Query(ge=0.5, le=5)] = 3,
    cut: Annotated[str, Query(max_length=400)] = "",
    widths: Annotated[str, Query(max_length=400)] = "",
) -> WeightQuery:
    return WeightQuery(page, audience, Place(width, density), cut, widths)


Asked = Annotated[WeightQuery, Depends(_asked)]


def _desk(session: Session, given: Services, asked: WeightQuery) -> Desk:
    try:
        return Desk.of(session, given, plan_now(session), asked.audience)
    except PlanError as error:
        raise Problem(404, "There is no such audience", error.told) from error


@router.get("")
@needs(Permission.LOOK)
def show(
    request: Request, given: ServicesOf, asked: Asked, saved: str = "", step: str = ""
) -> Response:
    """All pages, or one. ``saved`` says what was just changed, ``step`` by which change."""
    with given.store.reading() as session:
        desk = _desk(session, given, asked)
        context: dict[str, Any] = {
            "desk": desk,
            "asked": asked,
            "words": BUDGET_WORDS,
            "neutral": NEUTRAL,
            "saved": saved,
            "step": step if is_latest(session, step) else "",
        }
        if not asked.page:
            return page(request, "weight/index.html", rows=desk.rows(session), **context)
        context |= _one(desk, asked)
    return page(request, "weight/page.html", **context)


def _one(desk: Desk, asked: WeightQuery) -> dict[str, Any]:
    """Everything the screen of one page shows."""
    entry = desk.entry(asked.page)
    if entry is None:
        raise Problem(404, "There is no such page", f"The plan has no page {asked.page!r}.")
    weighed, shown = desk.page(entry)
    ladders = desk.ladders(shown)
    chosen = asked.cut if asked.cut in ladders else (ladders or [""])[0]
    return {
        "entry": entry,
        "weighed": weighed,
        "chart": chart_of(shown, desk.audience, entry, asked.place.density),
        "box": weight_view,
        "sent": desk.at(shown, asked.place),
        "ladders": ladders,
        **_ladder(desk, shown, chosen, asked.widths),
    }


def _ladder(desk: Desk, shown: ShownPage, cut: str, widths: str) -> dict[str, Any]:
    told = desk.ladder(shown, cut) if cut else None
    if told is None:
        return {"cut": cut, "told": None, "drawn": None, "tried": None, "record": None}
    wanted = _widths(widths, told.natural) or list(told.proposed.widths)
    record = next(one for one in desk.cuts.manifest.cuts if one.name in told.cuts)
    return {
        "cut": cut,
        "told": told,
        "drawn": ladder_drawing(told, wanted),
        "tried": priced_for(desk, shown, cut, wanted),
        "record": record,
        "alone": record.origin is not Origin.SLICE and not cut.startswith(RECIPE),
    }


def _widths(text: str, natural: int) -> list[int]:
    """``400, 800`` to px, without invalid widths, and none above the cut's own."""
    numbers = [int(word) for word in text.replace(",", " ").split() if _WIDTH.fullmatch(word)]
    return sorted({min(number, natural) for number in numbers})[:MOST_WIDTHS]


@router.get("/at")
@needs(Permission.LOOK)
def at(request: Request, given: ServicesOf, asked: Asked) -> Response:
    """What one viewport is sent, as a page."""
    return _part(request, given, asked, "weight/_sent.html")


@router.get("/ladder")
@needs(Permission.LOOK)
def ladder(request: Request, given: ServicesOf, asked: Asked) -> Response:
    """The cost of a ladder that somebody tries."""
    return _part(request, given, asked, "weight/_ladder.html")


def _part(request: Request, given: Services, asked: WeightQuery, template: str) -> Response:
    with given.store.reading() as session:
        desk = _desk(session, given, asked)
        entry = desk.entry(asked.page)
        if entry is None:
            raise Problem(404, "There is no such page", f"The plan has no page {asked.page!r}.")
        _, shown = desk.page(entry)
        context: dict[str, Any] = {
            "desk": desk,
            "asked": asked,
            "entry": entry,
            "box": weight_view,
        }
        if template.endswith("_sent.html"):
            return page(request, template, sent=desk.at(shown, asked.place), **context)
        return page(request, template, **context, **_ladder(desk, shown, asked.cut, asked.widths))


@router.post("/ladder")
@needs(Permission.DEVELOP)
def take(given: ServicesOf, form: FormOf, asked: Asked) -> Response:
    """Use the tried widths, for the cut alone or for its recipe."""
    fields = Fields(form)
    with given.store.changing() as session:
        desk = _desk(session, given, asked)
        whole = asked.cut.startswith(RECIPE)
        called = asked.cut.removeprefix(RECIPE)
        record = next(
            (
                one
                for one in desk.cuts.manifest.cuts
                if called == (one.recipe if whole else one.name)
            ),
            None,
        )
        source = session.get(Source, desk.cuts.sources.get(record.name if record else "", ""))
        if record is None or source is None:
            raise Problem(404, "There is no such cut", f"{called!r} has no files.")
        given_widths = fields.text("widths")
        widths = _widths(given_widths, WIDEST)
        if not widths or not all(map(_WIDTH.fullmatch, given_widths.replace(",", " ").split())):
            detail = (
                f"{given_widths[:80]!r} is not a list of widths. Write px, such as 400, 800, 1200."
            )
            raise Problem(422, "These are no widths", detail)
        said = f"Widths {', '.join(map(str, widths))}"
        try:
            if whole or fields.text("for") == "recipe":
                _for_recipe(session, record.recipe, widths, said)
                step = latest_of_recipe(session, record.recipe)
            else:
                words = f"{said} for {asked.cut}"
                _for_cut(session, source, record.part, record.recipe, widths, words)
                step = step_id(session, source)
        except PlanError as error:
            raise Problem(422, "These widths cannot be used", str(error)) from error
        except ValidationError as error:
            detail = f"{'; '.join(problems_in_words(error))}."
            raise Problem(422, "These widths cannot be used", detail) from error
    given.outlooks.wake()
    for_recipe = whole or fields.text("for") == "recipe"
    whose = f"the recipe {record.recipe}" if for_recipe else asked.cut
    return RedirectResponse(asked.address(saved=f"{said} for {whose}", step=step), 303)


@router.post("/undo")
@needs(Permission.DEVELOP)
def undo(given: ServicesOf, form: FormOf, asked: Asked) -> Response:
    """Undo the use of a ladder."""
    with given.store.changing() as session:
        try:
            undone = undo_change(session, Fields(form).text("step"))
        except PlanError as error:
            raise Problem(409, "This cannot be undone here", error.told) from error
    given.outlooks.wake()
    return RedirectResponse(asked.address(saved=f"Undone: {undone}"), 303)


def _for_recipe(session: Session, name: str, widths: list[int], said: str) -> None:
    recipe = shelf_of_recipes(session).get(name)
    if recipe is None:
        raise PlanError(f"there is no recipe {name!r} any more.")
    changed = recipe.model_copy(update={"widths": tuple(widths), "steps": None})
    save_recipe(session, name, Recipe.model_validate(changed.model_dump()), said)


def _for_cut(
    session: Session, source: Source, part: str, recipe: str, widths: list[int], said: str
) -> None:
    revision = latest_revision(session, source.id)
    if revision is None:
        raise PlanError(f"{source.name} is not there any more.")
    editor = editor_of(session, source, revision)
    keep_edit(session, source, editor.widen(part, recipe, widths), said)


@router.post("/audience")
@needs(Permission.DEVELOP)
def add_audience(given: ServicesOf, asked: Asked, file: UploadFile) -> Response:
    """Import an audience from a table; one of the same name is replaced."""
    called = file.filename or "visitors.csv"
    name = called.rpartition("/")[2].rpartition(".")[0][:100] or "visitors"
    _add_audience(given, name, file.file.read(MAX_AUDIENCE_BYTES + 1), called)
    return RedirectResponse(asked.address(audience=name, saved=f"Audience {name}"), 303)


def _add_audience(given: Services, name: str, data: bytes, file: str) -> None:
    try:
        rows = audience_rows(data, file)
        with given.store.changing() as session:
            plan = shared_plan(session)
            kept = [entry for entry in plan.audiences if entry.name != name]
            new = AudienceEntry(name=name, rows=tuple(rows))
            changed = plan.model_copy(update={"audiences": (new, *kept)})
            change_shared(session, changed, f"Audience {name}")
    except PlanError as error:
        raise Problem(422, "The audience cannot be read", str(error)) from error

"""Recipes: each reads as a sentence whose words can be changed, with its effect beside it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.errors import GefaError, PlanError
from gefa.core.treat.recipe import BUILT_IN, BUILT_IN_WORDS, Recipe
from gefa.core.treat.recipe_sentence import sentence
from gefa.core.units import listed
from gefa.store.contracts import TryReport
from gefa.store.made_by_recipe import made_by_recipe
from gefa.store.models import Task, TaskState
from gefa.store.recipes import (
    can_undo,
    library,
    remove_recipe,
    removed_last,
    save_recipe,
    shelf_of_recipes,
    undo_recipe,
)
from gefa.store.roles import Permission
from gefa.store.slots import slots_with
from gefa.store.sources import all_sources
from gefa.store.task_kinds import TaskKind
from gefa.web.fields import FormOf
from gefa.web.pages.recipe_form import Sentence, recipe_from
from gefa.web.pages.trial import (
    Effect,
    Sample,
    clash_in,
    effect_of,
    sample_of,
    samples,
    uses_of,
)
from gefa.web.problems import Problem
from gefa.web.sending import send_from
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/recipes")

NEW = Recipe(formats="auto", widths=(480, 960, 1440))


@router.get("")
@needs(Permission.LOOK)
def index(request: Request, given: ServicesOf) -> Response:
    """All recipes of the site, each as a sentence."""
    with given.store.reading() as session:
        recipes = shelf_of_recipes(session)
        stored = library(session)
        rows = [
            {
                "name": name,
                "words": sentence(recipe),
                "purpose": BUILT_IN_WORDS.get(name, ""),
                "changed": name in stored and name in BUILT_IN,
                "uses": len(uses_of(session, name)),
            }
            for name, recipe in sorted(recipes.items())
        ]
        gone = removed_last(session)
        made = made_by_recipe(session)
    most = max((one.bytes for one in made.values()), default=0)
    return page(request, "recipes/list.html", rows=rows, gone=gone, made=made, most=most)


@router.post("")
@needs(Permission.DEVELOP)
def add(
    given: ServicesOf, name: Annotated[str, Form()] = "", like: Annotated[str, Form()] = ""
) -> Any:
    """Add a recipe, a copy of another or a plain one."""
    wanted = name.strip()
    with given.store.changing() as session:
        known = shelf_of_recipes(session)
        if wanted in known:
            raise Problem(409, "Recipe exists", f"A recipe is already named {wanted!r}.")
        try:
            save_recipe(session, wanted, known.get(like, NEW), "Began it")
        except GefaError as error:
            raise Problem(422, "That is no name", str(error)) from error
    return RedirectResponse(f"/recipes/{wanted}", 303)


@dataclass
class RecipeTrial:
    """A recipe, and the sample to try it on, if there is any."""

    name: str
    recipe: Recipe
    sample: Sample | None

    @property
    def query(self) -> str:
        """The sample in use, for links."""
        if self.sample is None:
            return ""
        return urlencode({"sample": self.sample.source_id, "part": self.sample.part})


@dataclass
class RecipeView(RecipeTrial):
    """The screen of a recipe; ``pictures`` can be its mark, ``names`` are those of its files on the
    sample, ``choices`` other samples."""

    built_in: bool
    changed: bool
    undo: str
    pictures: list[str]
    names: list[str]
    choices: list[Sample] = field(default_factory=list)

    @property
    def said(self) -> Sentence:
        return Sentence(self.recipe)


def _tried(session: Session, name: str, sample: str, part: str) -> RecipeTrial:
    recipe = shelf_of_recipes(session).get(name)
    if recipe is None:
        raise HTTPException(404, f"There is no recipe {name!r} any more.")
    return RecipeTrial(name, recipe, sample_of(session, name, sample, part))


def _view(session: Session, name: str, sample: str, part: str) -> RecipeView:
    tried = _tried(session, name, sample, part)
    return RecipeView(
        name,
        tried.recipe,
        tried.sample,
        built_in=name in BUILT_IN,
        changed=name in library(session) and tried.recipe != BUILT_IN.get(name),
        undo=can_undo(session, name),
        pictures=[source.name for source, _ in all_sources(session)],
        names=tried.sample.names(session, name, tried.recipe) if tried.sample else [],
    )


@router.get("/{name}")
@needs(Permission.LOOK)
def show(
    request: Request, name: str, given: ServicesOf, sample: str = "", part: str = ""
) -> Response:
    """A recipe: a sample picture, the sentence, and the files it makes of the sample."""
    with given.store.session() as session:
        view = _view(session, name, sample, part)
        view.choices = samples(session)
    return page(request, "recipes/index.html", view=view)


@router.post("/{name}")
@needs(Permission.DEVELOP)
def change(
    request: Request,
    name: str,
    given: ServicesOf,
    form: FormOf,
    sample: str = "",
    part: str = "",
) -> Response:
    """Store the sentence as it reads now."""
    with given.store.changing() as session:
        tried = _tried(session, name, sample, part)
        try:
            recipe = recipe_from(form)
            _refuse_clashes(session, name, recipe, tried.sample)
            save_recipe(session, name, recipe, "Changed it")
        except GefaError as error:
            raise Problem(422, "That is no recipe", str(error)) from error
    return _changed(request, name, given, sample, part)


def _refuse_clashes(session: Session, name: str, recipe: Recipe, sample: Sample | None) -> None:
    """PlanError if two files would have the same name: of the sample, or of a source with the
    recipe."""
    if sample is not None and sample.clashes(session, name, recipe):
        raise PlanError("two files would have the same name.", advice="Add {width} or {ext}.")
    for source in uses_of(session, name):
        clash = clash_in(session, source, name, recipe)
        if clash:
            raise PlanError(
                f"in {source.name} {clash}.", advice="Add {cut} to the name, or {hash}."
            )


@router.post("/{name}/undo")
@needs(Permission.DEVELOP)
def undo(
    request: Request, name: str, given: ServicesOf, sample: str = "", part: str = ""
) -> Response:
    """Undo the last change, also of a recipe that was removed."""
    with given.store.changing() as session:
        undo_recipe(session, name)
        if name not in shelf_of_recipes(session):
            _refuse_used(session, name)
    if not request.headers.get("HX-Request"):
        return RedirectResponse(f"/recipes/{name}", 303)
    return _changed(request, name, given, sample, part)


@router.post("/{name}/remove")
@needs(Permission.DEVELOP)
def remove(name: str, given: ServicesOf) -> Response:
    """Remove a recipe, or reset a built-in one; both can be undone."""
    with given.store.changing() as session:
        if name not in BUILT_IN:
            _refuse_used(session, name)
        remove_recipe(session, name)
    return RedirectResponse(f"/recipes/{name}" if name in BUILT_IN else "/recipes", 303)


def _refuse_used(session: Session, name: str) -> None:
    """A recipe that slots use cannot be removed."""
    slots = slots_with(session, name)
    if slots:
        raise Problem(
            409,
            "It is in use",
            f"Uploads to {listed(slots)} are treated by it. Choose another recipe there first.",
        )


def _changed(request: Request, name: str, given: Services, sample: str, part: str) -> Response:
    with given.store.session() as session:
        view = _view(session, name, sample, part)
    if not request.headers.get("HX-Request"):
        return RedirectResponse(f"/recipes/{name}?{view.query}", 303)
    return page(request, "recipes/_changed.html", view=view)


@router.post("/{name}/effect")
@needs(Permission.LOOK)
def effect(
    request: Request, name: str, given: ServicesOf, sample: str = "", part: str = ""
) -> Response:
    """The files of the recipe on the sample, as far as they are made; requests the rest."""
    with given.store.session() as session:
        tried = _tried(session, name, sample, part)
        found: Effect | None = None
        if tried.sample is not None:
            blobs, queue = given.store.blobs, given.queue
            found = effect_of(session, blobs, queue, name, tried.recipe, tried.sample)
    given.foreman.wake()
    return page(request, "recipes/_effect.html", view=tried, effect=found)


@router.get("/{name}/tried/{job_id}/{path:path}")
@needs(Permission.LOOK)
def tried(name: str, job_id: str, path: str, given: ServicesOf) -> Response:
    """A file of a trial."""
    with given.store.reading() as session:
        job = session.get(Task, job_id)
    if job is None or job.kind is not TaskKind.TRY or job.state is not TaskState.DONE:
        raise HTTPException(404)
    report = TryReport.model_validate(job.report).report
    return send_from(given.store.blobs, report.files if report else [], path)

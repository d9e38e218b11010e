"""The desk of the site: what is done to many sources at once, undone, and restored."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated

from fastapi import Form, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.core.plan.treat_many import tags_from
from gefa.core.read.source_paths import clean_path
from gefa.store.desk import (
    HAD_BACK_WITHIN,
    give_recipe,
    give_tags,
    move,
    redo_on_desk,
    remove,
    removed_sources,
    restore,
    undo_on_desk,
)
from gefa.store.models import Source, as_utc
from gefa.store.removal import remove_source
from gefa.store.roles import Permission
from gefa.web.fields import Fields, FormOf
from gefa.web.pages.desk_view import chosen_of, query_of
from gefa.web.pages.sources import desk_answer
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.site_mode import keep_to_files
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router()


def _recipe(session: Session, sources: Sequence[Source], fields: Fields) -> None:
    give_recipe(session, sources, fields.text("recipe").removeprefix("-"))


def _tags(session: Session, sources: Sequence[Source], fields: Fields) -> None:
    words = tags_from(fields.text("tags"))
    gone = {word[1:].strip() for word in words if word.startswith("-")}
    more = [word for word in words if not word.startswith("-")]
    give_tags(session, sources, more, gone)


def _move(session: Session, sources: Sequence[Source], fields: Fields) -> None:
    folder = fields.text("to").strip("/ ")
    place = f"{clean_path(folder)}/" if folder else ""
    move(session, {s.id: f"{place}{s.name.rpartition('/')[2]}" for s in sources})


def _rename(session: Session, sources: Sequence[Source], fields: Fields) -> None:
    name = fields.text("name")
    if len(sources) != 1 or not name:
        raise PlanError("give one source a name.", advice="Choose one, and write its new path.")
    move(session, {sources[0].id: clean_path(name)})


def _remove(session: Session, sources: Sequence[Source], fields: Fields) -> None:
    remove(session, sources)


_DEEDS: dict[str, Callable[[Session, Sequence[Source], Fields], None]] = {
    "recipe": _recipe,
    "tags": _tags,
    "move": _move,
    "rename": _rename,
    "remove": _remove,
}
"""by their names in forms"""


@router.post("/desk")
@needs(Permission.DEVELOP)
def change(request: Request, given: ServicesOf, form: FormOf) -> Response:
    """Change all chosen sources in one way, as one step that can be undone."""
    fields = Fields(form)
    if fields.text("do") in ("move", "rename", "remove"):
        keep_to_files(given)
    deed = _DEEDS.get(fields.text("do"))

    def apply(session: Session) -> None:
        if deed is None:
            raise PlanError(f"nothing is called {fields.text('do')!r} here.")
        sources = chosen_of(session, fields)
        if not sources:
            raise PlanError("no source is chosen.", advice="Tick at least one.")
        deed(session, sources, fields)

    return _answer(request, given, fields, apply)


@router.post("/desk/undo")
@needs(Permission.DEVELOP)
def undo(request: Request, given: ServicesOf, form: FormOf) -> Response:
    """Undo the last change on the desk."""
    return _answer(request, given, Fields(form), undo_on_desk)


@router.post("/desk/redo")
@needs(Permission.DEVELOP)
def redo(request: Request, given: ServicesOf, form: FormOf) -> Response:
    """Redo the change undone last."""
    return _answer(request, given, Fields(form), redo_on_desk)


def _answer(
    request: Request, given: Services, fields: Fields, apply: Callable[[Session], object]
) -> Response:
    query = query_of(fields)
    problem = ""
    try:
        with given.store.changing() as session:
            apply(session)
    except PlanError as error:
        problem = str(error)
    given.watcher.look_again()
    if request.headers.get("HX-Request"):
        shown = int(fields.number("shown", "shown", 0))
        return desk_answer(request, given, query, shown, problem)
    if problem:
        raise Problem(422, "Invalid change", problem)
    return RedirectResponse(fields.text("back") or query.href(), 303)


@router.get("/removed")
@needs(Permission.LOOK)
def removed(request: Request, given: ServicesOf) -> Response:
    """Removed sources that can be restored."""
    with given.store.reading() as session:
        rows = [
            {"source": source, "until": as_utc(source.removed) + HAD_BACK_WITHIN}
            for source in removed_sources(session)
            if source.removed is not None
        ]
    return page(request, "sources/removed.html", rows=rows)


@router.post("/removed")
@needs(Permission.DEVELOP)
def have_back(
    given: ServicesOf,
    source: Annotated[list[str] | None, Form()] = None,
    do: Annotated[str, Form()] = "restore",
) -> Response:
    """Restore removed sources, or delete them."""
    if do == "restore":
        keep_to_files(given)
    ids = set(source or [])
    with given.store.changing() as session:
        chosen = [one for one in removed_sources(session) if one.id in ids]
        if do == "restore":
            restore(session, chosen)
        elif do == "forget":
            for one in chosen:
                remove_source(session, one)
        else:
            raise Problem(422, "Invalid change", f"Nothing is called {do[:40]!r} here.")
    given.watcher.look_again()
    return RedirectResponse("/removed" if do == "forget" else "/", 303)

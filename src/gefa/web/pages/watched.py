"""*Watched folders*: files in them are brought in."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import Form, Request, Response
from fastapi.responses import RedirectResponse

from gefa.core.errors import PlanError
from gefa.store.roles import Permission
from gefa.store.sources import present
from gefa.store.watched import sources_by_folder, stop_watching, watch, watched_folders
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.site_mode import keep_to_files
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/watched")
MOST_TOLD = 50
"""files that could not be brought in and are listed; the rest is counted"""


@router.get("")
@needs(Permission.LOOK)
def show(request: Request, given: ServicesOf) -> Response:
    """All watched folders, with files that could not be brought in."""
    return _page(request, given)


def _page(request: Request, given: Services, problem: str = "", folder: str = "") -> Response:
    with given.store.reading() as session:
        if given.site is not None:
            counts = {str(given.site.folder): len(present(session))}
        else:
            found = sources_by_folder(session)
            counts = {one.path: found.get(one.path, 0) for one in watched_folders(session)}
    rows = [
        {"path": path, "there": Path(path).is_dir(), "sources": sources}
        for path, sources in counts.items()
    ]
    problems = sorted(given.watcher.problems.items())
    return page(
        request,
        "sources/watched.html",
        status_code=422 if problem else 200,
        rows=rows,
        root=given.watcher.root,
        problems=problems[:MOST_TOLD],
        more=max(0, len(problems) - MOST_TOLD),
        problem=problem,
        folder=folder,
    )


@router.post("")
@needs(Permission.DEVELOP)
def change(
    request: Request,
    given: ServicesOf,
    folder: Annotated[str, Form()],
    do: Annotated[str, Form()] = "watch",
) -> Response:
    """Watch a folder, or stop watching it; its sources stay."""
    keep_to_files(given)
    try:
        if do == "watch":
            path = given.watcher.checked(folder)
            with given.store.changing() as session:
                watch(session, path)
        elif do == "stop":
            with given.store.changing() as session:
                stop_watching(session, folder)
        else:
            raise Problem(422, "Invalid choice", f"Nothing is called {do[:40]!r} here.")
    except PlanError as error:
        return _page(request, given, str(error), folder)
    given.watcher.look_again()
    return RedirectResponse("/watched", 303)

"""*Plan*: the site's plan as one file, to download and to import."""

from __future__ import annotations

from typing import Annotated, Any, NamedTuple

from fastapi import Form, Request, Response, UploadFile
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.errors import GefaError, PlanError
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import located
from gefa.core.plan.site_plan import Difference
from gefa.store.desk import ways_of_desk
from gefa.store.plans import PlanUnreadable
from gefa.store.roles import Permission
from gefa.store.site_plan import (
    PlanMoved,
    import_differences,
    import_plan,
    prepare_import,
    site_plan,
    unknown_in_import,
    version_of,
)
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/plan")

MAX_PLAN_BYTES = 2_000_000
"""a plan that names 20,000 parts has about as many"""


def plan_now(session: Session) -> Plan:
    """The site's plan; 409 if a source's piece cannot be read."""
    try:
        return site_plan(session)
    except PlanUnreadable as error:
        raise Problem(409, "The plan cannot be read", str(error)) from error


def plan_from(data: bytes, name: str) -> Plan:
    """The plan in a file; 422 with what is wrong with it, 413 if it is too large."""
    if len(data) > MAX_PLAN_BYTES:
        raise Problem(413, "Too large", f"{name} is too large for a plan.")
    try:
        return parse_plan(data.decode("utf-8"), name)
    except UnicodeDecodeError as error:
        raise Problem(422, "Plan cannot be read", f"{name} is not UTF-8: {error}.") from error
    except GefaError as error:
        raise Problem(422, "Plan cannot be read", str(error)) from error


@router.get("")
@needs(Permission.LOOK)
def show(request: Request, given: ServicesOf, imported: str = "") -> Response:
    """The current plan."""
    with given.store.reading() as session:
        plan = plan_now(session)
        ways = ways_of_desk(session)
    return page(
        request,
        "plan/index.html",
        text=plan.to_toml(),
        plan=plan,
        ways=ways,
        imported=imported,
        file=_file_view(given),
    )


class FileView(NamedTuple):
    """The plan file of the site's folder: its text, and its differences from the screens if
    ``both`` were changed. ``unwritten`` says why a run's files were not written, ``commented``
    where the text is whose comments the file lost."""

    path: str
    text: str
    both: bool
    problem: str
    differences: list[Difference]
    out: str
    unwritten: str
    commented: str


def _file_view(given: Services) -> FileView | None:
    site = given.site
    if site is None:
        return None
    state, file, out = site.plan_file.state, site.plan_file, site.out
    differences, problem, text = [], state.problem, ""
    if state.both:
        text = file.text
        try:
            differences = file.differences()
        except PlanError as error:
            problem = str(error)
    commented = str(file.before_comments_went or "")
    return FileView(
        str(file.path), text, state.both, problem, differences, str(out or ""), site.problem,
        commented,
    )  # fmt: skip


@router.post("/file")
@needs(Permission.DEVELOP)
def choose(given: ServicesOf, keep: Annotated[str, Form()]) -> Response:
    """If the plan file and the screens were both changed: continue with one of them."""
    if given.site is None or keep not in ("file", "screens"):
        raise Problem(422, "Invalid choice", "There is no plan file to choose.")
    try:
        if keep == "file":
            given.site.plan_file.choose_file()
        else:
            given.site.plan_file.choose_screens()
    except PlanError as error:
        raise Problem(422, "Plan cannot be read", str(error)) from error
    given.watcher.look_again()
    return RedirectResponse("/plan", 303)


@router.get("/gefa.toml")
@needs(Permission.LOOK)
def download(given: ServicesOf) -> Response:
    """The plan as a file for a repository."""
    with given.store.reading() as session:
        plan = plan_now(session)
    headers = {"Content-Disposition": 'attachment; filename="gefa.toml"'}
    return Response(plan.to_toml(), media_type="application/toml", headers=headers)


@router.post("/preview")
@needs(Permission.DEVELOP)
def preview(request: Request, given: ServicesOf, file: UploadFile) -> Response:
    """The changes that an import of a plan file would make."""
    name = file.filename or "gefa.toml"
    plan = plan_from(file.file.read(MAX_PLAN_BYTES + 1), name)
    with given.store.reading() as session:
        return _preview(request, session, plan, name)


def _preview(
    request: Request, session: Session, plan: Plan, name: str, problem: str = ""
) -> Response:
    before = plan_now(session)
    context: dict[str, Any] = {
        "name": name,
        "text": plan.to_toml(),
        "version": version_of(before),
        "differences": import_differences(session, plan),
        "unknown": [located(place, reason) for place, reason in unknown_in_import(session, plan)],
        "problem": problem,
    }
    return page(request, "plan/preview.html", status_code=409 if problem else 200, **context)


@router.post("")
@needs(Permission.DEVELOP)
def take(
    request: Request,
    given: ServicesOf,
    text: Annotated[str, Form()],
    name: Annotated[str, Form()] = "gefa.toml",
    version: Annotated[str, Form()] = "",
) -> Response:
    """Replace the plan by an imported one; this can be undone."""
    plan = plan_from(text.encode("utf-8", "replace"), name)
    with given.store.reading() as session:
        wanted = prepare_import(session, plan)
    try:
        if version and version != wanted.version:
            raise PlanMoved("another version is there now.")
        with given.store.changing() as session:
            told = import_plan(session, wanted, f"Imported {name}")
    except PlanMoved:
        problem = "The plan was changed meanwhile. This is what the import would change now."
        with given.store.reading() as session:
            return _preview(request, session, plan, name, problem)
    except PlanError as error:
        raise Problem(422, "Plan cannot be read", str(error)) from error
    if told:
        return page(request, "plan/imported.html", told=told)
    return RedirectResponse("/plan?imported=1", 303)

"""``/api/v1/plan``: the site's plan as one TOML file."""

from __future__ import annotations

from typing import Annotated, Literal

import anyio.to_thread
from fastapi import Header, Request, Response
from starlette.concurrency import run_in_threadpool

from gefa.core.errors import PlanError
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import error_of
from gefa.store.keys import SiteRight
from gefa.store.site_plan import (
    PlanMoved,
    import_plan,
    prepare_import,
    replace_plan,
    unknown_in_import,
    version_of,
)
from gefa.web.api.site_access import RIGHTS_TO_READ, check_key, problems, site_opened
from gefa.web.bodies import expect
from gefa.web.pages.plan import MAX_PLAN_BYTES, plan_from, plan_now
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, with_key

router = guarded_router(prefix="/api/v1/plan", tags=["plan"])
TOML = "application/toml"
SAID = "Imported over the API"
FILE = "gefa.toml"


def _answer(plan: Plan) -> Response:
    return Response(plan.to_toml(), media_type=TOML, headers={"ETag": f'"{version_of(plan)}"'})


@router.get("", responses={200: {"content": {TOML: {}}}, **problems(401, 403, 409)})
@with_key
def show(given: ServicesOf, authorization: Annotated[str, Header()] = "") -> Response:
    """The current plan; send its entity tag in ``If-Match`` with a change."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        return _answer(plan_now(session))


@router.put(
    "",
    responses={200: {"content": {TOML: {}}}, **problems(401, 403, 409, 412, 413, 422)},
    openapi_extra={"requestBody": {"required": True, "content": {TOML: {}}}},
)
@with_key
async def replace(
    request: Request,
    given: ServicesOf,
    authorization: Annotated[str, Header()] = "",
    if_match: Annotated[str, Header()] = "",
    unknown: Literal["refuse", "keep"] = "refuse",
) -> Response:
    """Replace the plan, as one step that can be undone. With ``If-Match``, only if it has not
    changed since. A plan that names sources, parts, cuts or pictures that the site does not have is
    refused, unless ``unknown`` is ``keep``."""
    await anyio.to_thread.run_sync(check_key, given, authorization, SiteRight.BUILD)
    expect(request, MAX_PLAN_BYTES)
    body = await request.body()
    return await run_in_threadpool(_replaced, given, body, if_match, unknown == "keep")


def _refuse_unknown(given: Services, plan: Plan, text: str) -> None:
    with given.store.reading() as session:
        wrong = unknown_in_import(session, plan)
    if wrong:
        detail = f"{error_of(wrong, FILE, text)} Correct it, or bring in first what is missing."
        raise Problem(
            422,
            "The plan has unknown names",
            f"{detail} To import it as it is, send ?unknown=keep.",
        )


def _replaced(given: Services, body: bytes, if_match: str, keeps_unknown: bool) -> Response:
    plan = plan_from(body, FILE)
    if not keeps_unknown:
        _refuse_unknown(given, plan, body.decode())
    tags = {tag.strip().removeprefix("W/").strip('"') for tag in if_match.split(",")}
    anything = not if_match or "*" in tags
    try:
        if anything:
            replace_plan(given.store, plan, SAID)
        else:
            with given.store.reading() as session:
                wanted = prepare_import(session, plan)
            if wanted.version not in tags:
                raise PlanMoved("another version is there now.")
            with given.store.changing() as session:
                import_plan(session, wanted, SAID)
    except PlanMoved as error:
        detail = "It changed after that ETag. GET it, apply your change, and send it again."
        raise Problem(412, "The plan has changed", detail) from error
    except PlanError as error:
        raise Problem(422, "Plan cannot be read", str(error)) from error
    given.outlooks.wake()
    with given.store.reading() as session:
        return _answer(plan_now(session))

"""``/api/v1/pages``: what the pages of the site send to their visitors."""

from __future__ import annotations

from typing import Annotated

from fastapi import Header, Query
from pydantic import BaseModel
from sqlmodel import Session

from gefa.core.errors import PlanError
from gefa.core.plan.pages import PageBudget
from gefa.core.weigh.page_weight import PageWeight
from gefa.web.api.site_access import RIGHTS_TO_READ, problems, site_opened
from gefa.web.pages.plan import plan_now
from gefa.web.pages.weight_view import Desk
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, with_key

router = guarded_router(prefix="/api/v1/pages", tags=["pages"])
AudienceName = Annotated[
    str, Query(max_length=300, description="an audience of the plan, or neutral; else the first")
]


class PageAnswer(BaseModel):
    """A page of the plan. Bytes of a visit: the mean, p75, and the maximum."""

    name: str
    html: str | None
    mean: int
    p75: int
    worst: int
    waste: int
    blurred: float
    budget: PageBudget | None
    kept: bool | None
    problems: list[str]


class PagesAnswer(BaseModel):
    """All pages, for one audience."""

    audience: str
    pages: list[PageAnswer]


@router.get("", response_model=PagesAnswer, responses=problems(401, 403, 404))
@with_key
def index(
    given: ServicesOf,
    audience: AudienceName = "",
    authorization: Annotated[str, Header()] = "",
) -> PagesAnswer:
    """The pages of the plan, with the weight of a visit."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        desk = _desk(session, given, audience)
        pages = []
        for entry in desk.plan.pages:
            weighed = desk.weighing.page(entry, visits=False)
            told = weighed.model_dump(include=set(PageAnswer.model_fields) - {"html"})
            pages.append(PageAnswer(html=entry.html, **told))
        return PagesAnswer(audience=desk.audience.name, pages=pages)


@router.get("/{name:path}/weight", response_model=PageWeight, responses=problems(401, 403, 404))
@with_key
def weight(
    name: str,
    given: ServicesOf,
    audience: AudienceName = "",
    authorization: Annotated[str, Header()] = "",
) -> PageWeight:
    """One page: sums, pictures, and what each kind of screen is sent."""
    with given.store.session() as session:
        site_opened(session, authorization, *RIGHTS_TO_READ)
        desk = _desk(session, given, audience)
        entry = desk.entry(name)
        if entry is None:
            raise Problem(404, "There is no such page", f"The plan has no page {name!r}.")
        return desk.page(entry)[0]


def _desk(session: Session, given: Services, audience: str) -> Desk:
    try:
        return Desk.of(session, given, plan_now(session), audience)
    except PlanError as error:
        raise Problem(404, "There is no such audience", error.told) from error

"""Who may do what with the site's sources, plan and runs: by a key of the site."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session

from gefa.store.keys import SiteRight, found_site_key
from gefa.store.models import SiteKey
from gefa.web.bodies import bearer_in
from gefa.web.problems import PROBLEM_JSON, Problem
from gefa.web.services import Services

RIGHTS_TO_READ = (SiteRight.READ, SiteRight.BUILD)


def site_opened(session: Session, authorization: str, *rights: SiteRight) -> SiteKey:
    """The request's key, if it has one of the ``rights`` to the site."""
    key = found_site_key(session, bearer_in(authorization))
    if key is None:
        raise Problem(
            401,
            "A key of the site is needed",
            "Send one as 'Authorization: Bearer KEY'. An owner makes it on the page API keys; keys"
            " of slots do not open the site.",
            {"WWW-Authenticate": "Bearer"},
        )
    if not any(right in key.rights for right in rights):
        wanted = " or ".join(right.value for right in rights)
        raise Problem(
            403, "Not allowed with this key", f"This needs a key with the right to {wanted}."
        )
    return key


def check_key(given: Services, authorization: str, *rights: SiteRight) -> None:
    """The same check, for routes that do their work elsewhere."""
    with given.store.session() as session:
        site_opened(session, authorization, *rights)


def problems(*codes: int) -> dict[int | str, dict[str, Any]]:
    """The problem answers of a route, for the API's description."""
    return {code: {"description": _MEANING[code], "content": {PROBLEM_JSON: {}}} for code in codes}


_MEANING = {
    400: "The form cannot be read.",
    401: "No key of the site, or a wrong one.",
    403: "The key has not that right.",
    404: "No such source or run.",
    409: "Not in a state for that.",
    412: "The plan has changed.",
    413: "Too large.",
    422: "Not as it should be: the detail says what and where.",
}

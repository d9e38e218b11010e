"""Keys, for owners: what opens the site to builds and other programs."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request, Response
from fastapi.responses import RedirectResponse

from gefa.core.errors import GefaError
from gefa.store.keys import SiteRight, new_site_key, revoke_site_key, site_keys
from gefa.store.roles import Permission
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router(prefix="/keys")

MAY = {
    SiteRight.BUILD: "bring in, change, run and remove",
    SiteRight.READ: "look and download",
}


@router.get("")
@needs(Permission.OWN)
def show(request: Request, given: ServicesOf) -> Response:
    """The keys of the site, and when they were last used."""
    return _keys(request, given)


def _keys(request: Request, given: Services, made: str = "") -> Response:
    with given.store.reading() as session:
        keys = site_keys(session)
        rights = [(right.value, words) for right, words in MAY.items()]
        return page(request, "keys.html", keys=keys, rights=rights, made=made)


@router.post("")
@needs(Permission.OWN)
def add(
    request: Request,
    given: ServicesOf,
    called: Annotated[str, Form()] = "",
    rights: Annotated[list[SiteRight] | None, Form()] = None,
) -> Response:
    """Create a key. It is shown this once."""
    with given.store.changing() as session:
        try:
            made = new_site_key(session, called, rights or [])
        except GefaError as error:
            raise Problem(422, "Invalid key", str(error)) from error
    return _keys(request, given, made)


@router.post("/{key_id}/revoke")
@needs(Permission.OWN)
def revoke(key_id: str, given: ServicesOf) -> Response:
    """Revoke a key, with immediate effect."""
    with given.store.changing() as session:
        revoke_site_key(session, key_id)
    return RedirectResponse("/keys", 303)

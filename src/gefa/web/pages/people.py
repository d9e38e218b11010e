"""People, for owners: who may do what, the links they sign in with first, and the trail."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.errors import GefaError
from gefa.store.people import (
    add_person,
    all_people,
    has_people,
    new_link,
    open_links,
    remove_person,
    set_roles,
)
from gefa.store.person_models import Person
from gefa.store.roles import ROLE_WORDS, Permission, Role
from gefa.store.trail import Deed, entries, names
from gefa.web.pages.sign_in import link_to_welcome
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs

router = guarded_router("/people")
SHOWN = 100
"""entries of the trail on a page"""


@router.get("")
@needs(Permission.OWN)
def index(request: Request, given: ServicesOf) -> Response:
    """Everybody, with their roles."""
    return _people(request, given)


def _people(
    request: Request, given: Services, *, link: str = "", whose: str = "", **more: Any
) -> Response:
    with given.store.reading() as session:
        people = all_people(session)
        links = open_links(session)
    return page(
        request,
        "people/list.html",
        people=people,
        links=links,
        roles=[(role.value, ROLE_WORDS[role]) for role in Role],
        link=link,
        whose=whose,
        **more,
    )


@router.post("")
@needs(Permission.OWN)
def add(
    request: Request,
    given: ServicesOf,
    name: Annotated[str, Form()] = "",
    roles: Annotated[list[Role] | None, Form()] = None,
) -> Response:
    """Add a person. The link for them is shown this once."""
    with given.store.changing() as session:
        try:
            if not has_people(session) and Role.OWNER not in (roles or []):
                raise GefaError(
                    "the first person has to be an owner.", advice="Add yourself first."
                )
            person = add_person(session, name, roles or [])
        except GefaError as error:
            raise Problem(422, "Nobody was added", str(error)) from error
        token = new_link(session, person)
    return _people(request, given, link=link_to_welcome(request, token), whose=person.name)


def _found(session: Session, person_id: str) -> Person:
    person = session.get(Person, person_id)
    if person is None:
        raise HTTPException(404, "That person was removed.")
    return person


@router.post("/{person_id}/roles")
@needs(Permission.OWN)
def change_roles(
    person_id: str, given: ServicesOf, roles: Annotated[list[Role] | None, Form()] = None
) -> Response:
    """Change a person's roles, from their next request on."""
    with given.store.changing() as session:
        try:
            set_roles(session, _found(session, person_id), roles or [])
        except GefaError as error:
            raise Problem(409, "Roles cannot be changed like that", str(error)) from error
    return RedirectResponse("/people", 303)


@router.post("/{person_id}/link")
@needs(Permission.OWN)
def link(request: Request, person_id: str, given: ServicesOf) -> Response:
    """A new link for a person who lost the first, or forgot the passphrase. It is shown
    this once."""
    with given.store.changing() as session:
        person = _found(session, person_id)
        token = new_link(session, person)
    return _people(request, given, link=link_to_welcome(request, token), whose=person.name)


@router.post("/{person_id}/remove")
@needs(Permission.OWN)
def remove(request: Request, person_id: str, given: ServicesOf) -> Response:
    """Remove a person. All their sessions end at once. The last owner stays."""
    with given.store.changing() as session:
        person = _found(session, person_id)
        if len(all_people(session)) == 1:
            raise Problem(
                409,
                "You are the last one",
                "Without people, everything is open again. If you want that, run `gefa people"
                " remove` on the server.",
            )
        try:
            remove_person(session, person)
        except GefaError as error:
            raise Problem(409, "Cannot be removed", str(error)) from error
    return RedirectResponse("/people", 303)


@router.get("/trail")
@needs(Permission.OWN)
def trail(
    request: Request, given: ServicesOf, who: str = "", kind: str = "", before: str = ""
) -> Response:
    """Who did what, newest first."""
    with given.store.reading() as session:
        found = list(entries(session, who=who, kind=kind, before=before, most=SHOWN + 1))
        everybody = names(session)
    wanted = {key: value for key, value in (("who", who), ("kind", kind)) if value}
    more = urlencode({**wanted, "before": found[SHOWN - 1].id}) if len(found) > SHOWN else ""
    return page(
        request,
        "people/trail.html",
        entries=found[:SHOWN],
        everybody=everybody,
        kinds=[deed.value for deed in Deed],
        who=who,
        kind=kind,
        more=more,
    )

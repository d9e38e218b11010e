"""*Account*: where somebody is signed in, and a new passphrase."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request, Response

from gefa.core.errors import GefaError
from gefa.store.passphrases import hashed, matches
from gefa.store.people import choose_passphrase, digest
from gefa.store.person_models import Person
from gefa.store.roles import ROLE_WORDS, Permission, Role
from gefa.store.sign_ins import sign_ins_of, sign_out_everywhere
from gefa.web.pages.sign_in import hashing, signed_out, with_cookie
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import Visitor, guarded_router, needs

router = guarded_router("/account")


def _me(request: Request, given: Services) -> Person:
    """The person who is signed in. Problem if nobody has to be."""
    visitor: Visitor = request.state.visitor
    with given.store.reading() as session:
        person = session.get(Person, visitor.person_id)
    if person is None:
        raise Problem(404, "No accounts yet", "Add people first. Until then everything is open.")
    return person


@router.get("")
@needs(Permission.LOOK)
def show(request: Request, given: ServicesOf, done: str = "") -> Response:
    """The person's roles, permissions, and sign-ins."""
    return _account(request, given, done="passphrase" if done == "passphrase" else "")


def _account(
    request: Request, given: Services, *, problem: str = "", done: str = "", status: int = 200
) -> Response:
    person = _me(request, given)
    visitor: Visitor = request.state.visitor
    with given.store.reading() as session:
        found = sign_ins_of(session, person)
    return page(
        request,
        "people/account.html",
        status_code=status,
        person=person,
        roles=[(role, ROLE_WORDS[Role(role)]) for role in person.roles],
        sign_ins=[(one, one.digest == digest(visitor.token)) for one in found],
        problem=problem,
        done=done,
    )


@router.post("/passphrase")
@needs(Permission.LOOK)
def change_passphrase(
    request: Request,
    given: ServicesOf,
    old: Annotated[str, Form()] = "",
    passphrase: Annotated[str, Form()] = "",
    again: Annotated[str, Form()] = "",
) -> Response:
    """Change the passphrase. Ends all other sign-ins."""
    person = _me(request, given)
    wait = given.tries.wait(person.name_key, "")
    if wait:
        raise Problem(429, "Too many tries", f"Wait {max(1, round(wait / 60))} min.")
    with hashing:
        right = not person.passphrase or matches(old, person.passphrase)
    if not right:
        problem = "That is not your passphrase so far."
        return _account(request, given, problem=problem, status=403)
    given.tries.give_back(person.name_key, "")
    if passphrase != again:
        problem = "The two passphrases are not the same."
        return _account(request, given, problem=problem, status=422)
    try:
        with hashing:
            kept = hashed(passphrase, person.name)
    except GefaError as error:
        return _account(request, given, problem=str(error), status=422)
    with given.store.changing() as session:
        choose_passphrase(session, session.get_one(Person, person.id), kept)
    return with_cookie(request, given, person, "/account?done=passphrase")


@router.post("/sign-out-everywhere")
@needs(Permission.LOOK)
def end_everywhere(request: Request, given: ServicesOf) -> Response:
    """Sign out in all browsers, including this one."""
    person = _me(request, given)
    with given.store.changing() as session:
        sign_out_everywhere(session, session.get_one(Person, person.id))
    return signed_out(request)

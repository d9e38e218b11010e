"""Sign in and out, and the link with which somebody sets a passphrase."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import Annotated, Any, cast
from urllib.parse import quote

import anyio.to_thread
from fastapi import Form, Request, Response
from fastapi.responses import RedirectResponse
from itsdangerous import BadSignature, URLSafeSerializer

from gefa.core.errors import GefaError
from gefa.store.actor import Actor, acting
from gefa.store.passphrases import hashed, is_outdated, matches, rehashed
from gefa.store.people import (
    choose_account,
    choose_passphrase,
    has_people,
    name_key,
    person_named,
    person_of_link,
    person_with,
)
from gefa.store.person_models import Person
from gefa.store.roles import Permission, permissions_of
from gefa.store.sign_ins import LASTS, sign_in, sign_out
from gefa.store.trail import Deed, note
from gefa.web.bodies import address_of
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import (
    SIGN_IN,
    cookie_name,
    cookie_of,
    guarded_router,
    inside,
    is_handed_on,
    needs,
    public,
)

router = guarded_router()
WELCOME = "/welcome"
KNOWN = "gefa-known"
"""the cookie by which a browser is known that somebody signed in with before"""
KNOWN_SECONDS = 365 * 24 * 3600
hashing = threading.Semaphore(2)
"""passphrases hashed at once: each takes 64 MB"""


@router.get(SIGN_IN)
@public
def show(request: Request, given: ServicesOf, to: str = "") -> Response:
    """Sign in; or what to do if there is nobody yet."""
    return _form(request, given, to)


def _form(
    request: Request, given: Services, to: str, name: str = "", problem: str = "", status: int = 200
) -> Response:
    with given.store.reading() as session:
        empty = not has_people(session)
    return page(
        request,
        "people/sign_in.html",
        status_code=status,
        empty=empty,
        open=empty and not request.app.state.exposed and not is_handed_on(request),
        to=inside(to),
        name=name[:80],
        problem=problem,
        service=request.app.state.sign_in_service,
    )


@router.post(SIGN_IN)
@public
def begin(
    request: Request,
    given: ServicesOf,
    name: Annotated[str, Form()] = "",
    passphrase: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Response:
    """Sign in with a passphrase. Each attempt counts, for the name and for the address. A browser
    that signed in before has attempts of its own, so that nobody can lock its owner out."""
    address = address_of(request.scope)
    with given.store.reading() as session:
        person = person_named(session, name)
    known = person is not None and signed_in_before(request, person)
    key = f"{'known ' if known else ''}{name_key(name)}"
    wait = given.tries.wait(key, address)
    if wait:
        raise Problem(
            429,
            "Too many tries",
            f"Wait {max(1, round(wait / 60))} min, then try again. An owner can send you a new"
            " link.",
            {"Retry-After": str(max(1, round(wait)))},
        )
    kept = person.passphrase if person else ""
    with hashing:
        right = matches(passphrase, kept)
        fresh = rehashed(passphrase) if right and is_outdated(kept) else ""
    if person is None or not right:
        with given.store.changing() as session:
            note(session, Deed.SIGN_IN_REFUSED, name[:80], by=Actor(address=address))
        problem = "That name and passphrase do not belong together."
        return _form(request, given, to, name, problem, 403)
    given.tries.give_back(key, address)
    if fresh:
        _keep_fresh(given, person, fresh)
    return with_cookie(request, given, person, inside(to))


def _keep_fresh(given: Services, person: Person, kept: str) -> None:
    with given.store.changing() as session:
        now = session.get(Person, person.id)
        if now is not None and now.passphrase == person.passphrase:
            now.passphrase = kept
            session.add(now)


def _first_page(roles: Iterable[str]) -> str:
    """The page where a person with these roles works."""
    rights = permissions_of(roles)
    of_uploads = bool(rights & {Permission.EDIT, Permission.REVIEW})
    return "/uploads" if of_uploads and Permission.DEVELOP not in rights else "/"


def with_cookie(request: Request, given: Services, person: Person, to: str) -> Response:
    """Redirect a person who has signed in, with the cookie of the sign-in."""
    with given.store.changing() as session, acting(Actor(address=address_of(request.scope))):
        sign_out(session, cookie_of(request))
        now = session.get(Person, person.id)
        if now is None:
            raise Problem(403, "Not signed in", "An owner removed your account.")
        token = sign_in(session, now, request.headers.get("user-agent", ""))
    first = to if to != "/" else _first_page(now.roles)
    answer = RedirectResponse(first, 303, headers={"Cache-Control": "no-store"})
    answer.set_cookie(
        cookie_name(request),
        token,
        max_age=int(LASTS.total_seconds()),
        secure=request.url.scheme == "https",
        httponly=True,
        samesite="lax",
    )
    if person.passphrase:
        answer.set_cookie(
            KNOWN,
            _known(person).dumps(person.id),
            max_age=KNOWN_SECONDS,
            path=SIGN_IN,
            secure=request.url.scheme == "https",
            httponly=True,
            samesite="lax",
        )
    return answer


def _known(person: Person) -> URLSafeSerializer:
    """Signs for a person. The key is what only the server has of the passphrase, so a new
    passphrase makes all earlier browsers unknown."""
    return URLSafeSerializer(person.passphrase, salt="a browser that signed in before")


def signed_in_before(request: Request, person: Person) -> bool:
    """Whether this person signed in with this browser before."""
    if not person.passphrase:
        return False
    try:
        return bool(_known(person).loads(request.cookies.get(KNOWN, "")) == person.id)
    except BadSignature:
        return False


@router.post("/sign-out")
@needs(Permission.LOOK)
def end(request: Request, given: ServicesOf) -> Response:
    """Sign out in this browser."""
    with given.store.changing() as session:
        sign_out(session, cookie_of(request))
    return signed_out(request)


def signed_out(request: Request) -> Response:
    """The answer that deletes the cookie."""
    answer = RedirectResponse(SIGN_IN, 303, headers={"Cache-Control": "no-store"})
    answer.delete_cookie(
        cookie_name(request), secure=request.url.scheme == "https", httponly=True, samesite="lax"
    )
    return answer


# -- the link ---------------------------------------------------------------------------------


def _person_of(given: Services, link: str) -> Person:
    with given.store.reading() as session:
        person = person_of_link(session, link)
    if person is None:
        raise _used_up()
    return person


def _used_up() -> Problem:
    return Problem(
        410,
        "This link does not work any more",
        "It was used, or is older than a day. Ask an owner for a new one.",
    )


@router.get(WELCOME)
@public
def welcome(request: Request, given: ServicesOf, link: str = "") -> Response:
    """Choose how to sign in."""
    return _welcome(request, _person_of(given, link), link)


def _welcome(
    request: Request, person: Person, link: str, problem: str = "", status: int = 200
) -> Response:
    return page(
        request,
        "people/welcome.html",
        status_code=status,
        person=person,
        link=link,
        problem=problem,
        service=request.app.state.sign_in_service,
    )


@router.post(WELCOME)
@public
def choose(
    request: Request,
    given: ServicesOf,
    link: Annotated[str, Form()] = "",
    passphrase: Annotated[str, Form()] = "",
    again: Annotated[str, Form()] = "",
) -> Response:
    """Store the passphrase, and sign in. The link ends."""
    person = _person_of(given, link)
    if passphrase != again:
        return _welcome(request, person, link, "The two passphrases are not the same.", 422)
    try:
        with hashing:
            kept = hashed(passphrase, person.name)
    except GefaError as error:
        return _welcome(request, person, link, str(error), 422)
    with (
        given.store.changing() as session,
        acting(Actor(person.name, person.id, address_of(request.scope))),
    ):
        now = person_of_link(session, link)
        if now is None:
            raise _used_up()
        choose_passphrase(session, now, kept)
    return with_cookie(request, given, person, "/")


# -- an account elsewhere ---------------------------------------------------------------------


def _service(request: Request) -> Any:
    service = request.app.state.sign_in_service
    if service is None:
        raise Problem(404, "Not set up", "Signing in with an external account is not set up here.")
    return service


@router.get(f"{SIGN_IN}/account")
@public
async def to_service(request: Request, given: ServicesOf, to: str = "", link: str = "") -> Response:
    """Redirect to the sign-in service; with a ``link``, to use its account from now on."""
    service = _service(request)
    if link:
        await anyio.to_thread.run_sync(_person_of, given, link)
    back = str(request.url_for("from_service"))
    return cast(Response, await service.begin(request, back, {"to": inside(to), "link": link}))


@router.get(f"{SIGN_IN}/account/back")
@public
async def from_service(request: Request, given: ServicesOf) -> Response:
    """The return from the sign-in service."""
    account, reason = await _service(request).finish(request)
    return await anyio.to_thread.run_sync(_with_account, request, given, account, reason)


def _with_account(
    request: Request, given: Services, account: str, reason: dict[str, str]
) -> Response:
    link = reason.get("link", "")
    if link:
        person = _person_of(given, link)
        with (
            given.store.changing() as session,
            acting(Actor(person.name, person.id, address_of(request.scope))),
        ):
            now = person_of_link(session, link)
            if now is None:
                raise _used_up()
            choose_account(session, now, account)
        return with_cookie(request, given, person, "/")
    with given.store.reading() as session:
        known = person_with(session, account)
    if known is None:
        raise Problem(
            403,
            "Nobody here has this account",
            "Open the link that an owner sent you first, and choose the account there.",
        )
    return with_cookie(request, given, known, inside(reason.get("to", "")))


def link_to_welcome(request: Request, token: str) -> str:
    """The address to send to a person."""
    return f"{str(request.base_url).rstrip('/')}{WELCOME}?link={quote(token)}"

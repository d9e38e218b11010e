"""Who asks, and whether they may: each route declares the rights it needs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeVar
from urllib.parse import quote, urlsplit

import anyio.to_thread
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse
from fastapi.routing import APIRoute
from starlette.datastructures import MutableHeaders
from starlette.responses import Response
from starlette.types import Message, Receive, Scope, Send

from gefa.store.actor import Actor, acting
from gefa.store.people import has_people
from gefa.store.roles import ALL_PERMISSIONS, Permission, permissions_of, roles_with
from gefa.store.sign_ins import signed_in
from gefa.store.store import Store
from gefa.web.bodies import address_of
from gefa.web.problems import Problem

SIGN_IN = "/sign-in"
_FORWARDED = frozenset({"forwarded", "x-forwarded-for", "via"})


class Entry(StrEnum):
    """The needs of routes that are not for signed-in people."""

    PUBLIC = "public"
    """nothing"""
    KEY = "key"
    """the key of a slot, which the API checks itself"""


Needs = Entry | frozenset[Permission]
"""any one of several permissions is enough"""
Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])
_NEEDS = "gefa_needs"


def needs(*wanted: Permission) -> Callable[[Endpoint], Endpoint]:
    """Allow a route only for people with one of these permissions."""
    return _marked(frozenset(wanted))


def _marked(wanted: Needs) -> Callable[[Endpoint], Endpoint]:
    def mark(endpoint: Endpoint) -> Endpoint:
        setattr(endpoint, _NEEDS, wanted)
        return endpoint

    return mark


public = _marked(Entry.PUBLIC)
with_key = _marked(Entry.KEY)


@dataclass(frozen=True)
class Visitor:
    """A person asking for a page: who they are, if signed in, and what they may do. ``token`` is
    the cookie of the sign-in; ``open`` means that there are no people, so that everybody may do
    everything."""

    permissions: frozenset[Permission] = frozenset()
    name: str = ""
    person_id: str = ""
    roles: tuple[str, ...] = ()
    token: str = ""
    open: bool = False

    def may(self, permission: str) -> bool:
        return Permission(permission) in self.permissions

    @property
    def sees_held(self) -> bool:
        """Whether they see held pictures."""
        return self.may(Permission.EDIT) or self.may(Permission.REVIEW)


NOBODY = Visitor()


class GuardedRoute(APIRoute):
    """A route with its needs. Visitors who lack them are refused before their request is read;
    answers to others are not kept by shared caches."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        wanted: Needs | None = getattr(endpoint, _NEEDS, None)
        if wanted is None:
            raise TypeError(f"{endpoint.__qualname__} does not say who may use it")
        self.needs = wanted
        super().__init__(path, endpoint, **more)

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        if isinstance(self.needs, Entry):
            await super().handle(scope, receive, send)
            return
        request = Request(scope)
        visitor = await who_asks(request)
        if not visitor.permissions & self.needs:
            await _refusal(request, visitor, self.needs)(scope, receive, send)
            return
        who = Actor(visitor.name, visitor.person_id, address_of(scope))
        with acting(who):
            await super().handle(scope, receive, _kept_private(send))


def guarded_router(prefix: str = "", **more: Any) -> APIRouter:
    """A router whose routes all declare their needs."""
    return APIRouter(prefix=prefix, route_class=GuardedRoute, **more)


async def who_asks(request: Request) -> Visitor:
    """The visitor of a request. Stored in it for the templates."""
    store = request.app.state.services.store
    may_be_open = not request.app.state.exposed and not is_handed_on(request)
    visitor = await anyio.to_thread.run_sync(_visitor, store, cookie_of(request), may_be_open)
    request.state.visitor = visitor
    return visitor


def _visitor(store: Store, token: str, may_be_open: bool) -> Visitor:
    with store.reading() as session:
        found = signed_in(session, token) if token else None
        if found is not None:
            person = found[0]
            permissions = permissions_of(person.roles)
            return Visitor(permissions, person.name, person.id, tuple(person.roles), token)
        if may_be_open and not has_people(session):
            return Visitor(ALL_PERMISSIONS, open=True)
    return NOBODY


def is_handed_on(request: Request) -> bool:
    """Whether a request came through a proxy, from anywhere."""
    return not _FORWARDED.isdisjoint(request.headers.keys())


def cookie_name(request: Request) -> str:
    """Under https, browsers refuse a cookie with this prefix that others could have set."""
    return "__Host-gefa" if request.url.scheme == "https" else "gefa"


def cookie_of(request: Request) -> str:
    return request.cookies.get(cookie_name(request), "")


def _kept_private(send: Send) -> Send:
    async def private(message: Message) -> None:
        if message["type"] == "http.response.start":
            MutableHeaders(scope=message).setdefault("Cache-Control", "private, no-cache")
        await send(message)

    return private


def _refusal(request: Request, visitor: Visitor, wanted: frozenset[Permission]) -> Response:
    """The answer to a visitor without the permission: the way to sign in, or who has it."""
    if visitor.person_id:
        roles = sorted({role.value for one in wanted for role in roles_with(one)})
        raise Problem(
            403,
            "Not with your role",
            f"Your role here is {' and '.join(visitor.roles)}. This needs {' or '.join(roles)}; ask"
            " an owner.",
        )
    if "HX-Request" in request.headers:
        here = urlsplit(request.headers.get("hx-current-url", ""))
        target = _to_sign_in(here.path, here.query)
        return Response(status_code=401, headers={"HX-Redirect": target})
    if request.method in ("GET", "HEAD") and _wants_page(request):
        return RedirectResponse(_to_sign_in(request.url.path, request.url.query), 303)
    raise Problem(
        401,
        "Sign in first",
        f"Sign in at {SIGN_IN}, then do this again.",
        {"WWW-Authenticate": 'Cookie realm="Gefa"'},
    )


def _wants_page(request: Request) -> bool:
    """Whether somebody opens a page, and no script or program asks for data. Who asks the first
    page for anything is looking around."""
    if request.headers.get("sec-fetch-mode", "navigate") != "navigate":
        return False
    accept = request.headers.get("accept", "*/*")
    return "text/html" in accept or (request.url.path == "/" and accept == "*/*")


def _to_sign_in(path: str, query: str) -> str:
    back = f"{path}?{query}" if query else path
    return f"{SIGN_IN}?to={quote(back, safe='')}" if back not in ("", "/") else SIGN_IN


def inside(address: str) -> str:
    """An address within this site, or the first page: signing in leads nowhere else."""
    plain = address.startswith("/") and not address.startswith(("//", "/\\"))
    return address if plain and address.isprintable() and "\\" not in address else "/"

"""Who may do what: every route for every role, every screen, signing in and out, and the trail."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

import html5lib
import httpx
import pytest
from fastapi.routing import APIRoute

from gefa.store.keys import Right as KeyRight
from gefa.store.keys import new_key
from gefa.store.people import add_person, person_named
from gefa.store.removal import remove_source
from gefa.store.roles import Permission, Role, permissions_of
from gefa.store.sign_ins import sign_in
from gefa.store.slots import add_slot
from gefa.store.sources import present
from gefa.store.store import Store
from gefa.store.trail import entries
from gefa.web.app import create_app
from gefa.web.visitors import Entry, GuardedRoute
from tests.conftest import Server, eventually, start
from tests.web.test_uploads import jpeg

HEADERS = {"Accept": "application/json", "Tus-Resumable": "1.0.0"}
MAY = {
    Role.OWNER: {"look", "develop", "edit", "review", "own"},
    Role.DEVELOPER: {"look", "develop"},
    Role.EDITOR: {"look", "edit"},
    Role.REVIEWER: {"look", "review"},
    Role.VIEWER: {"look"},
}
# What each route takes, written down once more beside the code: method and path, the first that
# fits counts.
EXPECTED = [
    ("public", "GET /healthz"), ("public", "GET /readyz"), ("public", "GET /metrics"),
    ("public", "* /sign-in*"), ("public", "* /welcome"), ("public", "GET /favicon.ico"),
    ("public", "GET /api/v1/openapi.json"),
    ("public", "GET /api/v1/uploads/{upload_id}"), ("public", "GET /api/v1/uploads/*/markup"),
    ("public", "OPTIONS /api/v1/slots/*/resumable"), ("key", "* /api/*"),
    ("look", "* /sign-out"), ("look", "* /account*"),
    ("own", "* /people*"), ("own", "GET /health"), ("own", "* /keys*"),
    ("own", "* /slots/*/keys*"), ("own", "* /slots/*/notices*"),
    ("review", "POST /uploads/*/approve"), ("review", "POST /uploads/*/reject"),
    ("edit", "POST /uploads*"),
    ("look", "POST /runs/*/looks"), ("look", "POST /runs/*/pdf"),
    ("look", "POST /runs/*/proof/*/reference"), ("look", "POST /runs/*/proof/*/curve"),
    ("look", "POST /recipes/*/effect"),
    ("develop", "GET /slots/*/trial/*"), ("develop", "POST *"),
    ("look", "GET *"),
]  # fmt: skip


@dataclass
class Peopled:
    """A server with one person of each role, and the store beside it."""

    server: Server
    store: Store

    def client(self, role: Role | None) -> httpx.Client:
        """Somebody of that role, signed in; nobody without one."""
        client = self.server.client()
        if role is not None:
            with self.store.changing() as session:
                person = person_named(session, role.value)
                assert person
                client.cookies.set("gefa", sign_in(session, person, "tests"))
        return client


@pytest.fixture(scope="module")
def peopled(
    tmp_path_factory: pytest.TempPathFactory, loaded_demo: Path, free_port: Callable[[], int]
) -> Iterator[Peopled]:
    folder = tmp_path_factory.mktemp("people") / "data"
    shutil.copytree(loaded_demo, folder)
    store = Store(folder)
    with store.changing() as session:
        for role in Role:
            add_person(session, role.value, [role])
        # Every route is asked, also the one that runs everything.
        photos = [source for source in present(session) if source.name.startswith("photos/")]
        for photo in photos:
            remove_source(session, photo)
    server = start("demo", folder, free_port())
    yield Peopled(server, store)
    server.stop()
    store.close()


def routes() -> list[tuple[str, APIRoute]]:
    """Every method and route of the application."""
    app = create_app(Path("unused"))
    routers = [app, *(r.original_router for r in app.routes if hasattr(r, "original_router"))]
    found = [route for router in routers for route in router.routes]
    named = [route for route in found if isinstance(route, APIRoute)]
    others = [r for r in found if not isinstance(r, APIRoute) and not hasattr(r, "original_router")]
    assert [getattr(other, "path", "") for other in others] == ["/static"]
    return [(method, route) for route in named for method in sorted(route.methods or ())]


ROUTES = routes()


def expected(method: str, path: str) -> str:
    return next(what for what, pattern in EXPECTED if fnmatch(f"{method} {path}", pattern))


def address(route: APIRoute) -> str:
    return re.sub(r"\{(\w+)(:\w+)?\}", lambda m: "1" if m[2] == ":int" else "x", route.path)


def test_every_route_says_what_it_needs_and_holds_to_it(peopled: Peopled) -> None:
    assert len(ROUTES) > 90
    askers = {role: peopled.client(role) for role in [None, *Role]}
    for method, route in ROUTES:
        assert isinstance(route, GuardedRoute), route.path
        what = expected(method, route.path)
        said = route.needs.value if isinstance(route.needs, Entry) else "".join(route.needs)
        assert said == what, f"{method} {route.path} needs {said}, not {what}"
        if what == "public":
            continue
        for role, client in askers.items():
            if what == "key" and role not in (None, Role.OWNER):
                continue  # wrong keys are counted
            url = address(route)
            answer = client.request(method, url, headers=HEADERS)
            told = f"{method} {url} for {role}: {answer.status_code} {answer.text[:200]}"
            if role is None or what == "key":
                assert answer.status_code == 401, told
            elif what in MAY[role]:
                assert "Not with your role" not in answer.text, told
                assert answer.status_code not in (401, 500), told
            else:
                assert answer.status_code == 403, told
                assert "Not with your role" in answer.text, told
        if "sign-out" in route.path:
            askers = {role: peopled.client(role) for role in askers}
    for client in askers.values():
        client.close()


def test_a_route_that_says_nothing_is_refused_at_the_start() -> None:
    def forgotten() -> None: ...

    with pytest.raises(TypeError, match="forgotten does not say who may use it"):
        GuardedRoute("/forgotten", forgotten)


def test_roles_allow_what_is_written_down() -> None:
    assert {role: {str(p) for p in permissions_of([role])} for role in Role} == MAY
    assert permissions_of(["editor", "reviewer"]) == {
        Permission.LOOK, Permission.EDIT, Permission.REVIEW,
    }  # fmt: skip


def actions(html: str) -> set[tuple[str, str]]:
    """Everything that a page lets its reader do or see: methods and addresses of this site."""
    found = set()
    for element in html5lib.parse(html, namespaceHTMLElements=False).iter():
        given = {str(key): str(value) for key, value in element.attrib.items()}
        for name in ("href", "src", "hx-get", "sse-connect", "data-shown", "data-pick"):
            if given.get(name, "").startswith("/"):
                found.add(("GET", given[name]))
        for name in ("hx-post", "data-action", "data-url"):
            if given.get(name, "").startswith("/"):
                found.add(("POST", given[name]))
        if element.tag == "form" and given.get("action", "").startswith("/"):
            found.add((given.get("method", "get").upper(), given["action"]))
    return {(method, url.partition("?")[0].partition("#")[0]) for method, url in found}


def match(method: str, path: str) -> APIRoute | None:
    for known, route in ROUTES:
        if known == method and route.path_regex.match(path):
            return route
    return None


def test_every_screen_shows_only_what_its_reader_may_do(peopled: Peopled) -> None:
    with peopled.client(Role.DEVELOPER) as developer:
        wall = developer.get("/").text
        sources = sorted(set(re.findall(r"/sources/\w+", wall)))
        poster = next(s for s in sources if "poster" in developer.get(s).text[:3000])
        started = developer.post(f"{poster}/runs")
        run = started.headers["location"]
        eventually(lambda: "Weight of all files" in developer.get(run).text)
        sheet = developer.get(run).text
        assert "by developer" in sheet
    with peopled.client(Role.OWNER) as owner:
        uploads = sorted(set(re.findall(r"/uploads/\w{31}", owner.get("/uploads").text)))
    proof = next(url for _, url in sorted(actions(sheet)) if "/proof/" in url)
    pages = ["/", poster, f"{poster}/originals", "/recipes", "/recipes/figure", "/runs", run, proof]
    pages += ["/slots", "/slots/gallery", "/slots/-", "/uploads", uploads[0], "/account"]
    pages += [f"{uploads[0]}/markup", f"{uploads[0]}/files", f"{run}/layout/"]
    for role in Role:
        with peopled.client(role) as client:
            more = ["/people", "/people/trail", "/health", "/slots/gallery/keys"]
            for url in pages + (more if role is Role.OWNER else []):
                answer = client.get(url, follow_redirects=True)
                assert answer.status_code == 200, f"{url} for {role}: {answer.text[:300]}"
                for method, target in actions(answer.text):
                    if target.startswith(("/static/", "/festival", "/m/")):
                        continue
                    route = match(method, target)
                    assert route, f"{url} leads {method} {target} to nowhere"
                    what = expected(method, route.path)
                    assert what in MAY[role] | {"public"}, f"{url} offers {role}: {method} {target}"


def test_what_is_held_back_is_seen_by_those_who_may_decide(peopled: Peopled) -> None:
    with peopled.store.changing() as session:
        slot = add_slot(
            session, "reviewed", {"review": True, "crops": [{"name": "whole", "widths": [90]}]}
        )
        key = new_key(session, slot, "the kite site", list(KeyRight))
    site = peopled.server.client(headers={"Authorization": f"Bearer {key}", "Prefer": "wait=50"})

    def send(name: str, seed: int, method: str, url: str) -> Any:
        said = {"alt": f"the words of {name}", "tags": f"tag-{name}"}
        answer = site.request(method, url, files={"file": (name, jpeg(160, 120, seed))}, data=said)
        assert answer.is_success, answer.text
        return answer.json()

    first = send("secret.jpg", 1, "POST", "/api/v1/slots/reviewed/uploads")
    assert first["state"] == "held"
    page = f"/uploads/{first['id']}"
    everybody = {role: peopled.client(role) for role in [None, *Role]}
    sees = (Role.OWNER, Role.EDITOR, Role.REVIEWER)

    def check(*urls: str) -> None:
        for role, client in everybody.items():
            for url in urls:
                expected = 200 if role in sees else 404 if role else 401
                assert client.get(url).status_code == expected, f"{url} for {role}"
            assert ("secret.jpg" in client.get("/uploads").text) == (role in sees), role

    file = re.search(rf"{page}/file/\w+", everybody[Role.EDITOR].get(page).text)
    assert file
    check(page, f"{page}/preview", file[0])
    assert "secret.jpg" not in everybody[Role.VIEWER].get("/uploads?q=secret&state=held").text
    # What may be done is done under one's own name.
    assert everybody[Role.EDITOR].post(f"{page}/approve").status_code == 403
    assert everybody[Role.REVIEWER].post(f"{page}/describe", data={"alt": "x"}).status_code == 403
    assert everybody[Role.REVIEWER].post(f"{page}/approve").status_code == 409
    shown = re.search(r'name="seen" value="(\w+)"', everybody[Role.REVIEWER].get(page).text)
    assert shown
    seen = {"seen": shown[1]}
    assert everybody[Role.REVIEWER].post(f"{page}/approve", data=seen).status_code == 303
    for role in Role:
        assert "secret.jpg" in everybody[role].get(page).text
        assert everybody[role].get(f"{page}/preview").headers["cache-control"].startswith("private")
    # A file that is to replace it is held back again, and what was there is shown to the others.
    preview = everybody[Role.VIEWER].get(f"{page}/preview").content
    send("newer.jpg", 2, "PUT", f"/api/v1/uploads/{first['id']}/file")
    eventually(lambda: site.get(f"/api/v1/uploads/{first['id']}").json()["state"] == "held")
    for role in Role:
        told = everybody[role].get(page)
        assert ("newer.jpg" in told.text) == (role in sees), role
        assert ("newer.jpg" in everybody[role].get("/uploads?slot=reviewed").text) == (role in sees)
    viewer = everybody[Role.VIEWER]
    assert "secret.jpg" in viewer.get("/uploads?slot=reviewed").text
    assert viewer.get(f"{page}/preview").content == preview
    assert everybody[Role.EDITOR].get(f"{page}/preview").content != preview
    files = set(re.findall(rf"{page}/file/\w+", everybody[Role.EDITOR].get(page).text))
    assert files
    assert {viewer.get(url).status_code for url in files} == {404}
    assert "newer" not in viewer.get(f"{page}/markup").text
    assert "newer.jpg" not in peopled.server.client().get(f"/api/v1/uploads/{first['id']}").text
    everybody[Role.EDITOR].post(f"{page}/remove")
    assert viewer.get(page).status_code == viewer.get(f"{page}/preview").status_code == 404
    with peopled.store.reading() as session:
        trail = [(one.who, one.kind, one.subject) for one in entries(session, most=30)]
    for entry in [
        ("the kite site", "upload sent", "secret.jpg"),
        ("reviewer", "upload approved", "secret.jpg"),
        ("the kite site", "upload replaced", "secret.jpg"),
        ("editor", "upload removed", "newer.jpg"),
    ]:
        assert entry in trail
    for client in [site, *everybody.values()]:
        client.close()


def test_an_editor_sends_pictures_under_their_name(peopled: Peopled) -> None:
    with peopled.client(Role.EDITOR) as editor:
        files = [("file", ("pier.jpg", jpeg(600, 400, 3))), ("file", ("notes.txt", b"no picture"))]
        answer = editor.post("/uploads/to/gallery", files=files)
        assert answer.status_code == 422
        assert "notes.txt" in answer.text
        assert "pier.jpg" not in answer.text
        feed = editor.get("/uploads?slot=gallery").text
        assert "pier.jpg" in feed
        assert "Upload pictures" in feed
        (id,) = re.findall(r'href="/uploads/(\w{31})"[^>]*>(?:(?!href).)*pier.jpg', feed)
        eventually(lambda: "<strong>Live.</strong>" in editor.get(f"/uploads/{id}").text)
        assert "by editor" in editor.get(f"/uploads/{id}").text
        assert editor.post("/uploads/to/nowhere", files=files[:1]).status_code == 404


def test_undo_names_who_did_it(peopled: Peopled) -> None:
    with peopled.client(Role.DEVELOPER) as developer, peopled.client(Role.OWNER) as owner:
        slot = developer.post("/slots/gallery/settings/largest", data={"max_width": "3000"})
        assert slot.status_code == 303
        assert "max width (developer)" in owner.get("/slots/gallery").text
        assert "max_width" in owner.get("/people/trail?who=developer").text


def test_what_is_served_behind_the_sign_in_is_kept_by_no_shared_cache(peopled: Peopled) -> None:
    with peopled.client(Role.VIEWER) as viewer:
        wall = viewer.get("/").text
        pictures = re.findall(r'src="(/sources/[^"]+)"', wall)
        assert pictures
        for url in ["/", "/runs", pictures[0], "/slots", "/account"]:
            kept = viewer.get(url).headers["cache-control"]
            assert "public" not in kept
            assert "private" in kept or "no-store" in kept

"""Signing in: links, passphrases, cookies, tries, accounts elsewhere, and what is left behind."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from sqlmodel import select
from starlette.testclient import TestClient

from gefa.core.errors import GefaError
from gefa.serve import check_owner, is_exposed
from gefa.store.models import now
from gefa.store.passphrases import _NOBODY, hashed, is_outdated, matches
from gefa.store.people import add_person, digest, new_link, person_named, remove_person, set_roles
from gefa.store.person_models import PersonLink, SignIn
from gefa.store.roles import Role
from gefa.store.store import Store
from gefa.store.trail import entries
from gefa.web.app import create_app
from gefa.web.rates import TRIES_BY_NAME
from gefa.web.sign_in_service import SignInService
from gefa.web.visitors import inside
from tests.provider import CLIENT, SECRET, Provider, provider

PASSPHRASE = "seven kites over quillmere"
Visit = Callable[..., TestClient]


@pytest.fixture(scope="module")
def kept() -> str:
    """The hash of the passphrase, which takes a while."""
    return hashed(PASSPHRASE, "Ada")


@pytest.fixture
def visit(tmp_path: Path) -> Iterator[Visit]:
    """Browsers at an exposed server in this process, under https unless told otherwise."""
    app = create_app(tmp_path, exposed=True)
    with TestClient(app):

        def browser(base: str = "https://localhost") -> TestClient:
            return TestClient(app, base_url=base, follow_redirects=False)

        yield browser


@pytest.fixture
def ada(visit: Visit, tmp_path: Path, kept: str) -> str:
    """An owner who has chosen a passphrase; her id."""
    store = Store(tmp_path)
    with store.changing() as session:
        person = add_person(session, "Ada", [Role.OWNER])
        person.passphrase = kept
    store.close()
    return person.id


def sign_in(client: TestClient, name: str = "Ada", passphrase: str = PASSPHRASE) -> int:
    return client.post("/sign-in", data={"name": name, "passphrase": passphrase}).status_code


def link_for(folder: Path, name: str, *roles: Role) -> str:
    store = Store(folder)
    with store.changing() as session:
        person = person_named(session, name) or add_person(session, name, roles)
        token = new_link(session, person)
    store.close()
    return token


def trail(folder: Path) -> list[tuple[str, str, str]]:
    store = Store(folder)
    with store.reading() as session:
        found = [(entry.who, entry.kind, entry.subject) for entry in entries(session)]
    store.close()
    return found


def test_a_link_lets_somebody_choose_a_passphrase_once(visit: Visit, tmp_path: Path) -> None:
    token = link_for(tmp_path, "Wren", Role.OWNER)
    client = visit()
    assert "Welcome, Wren" in client.get(f"/welcome?link={token}").text
    weak = client.post(
        "/welcome", data={"link": token, "passphrase": "password1234", "again": "password1234"}
    )
    assert weak.status_code == 422
    assert "too easily guessed" in weak.text
    other = client.post(
        "/welcome", data={"link": token, "passphrase": PASSPHRASE, "again": PASSPHRASE + "."}
    )
    assert "not the same" in other.text
    words = {"link": token, "passphrase": PASSPHRASE, "again": PASSPHRASE}
    chosen = client.post("/welcome", data=words)
    assert (chosen.status_code, chosen.headers["location"]) == (303, "/")
    cookie = chosen.headers["set-cookie"]
    assert cookie.startswith("__Host-gefa=")
    assert {"HttpOnly", "Secure", "SameSite=lax", "Path=/"} <= set(cookie.split("; "))
    assert client.get("/people").status_code == 200
    assert visit().post("/welcome", data=words).status_code == 410
    # What is kept gives away neither the cookie nor the link.
    store = Store(tmp_path)
    with store.reading() as session:
        (kept,) = session.exec(select(SignIn)).all()
        assert kept.digest == digest(client.cookies["__Host-gefa"])
        assert session.exec(select(PersonLink)).all() == []
        person = person_named(session, "wren")
        assert person
        assert person.passphrase.startswith("$argon2id$")
    store.close()
    assert client.cookies["__Host-gefa"].encode() not in (tmp_path / "gefa.sqlite3").read_bytes()


def test_a_link_ends_after_a_day_and_with_the_next_one(visit: Visit, tmp_path: Path) -> None:
    first = link_for(tmp_path, "Wren", Role.OWNER)
    second = link_for(tmp_path, "Wren")
    assert visit().get(f"/welcome?link={first}").status_code == 410
    assert visit().get(f"/welcome?link={second}").status_code == 200
    store = Store(tmp_path)
    with store.changing() as session:
        (link,) = session.exec(select(PersonLink)).all()
        assert timedelta(hours=23) < link.ends.replace(tzinfo=now().tzinfo) - now()
        link.ends = now() - timedelta(seconds=1)
        session.add(link)
    store.close()
    assert visit().get(f"/welcome?link={second}").status_code == 410


def test_who_is_not_signed_in_is_shown_the_way(visit: Visit, ada: str) -> None:
    client = visit()
    page = client.get("/runs?x=1", headers={"Accept": "text/html"})
    assert (page.status_code, page.headers["location"]) == (303, "/sign-in?to=%2Fruns%3Fx%3D1")
    part = client.get(
        "/", headers={"HX-Request": "true", "HX-Current-URL": "https://localhost/slots"}
    )
    assert (part.status_code, part.headers["hx-redirect"]) == (401, "/sign-in?to=%2Fslots")
    assert client.get("/").headers["location"] == "/sign-in"
    assert client.get("/", headers={"Sec-Fetch-Mode": "cors"}).status_code == 401
    assert client.get("/", headers={"Accept": "image/webp,*/*"}).status_code == 401
    assert client.post("/slots", data={"name": "x"}).status_code == 401
    sent = client.post(
        "/sign-in", data={"name": "ADA ", "passphrase": PASSPHRASE, "to": "/runs?x=1"}
    )
    assert (sent.status_code, sent.headers["location"]) == (303, "/runs?x=1")
    seen = client.get("/runs")
    assert seen.status_code == 200
    assert seen.headers["cache-control"] == "no-store"


def test_nobody_is_sent_elsewhere_after_signing_in() -> None:
    for address in ("//evil.example", "https://evil.example", "/\\evil.example", "x", "/a\nb", ""):
        assert inside(address) == "/"
    assert inside("/slots?x=1#y") == "/slots?x=1#y"


def test_the_cookie_of_plain_http_is_not_taken_under_https(visit: Visit, ada: str) -> None:
    plain = visit("http://localhost")
    assert sign_in(plain) == 303
    token = plain.cookies["gefa"]
    assert plain.get("/people").status_code == 200
    secure = visit()
    secure.cookies.set("gefa", token)
    assert secure.get("/people").status_code == 401


def test_tries_are_counted_for_each_name_and_address(
    visit: Visit, ada: str, tmp_path: Path
) -> None:
    client = visit()
    assert {sign_in(client) for _ in range(3)} == {303}
    answers = [sign_in(visit(), passphrase="not this one") for _ in range(TRIES_BY_NAME.count + 1)]
    assert answers == [403] * TRIES_BY_NAME.count + [429]
    assert sign_in(visit()) == 429
    assert client.get("/people").status_code == 200
    # Whoever was here before is not locked out by others, but may not guess for ever either.
    assert sign_in(client) == 303
    assert {sign_in(client, passphrase="not this one") for _ in range(3)} == {403}
    stranger = visit()
    stranger.cookies.set("gefa-known", "made.up", path="/sign-in")
    assert sign_in(stranger) == 429
    # Other names go on, until the address has tried too often.
    others = [sign_in(visit(), name=f"guess {n}") for n in range(25)]
    assert others[0] == 403
    assert others[-1] == 429
    assert trail(tmp_path).count(("", "sign-in refused", "Ada")) == TRIES_BY_NAME.count + 3


def test_signing_out_here_and_everywhere(visit: Visit, ada: str) -> None:
    here, there = visit(), visit()
    assert sign_in(here) == sign_in(there) == 303
    kept = dict(here.cookies)
    assert here.post("/sign-out").headers["location"] == "/sign-in"
    assert "__Host-gefa" not in here.cookies
    stolen = visit()
    stolen.cookies.update(kept)
    assert stolen.get("/account").status_code == 401
    assert there.get("/account").status_code == 200
    sign_in(here)
    here.post("/account/sign-out-everywhere")
    assert there.get("/account").status_code == 401


def test_another_passphrase_ends_all_other_sign_ins(visit: Visit, ada: str) -> None:
    here, there = visit(), visit()
    sign_in(here)
    sign_in(there)
    new = "four dunes behind the harbour"
    wrong = here.post("/account/passphrase", data={"old": "x", "passphrase": new, "again": new})
    assert wrong.status_code == 403
    said = {"old": PASSPHRASE, "passphrase": new, "again": new}
    assert here.post("/account/passphrase", data=said).status_code == 303
    assert here.get("/account").status_code == 200
    assert there.get("/account").status_code == 401
    assert sign_in(visit()) == 403
    assert sign_in(visit(), passphrase=new) == 303


def test_roles_change_at_once_and_an_owner_is_left(visit: Visit, ada: str, tmp_path: Path) -> None:
    owner = visit()
    sign_in(owner)
    added = owner.post("/people", data={"name": "Viv", "roles": ["viewer", "editor"]})
    link = re.search(r"https://localhost/welcome\?link=([\w-]+)", added.text)
    assert link
    viv = visit()
    words = {"link": link[1], "passphrase": PASSPHRASE, "again": PASSPHRASE}
    assert viv.post("/welcome", data=words).headers["location"] == "/uploads"
    assert viv.post("/slots", data={"name": "posters"}).status_code == 403
    store = Store(tmp_path)
    with store.reading() as session:
        person = person_named(session, "Viv")
        assert person
    store.close()
    changed = owner.post(f"/people/{person.id}/roles", data={"roles": ["viewer", "developer"]})
    assert changed.status_code == 303
    assert viv.post("/slots", data={"name": "posters"}).status_code == 303
    assert viv.get("/people").status_code == 403
    lost = owner.post(f"/people/{ada}/roles", data={"roles": ["viewer"]})
    assert lost.status_code == 409
    assert "only owner" in lost.text
    assert owner.post(f"/people/{ada}/remove").status_code == 409
    assert owner.post(f"/people/{person.id}/remove").status_code == 303
    assert viv.get("/").status_code == 303
    told = trail(tmp_path)
    for entry in [
        ("Ada", "signed in", "Ada"),
        ("Ada", "person added", "Viv"),
        ("Ada", "roles changed", "Viv"),
        ("Viv", "slot added", "posters"),
        ("Ada", "person removed", "Viv"),
    ]:
        assert entry in told
    page = owner.get("/people/trail?who=Viv").text
    assert "posters" in page
    assert "roles changed</td>" not in page


def test_names_are_plain_and_used_once(store: Store) -> None:
    with store.changing() as session:
        with pytest.raises(GefaError, match="needs a role"):
            add_person(session, "Ada", [])
        ada = add_person(session, "  Ada   Quill ", [Role.OWNER])
        assert ada.name == "Ada Quill"
        for name in ("ada quill", "ADA\u00a0QUILL", ""):
            with pytest.raises(GefaError):
                add_person(session, name, [Role.VIEWER])
        with pytest.raises(GefaError, match="not a name"):
            add_person(session, "a\u202eb", [Role.VIEWER])
        viv = add_person(session, "Viv", [Role.VIEWER])
        with pytest.raises(GefaError, match="only owner"):
            set_roles(session, ada, [Role.VIEWER])
        with pytest.raises(GefaError, match="only owner"):
            remove_person(session, ada)
        remove_person(session, viv)
        remove_person(session, ada)


@pytest.mark.parametrize(
    "passphrase",
    [
        "short",
        "passwordpassword",
        "qwertyuiop12",
        "aaaaaaaaaaaaaaaa",
        "Ada Quillmere",
        "123456789012345",
    ],
)
def test_easy_passphrases_are_refused(passphrase: str) -> None:
    with pytest.raises(GefaError, match=r"characters|easily guessed"):
        hashed(passphrase, "Ada Quillmere")


def test_a_passphrase_matches_however_it_was_typed(kept: str) -> None:
    assert matches(PASSPHRASE, kept)
    assert not matches(PASSPHRASE + " ", kept)
    assert not matches(PASSPHRASE, "")
    assert not matches("x" * 5_000_000, kept)
    assert not is_outdated(kept)
    assert not is_outdated(_NOBODY), "unknown people take as long as known ones"
    typed = hashed("caf\u00e9 unter den Wolken 9", "Ada")
    assert matches("cafe\u0301 unter den Wolken 9", typed)


def test_other_machines_are_let_in_only_once_there_is_an_owner(store: Store) -> None:
    assert [is_exposed(host) for host in ("127.0.0.1", "::1", "localhost", "127.3.2.1")] == [
        False
    ] * 4
    assert [is_exposed(host) for host in ("0.0.0.0", "::", "10.0.0.4", "", "kites.example")] == [
        True
    ] * 5
    check_owner(store, "127.0.0.1", store.folder)
    with pytest.raises(GefaError, match="gefa people add NAME --role owner"):
        check_owner(store, "0.0.0.0", store.folder)
    with store.changing() as session:
        add_person(session, "Ada", [Role.OWNER])
    check_owner(store, "0.0.0.0", store.folder)


def test_at_home_everything_is_open_until_somebody_is_added(tmp_path: Path) -> None:
    app = create_app(tmp_path)
    with TestClient(app, base_url="http://localhost", follow_redirects=False) as client:
        assert client.get("/people").status_code == 200
        # A proxy on this machine may ask for somebody who is anywhere.
        assert client.get("/people", headers={"X-Forwarded-For": "203.0.113.9"}).status_code == 401
        first = client.post("/people", data={"name": "Viv", "roles": ["viewer"]})
        assert first.status_code == 422
        assert "has to be an owner" in first.text
        assert (
            "/welcome?link="
            in client.post("/people", data={"name": "Ada", "roles": ["owner"]}).text
        )
        assert client.get("/people").status_code == 401


# -- an account elsewhere ---------------------------------------------------------------------


@pytest.fixture
def elsewhere() -> Iterator[Provider]:
    with provider() as running:
        yield running


def with_service(folder: Path, running: Provider) -> TestClient:
    service = SignInService(running.url, CLIENT, SECRET, "the kite account")
    app = create_app(folder, exposed=True, sign_in_service=service)
    return TestClient(app, base_url="https://localhost", follow_redirects=False)


def go(client: TestClient, running: Provider, address: str) -> tuple[int, str]:
    """Follow the way to the provider and back; how it ends."""
    import httpx

    there = client.get(address)
    assert there.status_code == 302, there.text
    assert there.headers["location"].startswith(f"{running.url}/authorize?")
    back = httpx.get(there.headers["location"]).headers["location"]
    assert back.startswith("https://localhost/sign-in/account/back?")
    answer = client.get(back)
    return answer.status_code, answer.headers.get("location", answer.text)


def test_somebody_signs_in_with_an_account_elsewhere(tmp_path: Path, elsewhere: Provider) -> None:
    with with_service(tmp_path, elsewhere) as client:
        token = link_for(tmp_path, "Ada", Role.OWNER)
        assert "the kite account" in client.get(f"/welcome?link={token}").text
        # Who was not invited is not let in.
        assert go(client, elsewhere, "/sign-in/account?to=/runs")[0] == 403
        assert go(client, elsewhere, f"/sign-in/account?link={token}") == (303, "/")
        assert client.get("/people").status_code == 200
        client.cookies.clear()
        assert go(client, elsewhere, "/sign-in/account?to=/runs") == (303, "/runs")
        client.cookies.clear()
        elsewhere.subject = "somebody-else"
        status, told = go(client, elsewhere, "/sign-in/account")
        assert status == 403
        assert "Nobody here has this account" in told
        assert client.get("/people").status_code == 401


@pytest.mark.parametrize(
    "claims",
    [
        {"aud": "another"},
        {"iss": "https://evil.example"},
        {"nonce": "old"},
        {"exp": 1},
        {"sub": None},
    ],
    ids=str,
)
def test_what_the_service_says_is_proven(
    tmp_path: Path, elsewhere: Provider, claims: dict[str, object]
) -> None:
    with with_service(tmp_path, elsewhere) as client:
        token = link_for(tmp_path, "Ada", Role.OWNER)
        elsewhere.claims = claims
        status, _ = go(client, elsewhere, f"/sign-in/account?link={token}")
        assert status in (403, 502)
        assert client.get("/people").status_code == 401
        # The link was not used up.
        assert client.get(f"/welcome?link={token}").status_code == 200


def test_a_foreign_signature_or_state_signs_nobody_in(tmp_path: Path, elsewhere: Provider) -> None:
    from joserfc.jwk import RSAKey

    with with_service(tmp_path, elsewhere) as client:
        token = link_for(tmp_path, "Ada", Role.OWNER)
        elsewhere.signing_key = RSAKey.generate_key(2048, parameters={"kid": "one"})
        assert go(client, elsewhere, f"/sign-in/account?link={token}")[0] == 403
        there = client.get("/sign-in/account")
        assert there.status_code == 302
        assert client.get("/sign-in/account/back?code=x&state=guessed").status_code == 403
        client.cookies.clear()
        assert client.get("/sign-in/account/back?code=x&state=y").status_code == 400


def test_a_service_that_is_down_or_another_one_is_told(tmp_path: Path, elsewhere: Provider) -> None:
    elsewhere.down = True
    with with_service(tmp_path, elsewhere) as client:
        answer = client.get("/sign-in/account")
        assert answer.status_code == 502
        assert "does not answer" in answer.text
        elsewhere.down, elsewhere.padding = False, 2_000_000
        assert client.get("/sign-in/account").status_code == 502
        elsewhere.padding, elsewhere.issuer = 0, "https://another.example"
        assert client.get("/sign-in/account").status_code == 502


def test_a_service_must_be_https_and_know_this_client() -> None:
    for wrong in (
        SignInService("http://kites.example", "a", "b"),
        SignInService("https://kites.example", "", "b"),
    ):
        with pytest.raises(GefaError):
            wrong.check()
    SignInService("https://kites.example", "a", "b").check()

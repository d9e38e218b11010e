"""Nobody stops the server, and nobody sees what is not theirs: what an attack once found."""

from __future__ import annotations

import json
import socket
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest

from gefa.store.keys import Right, new_key
from gefa.store.models import Slot
from gefa.store.models import Upload as UploadRow
from gefa.store.slots import add_slot
from gefa.store.store import Store
from gefa.web.connections import limited_connections
from gefa.web.courier import Courier
from gefa.web.rates import Rate, Rates
from tests.conftest import Server, eventually, start
from tests.web.test_slots_api import site  # noqa: F401
from tests.web.test_uploads import jpeg

Site = Any


@pytest.fixture
def anybody(demo: Server) -> Iterator[httpx.Client]:
    with demo.client() as client:
        yield client


def talk(demo: Server, *pieces: bytes, patience: float = 20) -> bytes:
    """What a server answers to bytes as they are."""
    port = int(demo.url.rpartition(":")[2])
    with socket.create_connection(("127.0.0.1", port), timeout=patience) as line:
        for piece in pieces:
            try:
                line.sendall(piece)
            except (BrokenPipeError, ConnectionResetError):
                break
        answer = b""
        while True:
            try:
                more = line.recv(65536)
            except ConnectionResetError:
                break
            if not more:
                break
            answer += more
        return answer


def test_a_body_is_not_read_before_its_key(anybody: httpx.Client, demo: Server) -> None:
    body = b'{"alt": "' + b"a" * 2_000_000 + b'"}'
    for method, path in (("PATCH", "/api/v1/uploads/x"), ("POST", "/api/v1/uploads/x/reject")):
        answer = anybody.request(method, path, content=body)
        assert answer.status_code == 401
        assert answer.headers["Content-Type"] == "application/problem+json"
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as keyed:
        answer = keyed.patch("/api/v1/uploads/x", content=body)
        assert answer.status_code in (400, 413)
        deep = keyed.patch(
            "/api/v1/uploads/x",
            content=b"[" * 60_000,
            headers={"Content-Type": "application/json"},
        )
        assert deep.status_code in (400, 422)
    form = "part=" + "a" * 5_000_000
    answer = anybody.post(
        "/recipes/icon", content=form, headers={"Content-Type": "application/x-www-form-urlencoded"}
    )
    assert answer.status_code in (400, 413)


def test_heads_have_a_limit(demo: Server) -> None:
    start_line = b"GET /healthz HTTP/1.1\r\nHost: localhost\r\n"
    one = talk(demo, start_line, b"X-A: " + b"a" * 200_000 + b"\r\n\r\n")
    assert one.startswith(b"HTTP/1.1 431 ")
    many = talk(demo, start_line, b"".join(b"X-%d: a\r\n" % n for n in range(20_000)), b"\r\n")
    assert many.startswith(b"HTTP/1.1 431 ")
    endless = talk(demo, start_line, b"X-A: ", *[b"a" * 60_000] * 10)
    assert endless.startswith((b"HTTP/1.1 431 ", b"HTTP/1.1 400 "))
    address = talk(demo, b"GET /m/" + b"a" * 20_000 + b" HTTP/1.1\r\nHost: localhost\r\n\r\n")
    assert address.startswith(b"HTTP/1.1 414 ")
    path = talk(
        demo,
        b"GET /m/" + b"a" * 3_000 + b" HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n",
    )
    assert path.startswith(b"HTTP/1.1 414 ")


def test_half_requests_do_not_stay(demo: Server) -> None:
    began = time.monotonic()
    assert talk(demo, b"GET / HTTP/1.1\r\nHost: local").startswith(b"HTTP/1.1 408 ")
    assert time.monotonic() - began < 18


def test_idle_connections_give_way(tmp_path: Path) -> None:
    """The one that has been silent for longest is closed when there are too many."""
    import asyncio

    import uvicorn

    async def app(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] == "http":
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b"here"})

    async def main() -> None:
        config = uvicorn.Config(
            app, port=0, log_level="error", http=limited_connections(20), ws="none", lifespan="off"
        )
        server = uvicorn.Server(config)
        serving = asyncio.create_task(server.serve())
        while not server.started:  # noqa: ASYNC110
            await asyncio.sleep(0.02)
        port = server.servers[0].sockets[0].getsockname()[1]
        idle = []
        for _ in range(60):
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(b"GET / HTTP/1.1\r\n")
            idle.append((reader, writer))
        async with httpx.AsyncClient() as client:
            assert (await client.get(f"http://127.0.0.1:{port}/")).text == "here"
        gone = await asyncio.wait_for(idle[0][0].read(), 5)
        assert gone == b""
        assert len(server.server_state.connections) <= 20
        for _, writer in idle:
            writer.close()
        server.should_exit = True
        await serving

    # In a thread of its own: where browser tests ran before, this one has a loop already.
    with ThreadPoolExecutor(1) as thread:
        thread.submit(asyncio.run, main()).result()


def test_odd_requests_are_no_mistakes_of_ours(anybody: httpx.Client, demo: Server) -> None:
    """Each was a 500 once."""
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as keyed:
        for answer, status in (
            (anybody.get("/uploads?until=9999-12-31"), 200),
            (keyed.get("/api/v1/slots/gallery/uploads?until=9999-12-31"), 200),
            (anybody.get("/sources/x/999999999999999999999999/picture"), 404),
            (keyed.patch("/api/v1/uploads/x", content=b'{"\\ud800": 1}'), 422),
            (keyed.patch("/api/v1/uploads/x", content=b'{"tags": ["\\ud800"]}'), 422),
        ):
            assert answer.status_code == status, (answer.url, answer.text)
        upload = keyed.post(
            "/api/v1/slots/gallery/uploads",
            files={"file": ("a.jpg", jpeg(90, 60, 81))},
            headers={"Prefer": "wait=50"},
        ).json()
        media = "(" * 3_000
        path = f"/api/v1/uploads/{upload['id']}/markup"
        answer = keyed.get(path, params={"art": f"whole; {media}"})
        assert answer.status_code == 422
        url = upload["variants"][0]["url"]
        for wrong in ("items=0-5", "bytes=abc", "bytes=5-2", "bytes=-", "bytes"):
            answer = anybody.get(url, headers={"Range": wrong})
            assert (answer.status_code, len(answer.content)) == (
                200,
                upload["variants"][0]["bytes"],
            )
        assert anybody.get(url, headers={"Range": "bytes=-5"}).status_code == 206


def test_misses_are_not_remembered(anybody: httpx.Client) -> None:
    for number in range(50):
        assert anybody.get(f"/m/nobody{number}/{'0' * 12}/a.webp").status_code == 404


def test_rates_fill_again() -> None:
    rates = Rates(Rate(3, 0.3))
    assert [rates.wait("a") == 0 for _ in range(4)] == [True, True, True, False]
    assert rates.wait("b") == 0, "nobody else's business"
    assert 0 < rates.look("a") <= 0.1
    time.sleep(0.15)
    assert rates.wait("a") == 0


def test_guessing_keys_is_slowed_down(tmp_path: Path, free_port: Callable[[], int]) -> None:
    server = start("serve", tmp_path / "data", free_port(), "--workers", "0")
    try:
        with server.client() as client:
            answers: list[httpx.Response] = []
            # A slow machine takes so long for them that some are allowed again meanwhile.
            while len(answers) < 400 and (not answers or answers[-1].status_code != 429):
                key = {"Authorization": f"Bearer {len(answers)}"}
                answers.append(client.post("/api/v1/slots/a/uploads", headers=key))
        codes = [answer.status_code for answer in answers]
        assert codes[:50] == [401] * 50
        assert codes[-1] == 429
        assert int(answers[-1].headers["Retry-After"]) >= 1
    finally:
        server.stop()


def test_a_slot_holds_as_much_as_it_may(site: Callable[..., Site]) -> None:  # noqa: F811
    here = site(max_uploads=1)
    first = here.send(jpeg(90, 60, 82))
    assert first.status_code == 201
    full = here.send(jpeg(90, 60, 83))
    assert (full.status_code, full.json()["title"]) == (507, "The slot is full")
    heavy = site(max_total_bytes=1_000).send(jpeg(900, 600, 84))
    assert "may weigh 1.0 kB together" in heavy.json()["detail"]


def test_nothing_of_a_held_picture_is_public(site: Callable[..., Site]) -> None:  # noqa: F811
    here = site()
    upload = here.send(jpeg(300, 200, 85), data={"alt": "first"}).json()
    id = upload["id"]
    store = Store(here.server.folder)
    with store.session() as session:
        slot = session.get_one(Slot, session.get_one(UploadRow, id).slot_id)
        slot.own = {**slot.own, "review": True}
        session.add(slot)
    store.close()
    with here.client("upload") as sender, here.server.client() as anybody:
        sender.put(f"/api/v1/uploads/{id}/file", files={"file": ("SECRET.jpg", jpeg(200, 300, 86))})
        eventually(lambda: sender.get(f"/api/v1/uploads/{id}").json()["state"] == "held")
        told = anybody.get(f"/api/v1/uploads/{id}")
        markup = anybody.get(f"/api/v1/uploads/{id}/markup?placeholder=tiny")
        seen = sender.get(f"/api/v1/uploads/{id}").json()
        assert "SECRET" not in told.text
        assert seen["original"]["name"] == "SECRET.jpg"
        assert told.json()["state"] == "live"
        for public in (told.json()["tiny"], told.json()["placeholder"]):
            assert public in (upload["tiny"], upload["placeholder"])
        assert seen["tiny"] not in told.text + markup.text
        new = here.send(jpeg(200, 200, 87), name="HIDDEN.jpg").json()
        hidden = anybody.get(f"/api/v1/uploads/{new['id']}").json()
        assert (hidden["state"], hidden["original"]["name"], hidden["tiny"]) == ("held", "", "")


class Dripping(BaseHTTPRequestHandler):
    """Answers so slowly that it would never end."""

    def do_POST(self) -> None:
        self.wfile.write(b"HTTP/1.1 200 OK\r\n")
        try:
            for _ in range(100):
                self.wfile.write(b"X-A: b\r\n")
                self.wfile.flush()
                time.sleep(0.3)
        except OSError:
            pass

    def log_message(self, *_: Any) -> None:
        pass


class Taking(Dripping):
    def do_POST(self) -> None:
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"x" * 1_000_000)


def serving(handler: type[BaseHTTPRequestHandler]) -> HTTPServer:
    server = HTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return server


def notice(store: Store, url: str, name: str) -> str:
    from gefa.store.models import Notification

    with store.session() as session:
        slot = add_slot(session, name)
        upload = UploadRow(slot_id=slot.id, name="a", blob="", bytes=1, format="jpeg")
        session.add(upload)
        session.flush()
        told = Notification(slot_id=slot.id, upload_id=upload.id, url=url, kind="upload.live")
        session.add(told)
        session.flush()
        return told.id


def test_one_bad_address_holds_up_no_other(store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
    from gefa.store.models import Notification
    from gefa.web import courier as module

    monkeypatch.setattr(module, "PATIENCE_SECONDS", 2.0)
    slow, quick = serving(Dripping), serving(Taking)
    bad = [
        notice(store, url, f"bad-{number}")
        for number, url in enumerate(
            ["http://a..b/", "http://[::1", f"http://127.0.0.1:{slow.server_port}/",
             "http://127.0.0.1:1/", "http://nowhere.invalid/"]
        )
    ]  # fmt: skip
    good = notice(store, f"http://127.0.0.1:{quick.server_port}/", "good")
    courier = Courier(store, local=True)
    began = time.monotonic()
    courier.turn()

    def found(id: str) -> Notification:
        with store.reading() as session:
            return session.get_one(Notification, id)

    eventually(lambda: found(good).told, 5, 0.05)
    assert time.monotonic() - began < 2.0, "it waited for none of the others"
    eventually(lambda: all(found(id).tries == 1 for id in bad), 10)
    assert found(bad[2]).problem == "it took longer than 2 s"
    courier.stop()
    for server in (slow, quick):
        server.shutdown()


def test_addresses_inside_the_network_are_told_only_if_allowed(store: Store) -> None:
    from gefa.store.models import Notification

    quick = serving(Taking)
    id = notice(store, f"http://localhost:{quick.server_port}/", "inside")
    courier = Courier(store)
    courier.turn()

    def problem() -> str:
        with store.reading() as session:
            return session.get_one(Notification, id).problem

    assert "--local-webhooks" in str(eventually(problem, 10))
    courier.stop()
    quick.shutdown()


def test_a_removed_request_is_not_answered_as_if_it_lived(site: Callable[..., Site]) -> None:  # noqa: F811
    here = site()
    data = jpeg(90, 60, 88)
    headers = {"Idempotency-Key": "once", "Prefer": "wait=50"}
    with here.client("upload") as sender:
        path = f"/api/v1/slots/{here.slot}/uploads"
        upload = sender.post(path, files={"file": ("a.jpg", data)}, headers=headers).json()
        assert sender.delete(f"/api/v1/uploads/{upload['id']}").status_code == 204
        again = sender.post(path, files={"file": ("a.jpg", data)}, headers=headers)
    assert again.status_code == 409


def test_resumable_uploads_given_up_while_they_come(site: Callable[..., Site]) -> None:  # noqa: F811
    """DELETE beside PATCH ended in 500s."""
    here = site()
    data = jpeg(400, 300, 89)
    tus = {"Tus-Resumable": "1.0.0"}
    codes: list[int] = []
    with here.client("upload") as sender:
        path = f"/api/v1/slots/{here.slot}/resumable"
        for _ in range(12):
            begun = sender.post(path, headers={**tus, "Upload-Length": str(len(data))})
            where = begun.headers["Location"]

            def give_up(where: str = where) -> None:
                codes.append(sender.delete(where, headers=tus).status_code)

            thread = threading.Thread(target=give_up)
            thread.start()
            sent = sender.patch(
                where,
                content=data,
                headers={
                    **tus,
                    "Upload-Offset": "0",
                    "Content-Type": "application/offset+octet-stream",
                },
            )
            thread.join()
            codes.append(sent.status_code)
            codes.append(sender.head(where, headers=tus).status_code)
    assert max(codes) < 500, codes


def test_signs_of_life(anybody: httpx.Client, demo: Server) -> None:
    assert anybody.get("/healthz").text == "ok\n"
    ready = anybody.get("/readyz")
    assert (ready.status_code, ready.json()["ready"]) == (200, True)
    figures = anybody.get("/metrics").text
    assert 'gefa_requests_total{area="pages",status="2xx"}' in figures
    assert "gefa_workers 1.0" in figures
    assert anybody.get("/metrics", headers={"X-Forwarded-For": "10.0.0.1"}).status_code == 403
    assert "Reachable." in anybody.get("/health").text
    first, second = (anybody.get("/healthz").headers["X-Request-ID"] for _ in range(2))
    assert first != second


def test_a_full_disk_takes_nothing_new_and_shows_everything(
    tmp_path: Path, free_port: Callable[[], int]
) -> None:
    store = Store(tmp_path / "data")
    with store.session() as session:
        key = new_key(session, add_slot(session, "gallery"), "k", [Right.UPLOAD, Right.READ])
    store.close()
    log = tmp_path / "log"
    server = start(
        "serve", tmp_path / "data", free_port(), "--workers", "0", "--keep-free", "99999999"
    )
    try:
        with server.client(headers={"Authorization": f"Bearer {key}"}) as api:
            path = "/api/v1/slots/gallery"
            sent = api.post(f"{path}/uploads", files={"file": ("a.jpg", jpeg(90, 60, 90))})
            assert (sent.status_code, sent.headers["Retry-After"]) == (507, "60")
            begun = api.post(
                f"{path}/resumable", headers={"Tus-Resumable": "1.0.0", "Upload-Length": "9"}
            )
            assert begun.status_code == 507
            assert api.post("/sources", files={"file": ("a.png", b"x")}).status_code == 507
            assert api.get(f"{path}/uploads").status_code == 200
            assert api.get("/readyz").status_code == 503
            assert "Free some space" in api.get("/health").text
    finally:
        server.stop()
    assert not log.exists() or log.read_text().count("\n") < 5


def test_logs_have_an_id_and_nothing_secret(tmp_path: Path, capfd: Any) -> None:
    import logging

    from gefa.logs import FULL, LogFormat, request_id, set_up

    root = logging.getLogger()
    before, level = list(root.handlers), root.level
    try:
        set_up(LogFormat.JSON, access=True)
        token = request_id.set("abc")
        logging.getLogger("gefa.access").info("GET /", extra={"fields": {"status": 200}})
        request_id.reset(token)
        for _ in range(5):
            logging.getLogger("gefa.x").warning(FULL)
        try:
            raise OSError(28, "No space left on device")
        except OSError:
            logging.getLogger("gefa.y").exception("writing")
    finally:
        root.handlers[:] = before
        root.setLevel(level)
        logging.getLogger("gefa.access").setLevel(logging.NOTSET)
    lines = [json.loads(line) for line in capfd.readouterr().err.splitlines()]
    assert lines[0] | {"time": ""} == {
        "time": "", "level": "info", "logger": "gefa.access", "message": "GET /",
        "request": "abc", "status": 200,
    }  # fmt: skip
    assert [line["message"] for line in lines[1:]] == [FULL], "once a minute"

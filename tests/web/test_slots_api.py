"""Slots through the API: several files, keys and rights, review, focal points, notices, pieces."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any, ClassVar

import httpx
import pytest
from standardwebhooks.webhooks import Webhook
from tusclient import client as tus

from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Recipe
from gefa.store.keys import Right, new_key
from gefa.store.models import Notification, Slot, Upload
from gefa.store.recipes import save_recipe
from gefa.store.slots import add_slot, slot_named
from gefa.store.store import Store
from tests.conftest import HTTP, Server, eventually
from tests.make import loaded, photo
from tests.web.test_uploads import PROBLEM, jpeg, problem

SQUARE = {"name": "square", "ratio": "1:1", "widths": [60, 120, 900]}
WIDE = {"name": "wide", "ratio": "3:1", "widths": [90]}
WHOLE = {"name": "whole", "widths": [100]}

PLAIN = Recipe(formats=("webp", "png"), widths=(48, 96, 192), quality={Format.WEBP: 90})


@dataclass
class Site:
    """A slot of the demo, and clients with one right each."""

    server: Server
    slot: str
    keys: dict[str, str]

    def client(self, *rights: str) -> httpx.Client:
        key = self.keys[rights[0]]
        return self.server.client(headers={"Authorization": f"Bearer {key}"})

    def send(self, picture: bytes, name: str = "beach.jpg", **more: Any) -> httpx.Response:
        headers = {"Prefer": "wait=40", **more.pop("headers", {})}
        files = {"file": (name, picture)}
        url = f"/api/v1/slots/{self.slot}/uploads"
        with self.client("upload") as client:
            return client.post(url, files=files, headers=headers, **more)

    def settled(self, id: str) -> dict[str, Any]:
        """The upload once nothing is being made of it."""

        def done() -> Any:
            found = HTTP.get(f"{self.server.url}/api/v1/uploads/{id}").json()
            return None if found["making"] else found

        return dict(eventually(done, step=0.05))


@pytest.fixture
def site(demo: Server, request: pytest.FixtureRequest) -> Iterator[Callable[..., Site]]:
    """Makes slots, each with its own settings, and keys to them."""
    store = Store(demo.folder)
    number = 0

    def make(**own: Any) -> Site:
        nonlocal number
        number += 1
        name = f"{request.node.originalname[5:40].replace('_', '-')}-{number}".strip("-")
        recipe = {"recipe": "plain", "crops": [SQUARE, WIDE, WHOLE], "folders": "flat"}
        with store.session() as session:
            save_recipe(session, "plain", PLAIN, "For these slots")
            slot = add_slot(session, name, recipe | own)
            keys = {right.value: new_key(session, slot, right.value, [right]) for right in Right}
        return Site(demo, name, keys)

    yield make
    store.close()


def test_every_crop_has_its_ladder_and_says_what_was_left_out(site: Callable[..., Site]) -> None:
    upload = site().send(jpeg(300, 200, 50), data={"focal_x": "1", "focal_y": "0.5"}).json()
    made = {(v["crop"], v["width"], v["height"]) for v in upload["variants"]}
    assert made == {
        ("square", 60, 60),
        ("square", 120, 120),
        ("square", 200, 200),
        ("wide", 90, 30),
        ("whole", 100, 67),
    }
    assert {crop["name"]: crop["rect"] for crop in upload["crops"]} == {
        "square": {"x": 100, "y": 0, "width": 200, "height": 200},
        "wide": {"x": 0, "y": 50, "width": 300, "height": 100},
        "whole": {"x": 0, "y": 0, "width": 300, "height": 200},
    }
    left, *formats = upload["left_out"]
    assert (left["crop"], left["width"]) == ("square", 900)
    assert {one["width"] for one in formats} <= {None}
    assert not [words for words in upload["warnings"] if "left out" in words]
    assert "Gefa enlarges nothing" in left["reason"]
    assert set(upload["markups"]) == {"square", "wide", "whole"}
    assert upload["markup"] == upload["markups"]["square"]
    assert 'width="200" height="200"' in upload["markup"]
    assert upload["tiny"].startswith("data:image/webp;base64,")
    assert len(upload["tiny"]) < 700


def test_too_large_is_brought_down_and_too_small_or_narrow_is_refused(
    site: Callable[..., Site],
) -> None:
    limited = site(
        crops=[{"name": "whole", "widths": [100, 250, 400]}],
        max_width=200,
        max_height=200,
        min_width=80,
        min_ratio="1:2",
        max_ratio="2:1",
    )
    upload = limited.send(jpeg(400, 300, 51)).json()
    assert {(v["width"], v["height"]) for v in upload["variants"]} == {(100, 75), (200, 150)}
    assert "brought down from 400 × 300 px to 200 × 150 px" in " ".join(upload["warnings"])
    assert [left["width"] for left in upload["left_out"] if left["width"]] == [250, 400]
    assert "at least 80 px wide" in problem(limited.send(jpeg(70, 60, 52)), 422)
    assert "at most 2.00 : 1" in problem(limited.send(jpeg(210, 100, 53)), 422)
    assert "at least 0.50 : 1" in problem(limited.send(jpeg(90, 190, 54)), 422)
    only = site(accepts=["png", "webp"])
    assert "This slot accepts PNG and WebP" in problem(only.send(jpeg(90, 90)), 415)


def test_each_of_several_files_has_its_own_result(site: Callable[..., Site]) -> None:
    here = site(max_bytes=60_000)
    good = [jpeg(120, 90, seed) for seed in (60, 61)]
    files = [
        ("file", ("one.jpg", good[0])),
        ("file", ("notes.txt", b"words")),
        ("file", ("large.jpg", b"\xff\xd8\xff" + b"0" * 70_000)),
        ("file", ("half.jpg", good[0][:900])),
        ("file", ("two.jpg", good[1])),
    ]
    with here.client("upload") as client:
        answer = client.post(
            f"/api/v1/slots/{here.slot}/uploads",
            files=files,
            data={"alt": ["One", "-", "-", "-", "Two"], "tags": "beach, kites"},
            headers={"Prefer": "wait=40"},
        )
    assert answer.status_code == 207
    results = answer.json()["results"]
    assert [(r["name"], r["status"]) for r in results] == [
        ("one.jpg", 201),
        ("notes.txt", 415),
        ("large.jpg", 413),
        ("half.jpg", 422),
        ("two.jpg", 201),
    ]
    assert [results[at]["upload"]["alt"] for at in (0, 4)] == ["One", "Two"]
    assert results[4]["upload"]["tags"] == ["beach", "kites"]
    for result in results[1:4]:
        assert result["name"] in result["problem"]["detail"]


def test_fields_come_once_or_as_often_as_files(site: Callable[..., Site]) -> None:
    here = site()
    files = [("file", (f"{n}.jpg", jpeg(90, 60, 70 + n))) for n in range(3)]
    url = f"/api/v1/slots/{here.slot}/uploads"
    with here.client("upload") as client:
        slipped = client.post(url, files=files, data={"alt": ["One", "Two"]})
        assert "The field 'alt' came 2 times, with 3 files" in problem(slipped, 422)
        wrong = client.post(url, files={"photo": ("kite.jpg", bytes(9_000_000))})
        assert "'kite.jpg' came in the field 'photo'. Send files in the field 'file'" in problem(
            wrong, 422
        )
        zoomed = client.post(url, files=files[:1], data={"zoom": "2"})
        assert "focal_x and focal_y" in problem(zoomed, 422)
    with here.client("read") as client:
        assert client.get(url).json()["uploads"] == []


def test_a_slot_that_is_removed_during_an_upload_is_told(
    site: Callable[..., Site], demo: Server
) -> None:
    """The form begins to come, the slot goes, the form ends."""
    here = site()
    boundary, picture = b"cut-here", jpeg(90, 60, 74)
    head = (
        b'--%s\r\nContent-Disposition: form-data; name="file"; filename="a.jpg"\r\n\r\n' % boundary
    )

    def body() -> Iterator[bytes]:
        yield head + picture[:500]
        time.sleep(0.5)
        with demo.client() as pages:
            assert pages.post(f"/slots/{here.slot}/remove").status_code == 303
        yield picture[500:] + b"\r\n--%s--\r\n" % boundary

    with here.client("upload") as client:
        answer = client.post(
            f"/api/v1/slots/{here.slot}/uploads",
            content=body(),
            headers={"Content-Type": f"multipart/form-data; boundary={boundary.decode()}"},
        )
    assert "removed while the file was sent" in problem(answer, 404)


def test_a_request_that_is_sent_twice_is_one_upload(site: Callable[..., Site]) -> None:
    here = site()
    data, other = jpeg(90, 60, 62), jpeg(90, 60, 63)
    once: Any = {"headers": {"Idempotency-Key": "same"}}
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda _: here.send(data, **once), range(6)))
    assert {answer.status_code for answer in answers} == {201}
    assert len({answer.json()["id"] for answer in answers}) == 1
    assert "another file before" in problem(here.send(other, **once), 422)
    again = here.send(data, headers={"Idempotency-Key": "next"}).json()
    assert again["id"] != answers[0].json()["id"]


def test_the_same_bytes_at_once_share_blobs_and_not_identity(site: Callable[..., Site]) -> None:
    here = site()
    data = jpeg(150, 100, 64)
    with ThreadPoolExecutor(5) as pool:
        uploads = [answer.json() for answer in pool.map(lambda _: here.send(data), range(5))]
    assert len({upload["id"] for upload in uploads}) == 5
    digests = {tuple(v["url"].split("/")[3] for v in upload["variants"]) for upload in uploads}
    assert len(digests) == 1


def test_a_key_does_only_what_it_may(site: Callable[..., Site]) -> None:
    here, other = site(), site()
    id = here.send(jpeg(90, 60, 65)).json()["id"]
    post = f"/api/v1/slots/{here.slot}/uploads"
    with (
        here.client("read") as reader,
        here.client("upload") as sender,
        here.client("review") as reviewer,
    ):
        assert [u["id"] for u in reader.get(post).json()["uploads"]] == [id]
        assert reader.get(post, params={"state": "held"}).json() == {"uploads": [], "next": None}
        for refused in (
            reader.post(post, files={"file": ("a.jpg", jpeg(9, 9))}),
            sender.get(post),
            sender.post(f"/api/v1/uploads/{id}/approve", json={"revision": ""}),
            reader.patch(f"/api/v1/uploads/{id}", json={"alt": "x"}),
            reader.delete(f"/api/v1/uploads/{id}"),
            reviewer.put(f"/api/v1/uploads/{id}/file", files={"file": ("a.jpg", jpeg(9, 9))}),
        ):
            assert "right to" in problem(refused, 403)
    with other.client("upload") as stranger:
        problem(stranger.delete(f"/api/v1/uploads/{id}"), 404)
        assert "does not open" in problem(stranger.post(post, files={"file": ("a.jpg", b"x")}), 403)
    problem(HTTP.delete(f"{here.server.url}/api/v1/uploads/{id}"), 401)


def test_a_held_upload_is_served_to_reviewers_only(site: Callable[..., Site]) -> None:
    here = site(review=True)
    answer = here.send(jpeg(150, 100, 66))
    assert (answer.status_code, answer.json()["state"]) == (201, "held")
    id = answer.json()["id"]
    assert answer.json()["variants"] == []
    with here.client("review") as reviewer, here.client("upload") as sender:
        listed = f"/api/v1/slots/{here.slot}/uploads"
        assert sender.get(f"/api/v1/uploads/{id}").json()["variants"] == []
        assert "right to read" in problem(reviewer.get(listed), 403)
        held = reviewer.patch(f"/api/v1/uploads/{id}", json={"alt": "Kites"}).json()["variants"]
        assert len(held) > 5
        url = held[0]["url"]
        seen = reviewer.get(url)
        assert (seen.status_code, seen.headers["Cache-Control"]) == (200, "private, no-store")
        for stranger in (
            sender.get(url),
            HTTP.get(here.server.url + url),
            HTTP.get(f"{here.server.url}/m/{id}?w=90"),
        ):
            assert stranger.status_code == 404
        named = {"revision": reviewer.get(f"/api/v1/uploads/{id}").json()["revision"]}
        decided = f"/api/v1/uploads/{id}/reject", f"/api/v1/uploads/{id}/approve"
        assert "give a reason" in problem(
            reviewer.post(decided[0], json=named | {"reason": " "}), 409
        )
        other = {"revision": "0" * 32, "reason": "Blurred"}
        for path in decided:
            assert named["revision"] in problem(reviewer.post(path, json=other), 409)
            problem(reviewer.post(path), 422)
        rejected = reviewer.post(decided[0], json=named | {"reason": "Blurred"}).json()
        assert (rejected["state"], rejected["problem"]) == ("rejected", "Blurred")
        live = reviewer.post(decided[1], json=named).json()
        assert (live["state"], live["problem"], live["alt"]) == ("live", "", "Kites")
    assert HTTP.get(here.server.url + url).status_code == 200


def test_a_new_focal_point_makes_only_what_depends_on_it(site: Callable[..., Site]) -> None:
    here = site()
    id = here.send(jpeg(400, 300, 67), data={"focal_x": "0.1", "focal_y": "0.5"}).json()["id"]
    before = here.settled(id)
    with here.client("upload") as client:
        assert "both" in problem(client.patch(f"/api/v1/uploads/{id}", json={"focal_x": 0.4}), 422)
        assert "colour" in problem(client.patch(f"/api/v1/uploads/{id}", json={"colour": 1}), 422)
        moved = client.patch(
            f"/api/v1/uploads/{id}", json={"focal_x": 0.9, "focal_y": 0.5, "zoom": 1.5}
        )
        assert moved.json()["focal"] == {"x": 0.9, "y": 0.5, "zoom": 1.5, "suggested": False}
    after = here.settled(id)

    def urls(upload: dict[str, Any], crop: str) -> set[str]:
        return {v["url"] for v in upload["variants"] if v["crop"] == crop}

    assert urls(before, "whole") == urls(after, "whole")
    assert not urls(before, "square") & urls(after, "square")
    for old in urls(before, "square") | urls(after, "wide"):
        assert HTTP.get(here.server.url + old).status_code == 200
    square = next(
        v
        for v in after["variants"]
        if v["crop"] == "square" and v["width"] == 60 and v["format"] == "png"
    )
    rect = next(crop["rect"] for crop in after["crops"] if crop["name"] == "square")
    assert rect == {"x": 200, "y": 50, "width": 200, "height": 200}
    shown = loaded(HTTP.get(here.server.url + square["url"]).content)
    wanted = photo(400, 300, 67).crop(*rect.values()).thumbnail_image(60)
    assert (shown.cast("float") - wanted.cast("float")).abs().avg() < 6
    with here.client("upload") as client:
        back = client.patch(f"/api/v1/uploads/{id}", json={"focal_x": None, "focal_y": None})
        assert back.json()["focal"]["suggested"]


def test_a_file_is_replaced_under_the_same_identity_and_removed_and_had_back(
    site: Callable[..., Site],
) -> None:
    here = site()
    first = here.send(jpeg(150, 100, 68), data={"alt": "Kites"}).json()
    path = f"/api/v1/uploads/{first['id']}"
    with here.client("upload") as client:
        assert "cannot read it as a picture" in problem(
            client.put(f"{path}/file", files={"file": ("a.txt", b"words")}), 415
        )
        client.put(
            f"{path}/file", files={"file": ("dunes.jpg", jpeg(180, 120, 69))}
        ).raise_for_status()
        second = here.settled(first["id"])
        assert (second["id"], second["alt"], second["original"]["name"]) == (
            first["id"],
            "Kites",
            "dunes.jpg",
        )
        assert second["original"]["width"] == 180
        old, new = first["variants"][0]["url"], second["variants"][0]["url"]
        assert [HTTP.get(here.server.url + url).status_code for url in (old, new)] == [200, 200]
        assert client.delete(path).status_code == 204
        assert [HTTP.get(here.server.url + url).status_code for url in (old, new, path)] == [
            404
        ] * 3
        assert client.post(f"{path}/restore").json()["state"] == "live"
        assert HTTP.get(here.server.url + new).status_code == 200


def test_an_address_without_a_format_may_name_a_crop(site: Callable[..., Site]) -> None:
    here = site()
    id = here.send(jpeg(300, 200, 70)).json()["id"]
    for query, width in (("w=90", 120), ("w=90&crop=wide", 90), ("crop=whole", 100), ("", 200)):
        answer = HTTP.get(f"{here.server.url}/m/{id}?{query}")
        assert (answer.status_code, loaded(answer.content).width) == (200, width), query
    assert HTTP.get(f"{here.server.url}/m/{id}?crop=other").status_code == 404
    refused = HTTP.post(f"{here.server.url}/m/{id}")
    assert (refused.status_code, refused.headers["Allow"]) == (405, "GET, HEAD")


class Told(BaseHTTPRequestHandler):
    """Notes what it is told; refuses the first time."""

    heard: ClassVar[list[tuple[dict[str, str], str]]] = []

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.heard.append(({k.lower(): v for k, v in self.headers.items()}, body))
        self.send_response(503 if len(self.heard) == 1 else 200)
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        pass


def test_who_wants_to_know_is_told_with_a_signature_until_it_is_taken(
    site: Callable[..., Site],
) -> None:
    listener = HTTPServer(("127.0.0.1", 0), Told)
    threading.Thread(target=listener.serve_forever, daemon=True).start()
    here = site(notify=f"http://127.0.0.1:{listener.server_port}/told")
    id = here.send(jpeg(90, 60, 71)).json()["id"]
    eventually(lambda: len(Told.heard) == 2, 30)
    store = Store(here.server.folder)
    with store.session() as session:
        slot = slot_named(session, here.slot)
        assert isinstance(slot, Slot)
        for headers, body in Told.heard:
            told: Any = Webhook(slot.secret).verify(body, headers)
            assert (told["type"], told["data"]["id"], told["data"]["state"]) == (
                "upload.live",
                id,
                "live",
            )
            assert told["data"]["variants"]
        with pytest.raises(Exception, match="signature"):
            Webhook("whsec_" + "A" * 32).verify(body, headers)
        assert Told.heard[0][0]["webhook-id"] == Told.heard[1][0]["webhook-id"]

    def taken() -> Any:
        with store.session() as session:
            return session.get_one(Notification, Told.heard[0][0]["webhook-id"]).told

    eventually(taken, 10)
    store.close()
    listener.shutdown()


# -- piece by piece ---------------------------------------------------------------------------


def test_a_client_of_the_protocol_sends_in_pieces_and_goes_on(
    site: Callable[..., Site], tmp_path: Path
) -> None:
    here = site()
    file = tmp_path / "shore line.jpg"
    file.write_bytes(jpeg(900, 700, 72))
    auth = {"Authorization": f"Bearer {here.keys['upload']}"}
    url = f"{here.server.url}/api/v1/slots/{here.slot}/resumable"
    sender = tus.TusClient(url, headers=auth).uploader(
        str(file), chunk_size=30_000, metadata={"filename": file.name, "alt": "Möwen"}
    )
    for _ in range(2):
        sender.upload_chunk()
    assert 0 < sender.offset < file.stat().st_size
    again = tus.TusClient(url, headers=auth).uploader(str(file), chunk_size=50_000, url=sender.url)
    assert again.offset == 60_000, "the server knows how far it is"
    again.upload()
    head = httpx.head(again.url, headers={**auth, "Tus-Resumable": "1.0.0"})
    assert (
        head.headers["Upload-Offset"] == head.headers["Upload-Length"] == str(file.stat().st_size)
    )
    upload = here.settled(head.headers["Gefa-Upload"].rpartition("/")[2])
    assert (upload["state"], upload["alt"], upload["original"]["name"]) == (
        "live",
        "Möwen",
        "shore line.jpg",
    )
    assert upload["original"]["bytes"] == file.stat().st_size
    assert not (here.server.folder / "resumable" / sender.url.rpartition("/")[2]).exists()


def test_pieces_that_cannot_be_are_refused_by_the_protocols_numbers(
    site: Callable[..., Site],
) -> None:
    here = site(max_bytes=50_000)
    url = f"{here.server.url}/api/v1/slots/{here.slot}/resumable"
    auth = {"Authorization": f"Bearer {here.keys['upload']}", "Tus-Resumable": "1.0.0"}
    piece = {**auth, "Content-Type": "application/offset+octet-stream"}

    def begin(length: int, **more: str) -> str:
        answer = HTTP.post(url, headers={**auth, "Upload-Length": str(length), **more})
        assert answer.status_code == 201, answer.text
        return str(answer.headers["Location"])

    told = httpx.options(url, headers=auth)
    assert (told.status_code, told.headers["Tus-Version"], told.headers["Tus-Max-Size"]) == (
        204,
        "1.0.0",
        "50000",
    )
    assert {"creation", "termination"} <= set(told.headers["Tus-Extension"].split(","))
    old = HTTP.post(url, headers={**auth, "Tus-Resumable": "0.2.2", "Upload-Length": "5"})
    assert (old.status_code, old.headers["Tus-Version"]) == (412, "1.0.0")
    problem(HTTP.post(url, headers={**auth, "Upload-Length": "50001"}), 413)
    problem(HTTP.post(url, headers={**auth, "Upload-Length": "-3"}), 422)
    problem(
        HTTP.post(url, headers={**auth, "Upload-Length": "3", "Upload-Metadata": "alt %%"}), 422
    )
    at = begin(10)
    problem(HTTP.patch(at, content=b"x", headers={**piece, "Upload-Offset": "3"}), 409)
    problem(HTTP.patch(at, content=b"x", headers={**auth, "Upload-Offset": "0"}), 415)
    problem(HTTP.patch(at, content=b"x" * 11, headers={**piece, "Upload-Offset": "0"}), 413)
    first = HTTP.patch(at, content=b"\xff\xd8\xffab", headers={**piece, "Upload-Offset": "0"})
    assert (first.status_code, first.headers["Upload-Offset"]) == (204, "5")
    assert "Upload-Expires" in first.headers
    last = HTTP.post(
        at,
        content=b"cdefg",
        headers={**piece, "Upload-Offset": "5", "X-HTTP-Method-Override": "PATCH"},
    )
    assert "Gefa-Upload" in last.headers
    words = begin(5, **{"Upload-Metadata": "filename bm90ZXMudHh0"})
    assert "notes.txt" in problem(
        HTTP.patch(words, content=b"words", headers={**piece, "Upload-Offset": "0"}), 415
    )
    assert httpx.head(words, headers=auth).status_code == 404
    gone = begin(9)
    assert HTTP.delete(gone, headers=auth).status_code == 204
    assert httpx.head(gone, headers=auth).status_code == 404
    assert httpx.head(at, headers={**auth, "Authorization": "Bearer no"}).status_code == 401
    assert (
        httpx.head(at, headers={k: v for k, v in auth.items() if k != "Tus-Resumable"}).status_code
        == 412
    )
    assert not [p for p in (here.server.folder / "resumable").iterdir() if p.name in (words, gone)]


def test_the_api_describes_all_of_it(demo: Server) -> None:
    described = HTTP.get(f"{demo.url}/api/v1/openapi.json").json()["paths"]
    for path, methods in {
        "/api/v1/slots/{slot}/uploads": {"get", "post"},
        "/api/v1/slots/{slot}/resumable": {"options", "post"},
        "/api/v1/slots/{slot}/resumable/{resumable_id}": {"head", "patch", "delete"},
        "/api/v1/uploads/{upload_id}": {"get", "patch", "delete"},
        "/api/v1/uploads/{upload_id}/approve": {"post"},
    }.items():
        assert set(described[path]) == methods, path
        assert all(json.dumps(described[path][method]).count("description") for method in methods)
    assert PROBLEM in json.dumps(described)


def test_two_clients_on_one_file_never_mix_their_bytes(site: Callable[..., Site]) -> None:
    """Both send all of it at once, piece by piece, as two tabs of one page may."""
    here = site()
    data = jpeg(700, 500, 91)
    headers = {"Authorization": f"Bearer {here.keys['upload']}", "Tus-Resumable": "1.0.0"}
    begin = headers | {"Upload-Length": str(len(data))}
    url = f"/api/v1/slots/{here.slot}/resumable"
    with here.server.client() as client:
        address = client.post(url, headers=begin).headers["Location"]

    def send(_: int) -> str:
        with here.server.client(headers=headers) as client:
            for _ in range(500):
                head = client.head(address)
                if "Gefa-Upload" in head.headers:
                    return head.headers["Gefa-Upload"]
                come = int(head.headers["Upload-Offset"])
                told = {
                    "Upload-Offset": str(come),
                    "Content-Type": "application/offset+octet-stream",
                }
                answer = client.patch(address, headers=told, content=data[come : come + 3000])
                assert answer.status_code in (204, 409), answer.text
        raise AssertionError("it never became an upload")

    with ThreadPoolExecutor(4) as pool:
        became = set(pool.map(send, range(4)))
    assert len(became) == 1
    upload = here.settled(became.pop().rpartition("/")[2])
    assert upload["state"] == "live"
    store = Store(here.server.folder)
    with store.reading() as session:
        kept = session.get_one(Upload, upload["id"])
        assert store.blobs.path(kept.blob).read_bytes() == data
    store.close()

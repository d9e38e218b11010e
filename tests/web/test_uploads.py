"""The upload API and delivery, over real HTTP with real workers."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import html5lib
import httpx
import pytest

from tests.conftest import Server
from tests.make import dot, loaded, photo

PROBLEM = "application/problem+json"


@pytest.fixture
def api(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as client:
        yield client


def send(api: httpx.Client, content: bytes, name: str = "beach.jpg", **more: Any) -> httpx.Response:
    more.setdefault("headers", {"Prefer": "wait=50"})
    return api.post("/api/v1/slots/gallery/uploads", files={"file": (name, content)}, **more)


def jpeg(width: int = 1000, height: int = 700, seed: int = 1) -> bytes:
    return bytes(photo(width, height, seed).jpegsave_buffer(Q=90))


def test_an_upload_is_live_with_its_variants_and_markup(api: httpx.Client) -> None:
    data = jpeg()
    answer = send(api, data, data={"alt": 'Kites & "friends"', "focal_x": "0.5", "focal_y": "0.25"})
    assert answer.status_code == 201, answer.text
    assert answer.headers["Preference-Applied"] == "wait=50"
    upload = answer.json()
    assert answer.headers["Location"] == f"/api/v1/uploads/{upload['id']}"
    assert upload["state"] == "live"
    assert upload["original"] == {
        "name": "beach.jpg", "format": "jpeg", "bytes": len(data), "width": 1000, "height": 700,
        "kept": True,
    }  # fmt: skip
    whole = [v for v in upload["variants"] if v["crop"] == "whole"]
    assert {(v["format"], v["width"]) for v in whole} == {
        (format, width)
        for format in ("avif", "jpeg")
        for width in (480, 1000)  # 960 is near 1000
    }
    assert upload["placeholder"].startswith("#")
    assert api.get(answer.headers["Location"]).json() == upload

    tree = html5lib.parse(upload["markup"], namespaceHTMLElements=False)
    (img,) = tree.iter("img")
    assert img.get("alt") == 'Kites & "friends"'
    urls = [
        part.split()[0] for e in tree.iter() for part in (e.get("srcset") or "").split(", ") if part
    ]
    assert len(urls) == 4
    assert sorted(urls) == sorted(v["url"] for v in whole)


def test_variants_are_served_as_they_will_always_be(api: httpx.Client) -> None:
    upload = send(api, jpeg(600, 400, 2)).json()
    types = {"avif": "image/avif", "webp": "image/webp", "jpeg": "image/jpeg"}
    for variant in upload["variants"]:
        answer = api.get(variant["url"])
        assert answer.status_code == 200
        assert answer.headers["Content-Type"] == types[variant["format"]]
        assert answer.headers["Cache-Control"] == "public, max-age=31536000, immutable"
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
        assert len(answer.content) == variant["bytes"]
        picture = loaded(answer.content)
        assert (picture.width, picture.height) == (variant["width"], variant["height"])
        etag = answer.headers["ETag"]
        again = api.get(variant["url"], headers={"If-None-Match": f'"other", W/{etag}'})
        assert (again.status_code, again.content) == (304, b"")
        head = api.head(variant["url"])
        assert (head.status_code, head.content) == (200, b"")
        assert head.headers["Content-Length"] == str(variant["bytes"])
        part = api.get(variant["url"], headers={"Range": "bytes=0-9"})
        assert (part.status_code, part.content) == (206, answer.content[:10])


def test_an_address_names_its_content(api: httpx.Client) -> None:
    url = send(api, jpeg(300, 200, 3)).json()["variants"][0]["url"]
    _, _, upload, digest, path = url.split("/", 4)
    for wrong in (
        f"/m/{upload}/{'0' * 12}/{path}",
        f"/m/{upload}/{digest[:4]}/{path}",
        f"/m/{upload}//{path}",
        f"/m/{upload}/{digest}/other.webp",
        f"/m/nobody/{digest}/{path}",
        f"/m/{upload}/{digest}/..%2f..%2fgefa.sqlite3",
    ):
        answer = api.get(wrong)
        assert answer.status_code == 404, wrong
        assert answer.headers["Content-Type"] == PROBLEM


def test_without_patience_an_upload_is_accepted_and_can_be_asked_for(api: httpx.Client) -> None:
    answer = send(api, jpeg(1200, 800, 4), headers={})
    assert answer.status_code == 202
    assert "Preference-Applied" not in answer.headers
    deadline = time.monotonic() + 60
    while api.get(answer.headers["Location"]).json()["state"] != "live":
        assert time.monotonic() < deadline
        time.sleep(0.2)


def test_a_phone_picture_is_turned_upright_and_its_place_forgotten(api: httpx.Client) -> None:
    import pyvips

    image = photo(400, 200).copy()
    image.set_type(pyvips.GValue.gint_type, "orientation", 6)
    image.set_type(
        pyvips.GValue.gstr_type,
        "exif-ifd3-GPSLatitude",
        "51/1 30/1 0/1 (x, Rational, 3 components)",
    )
    upload = send(api, image.jpegsave_buffer(Q=90)).json()
    assert (upload["original"]["width"], upload["original"]["height"]) == (200, 400)
    picture = loaded(api.get(upload["variants"][0]["url"]).content)
    assert picture.height == 2 * picture.width
    assert not [field for field in picture.get_fields() if "GPS" in field]


def problem(answer: httpx.Response, status: int) -> str:
    assert answer.status_code == status, answer.text
    assert answer.headers["Content-Type"] == PROBLEM
    body = answer.json()
    assert body["status"] == status
    assert body["title"]
    assert len(body["detail"]) > 15
    return str(body["detail"])


@pytest.mark.parametrize("header", ["", "Bearer", "Bearer wrong", "Basic {key}", "{key}"])
def test_a_wrong_key_is_refused(demo: Server, header: str) -> None:
    with demo.client(headers={"Authorization": header.format(key=demo.key)}) as client:
        answer = send(client, jpeg(50, 50))
        assert "Bearer" in problem(answer, 401)
        assert answer.headers["WWW-Authenticate"] == "Bearer"


def test_an_unknown_slot_is_named(api: httpx.Client) -> None:
    answer = api.post("/api/v1/slots/attic/uploads", files={"file": ("a.jpg", jpeg(50, 50))})
    assert "'attic'" in problem(answer, 404)


def test_an_unknown_upload_is_told(api: httpx.Client) -> None:
    problem(api.get("/api/v1/uploads/none"), 404)


def test_too_large_a_file_is_refused_before_it_is_read(demo: Server, api: httpx.Client) -> None:
    before = set((demo.folder / "blobs").rglob("*"))
    big = b"\xff\xd8\xff" + b"\0" * 40_100_000
    assert "40.0 MB" in problem(send(api, big), 413)

    def stream() -> Iterator[bytes]:
        yield b'--x\r\nContent-Disposition: form-data; name="file"; filename="a.jpg"\r\n\r\n'
        for _ in range(45):
            yield b"\xff\xd8\xff" + b"\0" * 1_000_000
        yield b"\r\n--x--\r\n"

    headers = {"Content-Type": "multipart/form-data; boundary=x"}
    try:
        answer = api.post("/api/v1/slots/gallery/uploads", content=stream(), headers=headers)
        problem(answer, 413)
    except httpx.WriteError:
        pass  # the server closed the connection rather than take the rest
    new = set((demo.folder / "blobs").rglob("*")) - before
    assert all(path.stat().st_size < 40_000_000 for path in new), "only what workers make meanwhile"
    assert not list((demo.folder / "incoming").iterdir())


@pytest.mark.parametrize(
    ("name", "data", "status"),
    [
        ("notes.txt", b"no picture at all", 415),
        ("drawing.svg", b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>', 415),
        ("page.jpg", b"<!DOCTYPE html><script>alert(1)</script>", 415),
        ("empty.png", b"", 422),
        ("truncated.jpg", jpeg(800, 600, 5)[:9000], 422),
        ("truncated.png", bytes(dot(300, 300, (9, 9, 99, 99)).pngsave_buffer())[:300], 422),
        ("header-only.gif", b"GIF89a\x09\x00\x09\x00\x00\x00\x00", 422),
        ("random.webp", b"RIFF\xff\xff\xff\x7fWEBPVP8 " + b"\x55" * 900, 422),
        ("bomb.tif", b"II*\0\x08\0\0\0" + b"\xff" * 400, 422),
    ],
)
def test_what_is_not_a_picture_is_refused_with_its_name(
    api: httpx.Client, name: str, data: bytes, status: int
) -> None:
    started = time.monotonic()
    detail = problem(send(api, data, name), status)
    assert name in detail
    assert time.monotonic() - started < 5


def test_a_rejected_upload_says_so_later_too(api: httpx.Client) -> None:
    answer = send(api, jpeg(800, 600, 6)[:9000], "half.jpg")
    upload = api.get(answer.json()["upload"]).json()
    assert upload["state"] == "rejected"
    assert "half.jpg" in upload["problem"]
    assert upload["variants"] == []
    assert upload["markup"] == ""


@pytest.mark.parametrize(
    ("arguments", "status"),
    [
        ({"content": b"raw"}, 415),
        ({"data": {"alt": "no file"}}, 415),
        ({"files": {"other": ("a.jpg", b"x")}}, 422),
        (
            {
                "content": b"--x\r\nbroken",
                "headers": {"Content-Type": "multipart/form-data; boundary=x"},
            },
            400,
        ),
        ({"content": b"x", "headers": {"Content-Type": "multipart/form-data"}}, 400),
        ({"files": {"file": ("a.jpg", b"\xff\xd8\xff")}, "data": {"alt": "a" * 70_000}}, 413),
        ({"files": [("file", ("a.jpg", b"x"))] * 21}, 413),
    ],
)
def test_a_request_that_is_no_form_is_explained(
    api: httpx.Client, arguments: dict[str, Any], status: int
) -> None:
    problem(api.post("/api/v1/slots/gallery/uploads", **arguments), status)


@pytest.mark.parametrize(
    "fields",
    [{"focal_x": "0.5"}, {"focal_x": "2", "focal_y": "0"}, {"focal_x": "a", "focal_y": "nan"}],
)
def test_a_focal_point_outside_the_picture_is_refused(
    api: httpx.Client, fields: dict[str, str]
) -> None:
    assert "0 to 1" in problem(send(api, jpeg(50, 50), data=fields), 422)


@pytest.mark.parametrize(
    "name",
    [
        "../../evil.jpg",
        "a\x00b.jpg",
        "\u202egpj.exe.jpg",
        "x" * 300 + ".jpg",
        'q"uo;te.jpg',
        "風.jpg",
    ],
)
def test_a_hostile_name_is_only_a_name(demo: Server, api: httpx.Client, name: str) -> None:
    upload = send(api, jpeg(60, 40, 7), name).json()
    assert upload["state"] == "live"
    assert "/" not in upload["original"]["name"]
    assert "\u202e" not in upload["original"]["name"]
    for variant in upload["variants"]:
        assert variant["url"].isascii()
        assert api.get(variant["url"]).status_code == 200
    assert not list(demo.folder.rglob("evil*"))


def test_the_same_bytes_twice_are_two_uploads(api: httpx.Client) -> None:
    data = jpeg(500, 300, 8)
    one, two = send(api, data).json(), send(api, data).json()
    assert one["id"] != two["id"]
    assert [v["bytes"] for v in one["variants"]] == [v["bytes"] for v in two["variants"]]


def test_markup_takes_a_sizes_attribute_and_nothing_else(api: httpx.Client) -> None:
    location = send(api, jpeg(500, 300, 8)).headers["Location"]
    sizes = "(max-width: 40em) calc(100vw - 2rem), 620px"
    assert f'sizes="{sizes}"' in api.get(location, params={"sizes": sizes}).json()[
        "markup"
    ].replace("&lt;", "<")
    problem(api.get(location, params={"sizes": '"><script>'}), 422)


def test_the_api_describes_itself(api: httpx.Client) -> None:
    described = api.get("/api/v1/openapi.json").json()
    post = described["paths"]["/api/v1/slots/{slot}/uploads"]["post"]
    assert {"201", "202", "401", "404", "413", "415", "422"} <= set(post["responses"])
    assert "file" in json.dumps(post["requestBody"])


def test_demo_json_says_where_and_with_which_key(demo: Server) -> None:
    found = json.loads((demo.folder / "demo.json").read_text())
    assert found["base_url"] == demo.url
    assert [slot["name"] for slot in found["slots"]] == ["gallery", "stalls", "reports"]
    assert all(set(slot) == {"name", "key"} for slot in found["slots"])
    assert Path(demo.folder / "samples" / "designs" / "poster.ora").is_file()


def test_an_address_without_a_format_is_answered_by_what_the_client_shows(
    api: httpx.Client,
) -> None:
    upload = send(api, jpeg(1000, 700, 12)).json()
    by_url = {v["url"]: v for v in upload["variants"]}
    address = f"/m/{upload['id']}"

    def served(accept: str, query: str = "", **hints: str) -> dict[str, Any]:
        told = {name.replace("_", "-"): value for name, value in hints.items()}
        answer = api.get(f"{address}{query}", headers={"Accept": accept, **told})
        assert answer.status_code == 200
        assert answer.headers["Vary"] == "Accept, Sec-CH-Width, Sec-CH-DPR"
        assert answer.headers["Cache-Control"] == "public, max-age=300"
        found = by_url[answer.headers["Content-Location"]]
        assert len(answer.content) == found["bytes"]
        assert answer.headers["ETag"] == api.head(found["url"]).headers["ETag"]
        return dict(found)

    assert served("image/avif,image/webp,*/*", "?w=400")["format"] in ("avif", "webp")
    assert served("*/*", "?w=400")["format"] == "jpeg"
    assert served("*/*", "?w=400")["width"] == 480
    assert served("*/*", "?w=400", Sec_CH_DPR="2")["width"] == 1000
    assert served("*/*", Sec_CH_Width="481")["width"] == 1000
    assert served("*/*", "?w=9999")["width"] == 1000
    assert served("*/*", Sec_CH_Width="nonsense", Sec_CH_DPR="-1")["width"] == 1000
    for query in ("?w=0", "?w=-3", "?w=wide", "?w=1e9"):
        refused = api.get(address + query)
        assert refused.status_code == 422
        assert refused.headers["Content-Type"] == PROBLEM
    assert api.get("/m/nobody?w=100").status_code == 404
    part = api.get(f"{address}?w=400", headers={"Range": "bytes=0-9", "Accept": "*/*"})
    assert (part.status_code, len(part.content)) == (206, 10)
    head = api.head(f"{address}?w=400", headers={"Accept": "*/*"})
    assert (head.status_code, head.content) == (200, b"")
    tag = head.headers["ETag"]
    again = api.get(f"{address}?w=400", headers={"If-None-Match": tag, "Accept": "*/*"})
    assert (again.status_code, again.content) == (304, b"")
    assert again.headers["Vary"].startswith("Accept")

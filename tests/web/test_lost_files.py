"""Files that are lost from the disk, or damaged on it: told, never served wrong, made again."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from typer.testing import CliRunner

from gefa.cli.app import app
from tests.conftest import Server, eventually
from tests.web.test_pages import bring_in, png, ready, run
from tests.web.test_uploads import jpeg, send


@pytest.fixture
def api(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as client:
        yield client


def blob(demo: Server, sha256: str) -> Path:
    return demo.folder / "blobs" / sha256[:2] / sha256


def lose(path: Path) -> None:
    path.unlink()


def empty(path: Path) -> None:
    path.write_bytes(b"")


def flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)


@pytest.mark.parametrize(("spoil", "seed"), [(lose, 71), (empty, 72), (flip, 73)])
def test_a_broken_file_is_never_served_and_made_again(
    api: httpx.Client, demo: Server, spoil: object, seed: int
) -> None:
    assert callable(spoil)
    upload = send(api, jpeg(500, 300, seed)).json()
    # One that nobody has asked for: what is in memory is right, and served on.
    (*_, variant) = upload["variants"]
    (stored,) = [
        path
        for path in (demo.folder / "blobs").glob("*/*")
        if path.name.startswith(variant["url"].split("/")[3])
    ]
    data = stored.read_bytes()
    spoil(stored)
    for ask in (api.get, api.head):
        answer = ask(variant["url"])
        assert answer.status_code == 503, answer.text
        assert answer.headers["Cache-Control"] == "no-store"
        assert answer.headers["Retry-After"]
        assert "ETag" not in answer.headers
    eventually(lambda: api.get(variant["url"]).status_code == 200)
    again = api.get(variant["url"])
    assert (again.content, again.headers["ETag"]) == (data, f'"{stored.name}"')
    eventually(lambda: api.get(f"/api/v1/uploads/{upload['id']}").json()["state"] == "live")


def test_without_its_original_a_lost_file_is_gone(api: httpx.Client, demo: Server) -> None:
    upload = send(api, data := jpeg(400, 300, 74)).json()
    (original,) = [
        path
        for path in (demo.folder / "blobs").glob("*/*")
        if path.stat().st_size == len(data) and path.read_bytes() == data
    ]
    original.unlink()
    (variant, *_) = upload["variants"]
    digest = variant["url"].split("/")[3]
    (stored,) = (path for path in (demo.folder / "blobs").glob("*/*") if path.name[:12] == digest)
    stored.unlink()
    answer = api.get(variant["url"])
    assert (answer.status_code, answer.headers["Cache-Control"]) == (404, "no-store")
    assert "no original" in answer.json()["detail"]


def test_a_lost_file_of_before_is_gone_and_not_made_again_for_ever(
    api: httpx.Client, demo: Server
) -> None:
    upload = send(api, jpeg(420, 300, 76)).json()
    address = upload["variants"][0]["url"]
    newer = {"file": ("beach.jpg", jpeg(420, 300, 77))}
    assert api.put(f"/api/v1/uploads/{upload['id']}/file", files=newer).status_code == 200

    def replaced() -> bool:
        now = api.get(f"/api/v1/uploads/{upload['id']}").json()
        return bool(now["state"] == "live" and now["variants"][0]["url"] != address)

    eventually(replaced)
    assert api.get(address).status_code == 200
    (stored,) = (
        path
        for path in (demo.folder / "blobs").glob("*/*")
        if path.name[:12] == address.split("/")[3]
    )
    stored.unlink()
    # What was served from memory is right; another range is read from the disk.
    answers = [api.get(address, headers={"Range": "bytes=0-9"}).status_code for _ in range(2)]
    assert answers == [404, 404]


def test_what_a_run_lost_is_made_again_by_verify(demo: Server) -> None:
    with demo.client(follow_redirects=True) as pages:
        (result,) = bring_in(pages, ("mended.png", png(75)))
        ready(pages, result["source"])
        address = run(pages, result["source"])
        manifest = pages.get(f"{address}/manifest.json").json()
    first, second = (blob(demo, file["sha256"]) for file in manifest["files"][:2])
    whole = [first.read_bytes(), second.read_bytes()]
    lose(first)
    flip(second)
    command = ["verify", "--data", str(demo.folder)]
    told = CliRunner().invoke(app, command)
    assert told.exit_code == 1
    assert manifest["files"][0]["path"] in told.output
    mended = CliRunner().invoke(app, [*command, "--repair"])
    made_again = mended.output.partition("beyond repair")[0]
    assert all(file["path"] in made_again for file in manifest["files"][:2]), mended.output
    assert [first.read_bytes(), second.read_bytes()] == whole
    assert (demo.folder / "trash" / f"{second.name}.damaged").exists()
    os.remove(demo.folder / "trash" / f"{second.name}.damaged")

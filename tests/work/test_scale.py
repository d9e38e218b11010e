"""Workers elsewhere: a Redis queue and shared blobs, one worker killed in the middle; a bucket."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from email.utils import formatdate
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlmodel import select

from gefa.core.treat.recipe import Recipe
from gefa.store.backup import BucketTarget, back_up, restore
from gefa.store.bucket import Bucket, BucketBlobs, BucketError, blob_key
from gefa.store.keys import Right, new_key
from gefa.store.models import Task
from gefa.store.recipes import save_recipe
from gefa.store.slots import add_slot
from gefa.store.sources import bring_in
from gefa.store.store import Store
from tests.conftest import eventually, start
from tests.make import photo
from tests.s3 import ACCESS_KEY, standing_in


@pytest.fixture
def redis(tmp_path: Path, free_port: Callable[[], int]) -> Iterator[str]:
    """The address of a Redis of its own."""
    port = free_port()
    server = subprocess.Popen(
        ["redis-server", "--port", str(port), "--save", "", "--dir", str(tmp_path)],
        stdout=subprocess.DEVNULL,
    )
    yield f"redis://127.0.0.1:{port}/0"
    server.terminate()
    server.wait()


@contextmanager
def worker(folder: Path) -> Iterator[subprocess.Popen[bytes]]:
    """A ``gefa worker`` with a data folder, and a session, of its own."""
    folder.mkdir()
    command = [sys.executable, "-m", "gefa", "worker", "--data", str(folder), "--workers", "1"]
    process = subprocess.Popen(command, start_new_session=True)
    try:
        yield process
    finally:
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def slot_in(folder: Path) -> str:
    """A key to a slot of a new data folder."""
    store = Store(folder)
    with store.session() as session:
        save_recipe(session, "plain", Recipe(formats=("webp", "jpeg"), widths=(300,)), "Added")
        own = {"crops": [{"name": "whole", "widths": [300, 600, 900]}], "recipe": "plain"}
        key = new_key(session, add_slot(session, "shore", own), "test", list(Right))
    store.close()
    return key


def send(client: httpx.Client, number: int) -> str:
    data = bytes(photo(900, 600, number).jpegsave_buffer(Q=90))
    answer = client.post("/api/v1/slots/shore/uploads", files={"file": (f"{number}.jpg", data)})
    assert answer.status_code == 202, answer.text
    return str(answer.json()["id"])


def all_live(client: httpx.Client, ids: list[str]) -> Any:
    found = [client.get(f"/api/v1/uploads/{id}").json() for id in ids]
    return found if all(upload["state"] == "live" for upload in found) else None


def test_two_workers_elsewhere_finish_everything_once_though_one_is_killed(
    tmp_path: Path, redis: str, free_port: Callable[[], int], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("GEFA_QUEUE", redis)
    monkeypatch.setenv("GEFA_BLOBS", str(tmp_path / "shared"))
    key = slot_in(tmp_path / "server")
    server = start("serve", tmp_path / "server", free_port(), "--workers", "0")
    try:
        with (
            server.client(headers={"Authorization": f"Bearer {key}"}) as client,
            worker(tmp_path / "one") as one,
            worker(tmp_path / "two") as two,
        ):
            ids = [send(client, number) for number in range(12)]
            eventually(
                lambda: any(
                    client.get(f"/api/v1/uploads/{id}").json()["state"] == "live" for id in ids
                )
            )
            os.killpg(one.pid, signal.SIGKILL)
            one.wait()
            assert not all_live(client, ids), "it is killed in the middle"
            uploads = eventually(lambda: all_live(client, ids), 120)
            assert two.poll() is None
            for upload in uploads:
                widths = {v["width"] for v in upload["variants"] if v["format"] == "jpeg"}
                assert widths == {300, 600, 900}
                for variant in upload["variants"]:
                    assert client.get(variant["url"]).status_code == 200
    finally:
        server.stop()
    for folder in ("one", "two", "server"):
        assert not (tmp_path / folder / "blobs").exists(), "blobs are in the shared folder only"
        assert not (tmp_path / folder / "queue.sqlite3").exists()
    store = Store(tmp_path / "server")
    with store.session() as session:
        jobs = session.exec(select(Task)).all()
        assert sorted(job.upload_id or "" for job in jobs) == sorted(ids), "none was done twice"
        assert sum(job.sent > 1 for job in jobs) <= 2
    store.close()


def test_blobs_in_a_bucket_serve_workers_that_share_nothing_else(
    tmp_path: Path, redis: str, free_port: Callable[[], int], monkeypatch: pytest.MonkeyPatch
) -> None:
    with standing_in() as bucket:
        for name, value in {
            "GEFA_QUEUE": redis,
            "GEFA_BLOBS": "s3://pictures/gefa",
            "GEFA_S3_ENDPOINT": bucket.url,
            "AWS_ACCESS_KEY_ID": ACCESS_KEY,
            "AWS_SECRET_ACCESS_KEY": "secret",
            "AWS_DEFAULT_REGION": "eu-quillmere-1",
        }.items():
            monkeypatch.setenv(name, value)
        key = slot_in(tmp_path / "server")
        server = start("serve", tmp_path / "server", free_port(), "--workers", "0")
        try:
            with (
                server.client(headers={"Authorization": f"Bearer {key}"}) as client,
                worker(tmp_path / "one"),
            ):
                ids = [send(client, number) for number in range(2)]
                (first, _) = eventually(lambda: all_live(client, ids), 120)
                for variant in first["variants"]:
                    assert len(client.get(variant["url"]).content) == variant["bytes"]
            said = subprocess.run(
                [sys.executable, "-m", "gefa", "publish", "--data", str(tmp_path / "server")],
                capture_output=True, text=True, check=True,
            ).stdout  # fmt: skip
        finally:
            server.stop()
        assert "2 uploads" in said
        for variant in first["variants"]:
            body, headers = bucket.objects[f"pictures/gefa{variant['url']}"]
            assert len(body) == variant["bytes"]
            assert headers["Content-Type"] == f"image/{variant['format']}"
            assert headers["Cache-Control"].endswith("immutable")
        assert "pictures/gefa/manifest.json" in bucket.objects


def open_bucket(monkeypatch: pytest.MonkeyPatch) -> None:
    """Have the keys of the stand-in where programs look for them."""
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", ACCESS_KEY)
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "secret")
    monkeypatch.setenv("AWS_DEFAULT_REGION", "eu-quillmere-1")


def test_a_bucket_keeps_fetches_and_deletes_blobs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with standing_in() as stand_in:
        open_bucket(monkeypatch)
        bucket = Bucket("s3://pictures", stand_in.url)
        here, there = (
            BucketBlobs(tmp_path / "here", bucket),
            BucketBlobs(tmp_path / "there", bucket),
        )
        blob = here.put(b"a picture")
        assert there.path(blob.sha256).read_bytes() == b"a picture"
        assert not there.path("0" * 64).exists()
        here.put(b"a picture")
        assert [how for how, key in stand_in.asked if key.endswith(blob.sha256)].count("PUT") == 1
        here.note("key", {"sha256": blob.sha256})
        assert there.noted("key") == {"sha256": blob.sha256}
        assert there.noted("other") is None
        assert there.touch(blob.sha256)
        assert not there.touch("0" * 64)
        more = {here.put(data).sha256 for data in (b"one", b"two", b"three")}
        assert set(there.all()) == {blob.sha256, *more}, "also those that only others have"
        old = formatdate(time.time() - 7200, usegmt=True)
        for key in stand_in.objects:
            stand_in.objects[key][1]["Last-Modified"] = old
        assert there.touch(blob.sha256)
        assert (bucket.age(blob_key(blob.sha256)) or 0) < 60, "its age begins anew"
        assert bucket.get(blob_key(blob.sha256)) == b"a picture"
        assert here.sweep_notes(3600) == 1
        assert here.noted("key") is None
        small = BucketBlobs(tmp_path / "small", bucket, local_bytes=8)
        for sha256 in sorted(more):
            os.utime(small.path(sha256), (1, 1))
        assert len(list((tmp_path / "small" / "blobs").glob("??/*"))) < 3, "copies are bounded"
        assert not here.delete(blob.sha256, older_than=60), "somebody may just be sending it"
        assert here.delete(blob.sha256, older_than=-1)
        assert not any(key.endswith(blob.sha256) for key in stand_in.objects)
        monkeypatch.setenv("AWS_ACCESS_KEY_ID", "stranger")
        with pytest.raises(BucketError, match="s3://pictures cannot be used"):
            Bucket("s3://pictures", stand_in.url).get("manifest.json")
    with pytest.raises(BucketError, match="no bucket"):
        Bucket("https://pictures")


def test_a_bucket_has_a_trash_a_backup_and_no_damaged_blobs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with standing_in() as stand_in:
        open_bucket(monkeypatch)
        bucket = Bucket("s3://pictures", stand_in.url)
        blobs = BucketBlobs(tmp_path / "here", bucket)
        swept = blobs.put(b"unused").sha256
        blobs.discard(swept)
        assert list(blobs.all()) == []
        assert blobs.touch(swept), "out of the trash"
        assert list(blobs.all()) == [swept]
        blobs.path(swept).write_bytes(b"rubbish")
        assert blobs.checked(swept) is None
        blobs.set_aside(swept)
        found = blobs.checked(swept)
        assert found is not None, "the bucket has it whole"
        assert found.read_bytes() == b"unused"
        bucket.put(blob_key(swept), b"rubbish, too")
        found.unlink()
        assert blobs.checked(swept) is None
        blobs.set_aside(swept)
        assert swept not in set(blobs.all())

        store = Store(tmp_path / "data")
        with store.changing() as session:
            bring_in(session, "a.png", store.blobs.put(b"a picture"), "png")
        store.close()
        target = BucketTarget(Bucket("s3://pictures/backup", stand_in.url))
        assert back_up(tmp_path / "data", target).copied == 1
        assert back_up(tmp_path / "data", target).copied == 0
        done = restore(tmp_path / "home", target)
        assert (done.fetched, done.lost) == (1, [])

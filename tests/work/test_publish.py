"""A site published as plain files."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

import pytest
from sqlmodel import select
from typer.testing import CliRunner

from gefa.cli.app import app
from gefa.core.deliver.manifest import File
from gefa.core.errors import PlanError
from gefa.core.treat.formats import Format
from gefa.store.models import Task, Upload, UploadState, now
from gefa.store.slots import add_slot
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.store.variants import exchange
from gefa.work.publish import FolderPlace, SiteManifest, publish, site_manifest


def live(
    store: Store, name: str, contents: list[bytes], *, waiting: bool = False, upload_id: str = ""
) -> str:
    """An upload with a file of each content; its id."""
    with store.session() as session:
        upload = session.get(Upload, upload_id)
        if upload is None:
            slot = add_slot(session, f"slot-{name}")
            upload = Upload(
                slot_id=slot.id,
                name=f"{name}.jpg",
                blob="",
                bytes=9,
                format="jpeg",
                state=UploadState.LIVE,
            )
            session.add(upload)
            session.flush()
        job = Task(kind=TaskKind.UPLOAD, upload_id=upload.id)
        session.add(job)
        session.flush()
        files = [
            File(cut="whole", path=f"2026/11/{name}-{at}.webp", format=Format.WEBP, width=90, height=60, bytes=len(data),
                 sha256=store.blobs.put(data).sha256, quality=1, reused=False)
            for at, data in enumerate(contents)
        ]  # fmt: skip
        exchange(session, upload.id, job.id, files, waiting=waiting)
        return upload.id


def written(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def test_live_files_are_written_once_and_cleared_when_they_are_not_live_any_more(
    store: Store, tmp_path: Path
) -> None:
    out = tmp_path / "out"
    first = live(store, "kite", [b"one", b"two"])
    live(store, "held", [b"secret"], waiting=True)
    runner = CliRunner()
    command = ["publish", str(out), "--data", str(store.folder)]
    said = runner.invoke(app, command)
    assert said.exit_code == 0, said.output
    assert "2 written, 0 there already" in said.output
    files = written(out)
    manifest = SiteManifest.model_validate_json(files["manifest.json"])
    assert [upload.id for upload in manifest.uploads] == [first]
    for file in manifest.files:
        assert hashlib.sha256(files[file.path]).hexdigest() == file.sha256
    assert set(files) == {"manifest.json", *(file.path for file in manifest.files)}
    assert b"secret" not in files.values()

    live(store, "kite", [b"one", b"three"], upload_id=first)
    assert "1 written, 1 there already, 0 cleared" in runner.invoke(app, command).output
    assert len(written(out)) == 4, "pages may still show the one before"
    assert "--clear" in runner.invoke(app, command).output
    (out / "notes.txt").write_text("not ours")
    assert "1 cleared" in runner.invoke(app, [*command, "--clear"]).output
    assert sorted(written(out).values(), key=len)[0:2] == [b"one", b"three"]
    assert (out / "notes.txt").exists()
    only = runner.invoke(
        app, ["publish", str(tmp_path / "only"), "--data", str(store.folder), "--slot", "slot-held"]
    )
    assert "0 uploads" in only.output


def test_one_slot_is_published_and_cleared_without_the_others(store: Store, tmp_path: Path) -> None:
    live(store, "one", [b"1", b"2"])
    live(store, "two", [b"3"])
    place = FolderPlace(tmp_path, store.blobs)
    with store.reading() as session:
        whole = site_manifest(session)
    publish(whole, place)
    with store.session() as session:
        gone = session.exec(select(Upload).where(Upload.name == "one.jpg")).one()
        gone.removed = now()
        session.add(gone)
    with store.reading() as session:
        only = site_manifest(session, ["slot-one"])
    done = publish(only, place, clear=True, slots=["slot-one"])
    assert done.cleared == 2
    assert b"3" in written(tmp_path).values()
    (kept,) = SiteManifest.model_validate_json((tmp_path / "manifest.json").read_bytes()).uploads
    assert kept.slot == "slot-two"


def test_a_manifest_that_names_other_files_clears_nothing_outside(
    store: Store, tmp_path: Path
) -> None:
    outside = tmp_path / "outside.txt"
    outside.write_text("mine")
    out = tmp_path / "out"
    out.mkdir()
    evil = {"gefa_site": 1, "uploads": [], "earlier": ["../outside.txt", "/etc/hostname", "", "."]}
    (out / "manifest.json").write_text(json.dumps(evil))
    with store.session() as session:
        publish(site_manifest(session), FolderPlace(out, store.blobs), clear=True)
    assert outside.read_text() == "mine"
    assert Path("/etc/hostname").exists()


def test_files_of_others_stay_and_their_manifest_stops_it(store: Store, tmp_path: Path) -> None:
    live(store, "one", [b"first", b"second"])
    with store.session() as session:
        manifest = site_manifest(session)
    out = tmp_path / "out"
    mine = out / manifest.files[0].path
    mine.parent.mkdir(parents=True)
    mine.write_text("mine")
    done = publish(manifest, FolderPlace(out, store.blobs), clear=True)
    assert (done.taken, done.written) == ([manifest.files[0].path], 1)
    assert mine.read_text() == "mine"
    (out / "manifest.json").write_text('{"name": "An application", "icons": []}')
    with pytest.raises(PlanError, match="did not write"):
        publish(manifest, FolderPlace(out, store.blobs))


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["publish"], "name a folder"),
        (["publish", "out", "--data", "nowhere"], "no site in nowhere"),
    ],
)
def test_publishing_nothing_says_what_is_missing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, arguments: list[str], said: str
) -> None:
    monkeypatch.chdir(tmp_path)
    result = CliRunner().invoke(app, arguments)
    assert (result.exit_code, said in result.output) == (2, True)
    assert not list(tmp_path.iterdir())


def test_a_queue_that_cannot_be_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("GEFA_QUEUE", "amqp://nowhere")
    result = CliRunner().invoke(app, ["worker"])
    assert (result.exit_code, "GEFA_QUEUE: a queue is redis://" in result.output) == (2, True)

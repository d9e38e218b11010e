"""Every kind of file through every door, in the processes that people run."""

from __future__ import annotations

import io
import json
import os
import random
import re
import subprocess
import sys
import time
import zipfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import pytest
from tusclient import client as tus

from gefa.core.deliver.manifest import Manifest
from gefa.store.keys import Right, new_key
from gefa.store.slots import add_slot
from gefa.store.store import Store
from tests.conftest import Server, eventually, start
from tests.kinds import BY_NAME, KINDS, Kind, check_picture, content, zipped
from tests.web.test_cutting import change

SEED = int(os.environ.get("GEFA_SEED", time.time()))
"""picks the kinds that go through the rarer doors; printed where a test fails"""
WRONG = ("Traceback", "damaged", "could not be made", "is blocked", "Unhandled", "mistake")
"""words of false reasons and of crashes: all the files are sound"""
FLAT = [kind for kind in KINDS if kind.flat]


def some(count: int, kinds: list[Kind] | None = None) -> list[Kind]:
    print(f"GEFA_SEED={SEED}")
    return random.Random(SEED).sample(kinds or list(KINDS), count)


def gefa(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    command = [str(Path(sys.executable).with_name("gefa")), *words]
    said = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=600)
    sound(said.stdout + said.stderr)
    return said


def sound(told: str) -> None:
    for word in WRONG:
        assert word not in told, told[-3000:]


def check_made(manifest: Manifest, load: Callable[[str], bytes], folder: str = "") -> None:
    """That each kind has what it has to have, from its widest file."""
    for kind in KINDS:
        source = f"{folder}{kind.name}"
        cuts = [cut for cut in manifest.cuts if cut.source == source]
        files = [file for file in manifest.files if file.source == source]
        assert len(cuts) == kind.cuts, f"{source}: {[cut.name for cut in cuts]} {manifest.left_out}"
        if kind.css:
            assert cuts[0].css, source
            assert not files, source
            continue
        drawn = [file for file in files if file.format.value == "svg"]
        assert bool(drawn) is kind.drawn, source
        if drawn:
            assert b"<svg" in load(drawn[0].path), source
            continue
        assert any(file.moves for file in files) is (kind.frames > 1), source
        formats = {file.format for file in files}
        for format in formats:
            own = [f for f in files if f.format is format and f.cut == cuts[0].name]
            widest = max(own, key=lambda file: file.width)
            check_picture(kind, load(widest.path), widest.width)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("kinds")
    for kind in KINDS:
        (folder / kind.name).write_bytes(content(kind.name))
    return folder


def test_the_command_line_takes_every_kind(folder: Path) -> None:
    names = [kind.name for kind in KINDS]
    dry = gefa(folder, "export", *names, "--out", "out", "--dry-run", "--weights", "--json")
    assert dry.returncode == 0, dry.stderr
    said = gefa(folder, "export", *names, "--out", "out")
    assert said.returncode == 0, said.stderr
    out = folder / "out"
    manifest = Manifest.model_validate_json((out / "manifest.json").read_text())
    check_made(manifest, lambda path: (out / path).read_bytes())
    told = json.loads(dry.stdout)
    assert abs(told["made"] - len(manifest.files)) <= 0.2 * len(manifest.files)
    assert gefa(folder, "check", *names, "--out", "out").returncode == 0
    for kind in some(4):
        said = gefa(folder, "parts", kind.name)
        assert said.returncode == 0, said.stderr
        assert "120 × 80" in said.stdout, said.stdout


def test_a_zip_and_a_watched_export_take_what_a_plain_one_takes(
    folder: Path, tmp_path: Path
) -> None:
    kinds = [*some(3), BY_NAME["moves.gif"]]
    (tmp_path / "pack.zip").write_bytes(zipped([kind.name for kind in kinds]))
    assert gefa(tmp_path, "export", "pack.zip", "--out", "out").returncode == 0
    for kind in kinds:
        (tmp_path / kind.name).write_bytes(content(kind.name))
    command = [str(Path(sys.executable).with_name("gefa")), "export", "--watch", "--out", "watched"]
    with (tmp_path / "log").open("w+") as log:
        watching = subprocess.Popen(
            [*command, *(kind.name for kind in kinds)], cwd=tmp_path, stdout=log, stderr=log
        )
        try:
            eventually(lambda: "waiting for the next save" in (tmp_path / "log").read_text())
            (tmp_path / kinds[-1].name).write_bytes(content("moves.gif") + b"\0")
            again = "waiting for the next save"
            eventually(lambda: (tmp_path / "log").read_text().count(again) == 2)
        finally:
            watching.terminate()
            watching.wait(20)
    sound((tmp_path / "log").read_text())
    assert "0 failed" in (tmp_path / "log").read_text()


def test_a_served_site_takes_every_kind(
    folder: Path, tmp_path: Path, free_port: Callable[[], int]
) -> None:
    # On a server, parts without a tag wait to be ticked.
    kinds = {*some(5, [kind for kind in KINDS if kind.name != "pages.tif"]), BY_NAME["moves.png"]}
    for kind in kinds:
        (tmp_path / kind.name).write_bytes(content(kind.name))
    (tmp_path / "gefa.toml").write_text('out = "img"\n')
    log = tmp_path / "log.txt"
    server = start("serve", tmp_path / ".gefa", free_port(), "--site", str(tmp_path), log=log)
    try:
        with server.client(follow_redirects=True) as pages:
            for kind in kinds:
                eventually(partial(_shows, pages, kind.name))
            eventually(lambda: "ing…" not in pages.get("/").text)
            pages.post("/runs", data={"what": "all"})
            eventually((tmp_path / "img/manifest.json").exists)
    finally:
        server.stop()
    sound(log.read_text())
    assert gefa(tmp_path, "check").returncode == 0


@pytest.fixture(scope="module")
def served(
    tmp_path_factory: pytest.TempPathFactory, free_port: Callable[[], int]
) -> Iterator[Server]:
    folder = tmp_path_factory.mktemp("doors")
    log = folder / "log.txt"
    server = start("serve", folder / "data", free_port(), "--workers", "2", log=log)
    yield server
    server.stop()
    sound(log.read_text())


def test_the_desk_a_recipe_and_a_proof_take_every_kind(served: Server) -> None:
    with served.client(follow_redirects=True) as pages:
        names = [kind.name for kind in KINDS]
        answer = pages.post(
            "/sources",
            files={"file": ("pack.zip", zipped(names))},
            headers={"Accept": "application/json"},
        )
        results = answer.json()["results"]
        assert [one["problem"] for one in results] == [""] * len(KINDS)
        eventually(lambda: "ing…" not in pages.get("/").text)
        ids = {one["name"].rpartition("/")[2]: one["source"] for one in results}
        for part in ("Page 1", "Page 2"):  # on a server, parts without a tag wait to be ticked
            change(pages, ids["pages.tif"], do="tick", part=part, on="true")
        run = str(pages.post("/runs", data={"what": "all"}).url.path)
        eventually(lambda: "Weight of all files" in pages.get(run).text)
        manifest = Manifest.model_validate(pages.get(f"{run}/manifest.json").json())
        assert manifest.failed == []
        bundle = zipfile.ZipFile(io.BytesIO(pages.get(f"{run}/bundle.zip").content))
        check_made(manifest, bundle.read, "inside/")
        for kind in some(3, FLAT):
            address = f"/recipes/figure/effect?sample={ids[kind.name]}&part=/"
            told = _when_done(pages, address, "Trying the recipe")
            sound(told)
            assert "tried/" in told, kind.name
        for kind in some(3, FLAT):
            cut = next(c.name for c in manifest.cuts if c.source == f"inside/{kind.name}")
            reference = f"{run}/proof/{cut}/reference?width=120"
            pages.post(reference)
            eventually(partial(_is_there, pages, reference))
            check_picture(kind, pages.get(reference).content, 120)


def _shows(pages: httpx.Client, name: str) -> bool:
    return name in pages.get("/").text


def _is_there(pages: httpx.Client, address: str) -> bool:
    return pages.get(address).status_code == 200


def _when_done(pages: httpx.Client, address: str, waiting: str) -> str:
    """What a page says once it is no longer ``waiting``."""

    def told() -> str:
        text = pages.post(address).text
        return "" if waiting in text else text

    return str(eventually(told))


def test_a_slot_takes_every_flat_kind(served: Server, tmp_path: Path) -> None:
    store = Store(served.folder)
    with store.changing() as session:
        slot = add_slot(session, "doors", {"crops": [{"name": "whole", "widths": [60, 120]}]})
        key = new_key(session, slot, "site", list(Right))
    store.close()
    auth = {"Authorization": f"Bearer {key}"}
    by_hand, by_form, by_pieces = FLAT[::3], FLAT[1::3], FLAT[2::3]
    with served.client(follow_redirects=False, headers=auth) as site:
        form = [("file", (kind.name, content(kind.name))) for kind in by_hand]
        assert site.post("/uploads/to/doors", files=form).status_code == 303
        for kind in by_form:
            sent = {"file": (kind.name, content(kind.name))}
            answer = site.post("/api/v1/slots/doors/uploads", files=sent)
            assert answer.status_code in (201, 202), answer.text
        for kind in by_pieces:
            path = tmp_path / kind.name
            path.write_bytes(content(kind.name))
            address = f"{served.url}/api/v1/slots/doors/resumable"
            tus.TusClient(address, headers=auth).uploader(
                str(path), chunk_size=1500, metadata={"filename": kind.name}
            ).upload()

        def settled() -> Any:
            found = site.get("/api/v1/slots/doors/uploads").json()["uploads"]
            return found if not any(one["making"] for one in found) else None

        found = {one["original"]["name"]: one for one in eventually(settled)}
        assert found.keys() == {kind.name for kind in FLAT}
        for kind in FLAT:
            upload = found[kind.name]
            assert upload["state"] == "live", f"{kind.name}: {upload['problem']}"
            assert any(v["moves"] for v in upload["variants"]) is (kind.frames > 1), kind.name
            widest = max(upload["variants"], key=lambda v: (v["width"], v["format"] == "webp"))
            check_picture(kind, site.get(widest["url"]).content, widest["width"])
        for kind in some(2, FLAT):
            sent = {"file": (kind.name, content(kind.name))}
            tried = httpx.URL(site.post("/slots/doors/trial", files=sent).headers["location"])
            address = f"/slots/doors/effect?{tried.query.decode()}"
            told = _when_done(site, address, "so far…")
            sound(told)
            assert re.search(r"\d+ files?, ", told), kind.name


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('[[sources]]\nfiles = "*.png"\nrecipe = "foto"', "line 4: sources[0].recipe: unknown recipe 'foto'"),
        ('[[cuts]]\nsource = "plian.png"\npart = "/"', "line 3: cuts[0].source: there is no source 'plian.png'; did you mean 'plain.png'?"),
        ('[[cuts]]\npart = "Kite"', "line 3: cuts[0].part: no source has the part 'Kite'"),
        ('[[pictures]]\nname = "hero"\nuse = [{ cut = "plian" }]', "line 4: pictures[0].use[0].cut: there is no cut 'plian'; did you mean 'plain'?"),
        ('[[pages]]\nname = "home"\npictures = [{ picture = "plan" }]', "line 4: pages[0].pictures[0].picture: there is no picture 'plan'; did you mean 'plain'?"),
    ],
)  # fmt: skip
def test_a_wrong_name_in_a_plan_fails_a_build(tmp_path: Path, more: str, told: str) -> None:
    (tmp_path / "plain.png").write_bytes(content("plain.png"))
    (tmp_path / "gefa.toml").write_text(f'out = "img"\n{more}\n')
    for command in ("export", "check"):
        said = gefa(tmp_path, command)
        assert said.returncode == 2
        assert told in " ".join(said.stderr.split())
    assert not (tmp_path / "img/manifest.json").exists()


def test_a_check_gives_the_warnings_of_an_export(tmp_path: Path) -> None:
    (tmp_path / "plain.png").write_bytes(content("plain.png"))
    (tmp_path / "gefa.toml").write_text('out = "img"\n[[rules]]\nparts = "A"\nsources = "*.ora"\n')
    told = "warning: *.ora: the rule 'A' is for the sources '*.ora': there is none"
    for command in (["export"], ["check"], ["check", "--format", "junit"]):
        said = gefa(tmp_path, *command)
        assert said.returncode == 0
        assert told in " ".join((said.stdout + said.stderr).split())

"""What an out folder remembers: across exports that are stopped, checkouts, and versions."""

from __future__ import annotations

import json
import shutil
import signal
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.treat.made import MadeVariant
from gefa.folder.out_memory import OutMemory
from gefa.store.database import DATABASE
from tests.conftest import eventually
from tests.make import photo

PLAN = """
out = "img"
default = "small"
[recipes.small]
formats = ["webp", "avif"]
quality = {{ webp = 50, avif = 40 }}
widths = {widths}
name = "{name}"
"""


def plan(site: Path, widths: str = "[20, 60]", name: str = "{cut}-{width}.{ext}") -> None:
    (site / "gefa.toml").write_text(PLAN.format(widths=widths, name=name))


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    (folder / "photos").mkdir(parents=True)
    for number in range(3):
        photo(60, 40, number).pngsave(str(folder / "photos" / f"p{number}.png"))
    plan(folder)
    return folder


def gefa(folder: Path, *words: str, code: int = 0) -> str:
    command = [str(Path(sys.executable).with_name("gefa")), *words]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=300)
    assert done.returncode == code, done.stderr
    return done.stdout


def made(site: Path) -> dict[str, bytes]:
    out = site / "img"
    found = [path for path in out.rglob("*") if path.is_file() and ".gefa" not in path.parts]
    return {str(p.relative_to(out)): p.read_bytes() for p in found if p.name != MANIFEST}


def test_a_checkout_needs_nothing_but_files_and_manifest(site: Path) -> None:
    gefa(site, "export")
    files = made(site)
    out = site / "img"
    assert (out / ".gefa" / ".gitignore").read_text() == "*\n"
    shutil.rmtree(out / ".gefa")
    edited, touched = sorted(files)[0], sorted(files)[1]
    (out / edited).write_bytes(files[edited] + b"\0")
    (out / touched).touch()
    assert "damaged" not in gefa(site, "check", code=1).replace(f"damaged: {edited}", "")
    assert not (out / ".gefa").exists(), "a check writes nothing"
    assert "1 made, 11 reused" in gefa(site, "export")
    assert made(site) == files
    assert "up to date" in gefa(site, "check")


def test_nothing_is_done_where_nothing_has_changed(site: Path) -> None:
    gefa(site, "export")
    out, files = site / "img", made(site)
    assert "12 made" not in gefa(site, "export")
    left = (out / MANIFEST).stat()
    assert "0 made, 12 reused, 0 dropped" in gefa(site, "export")
    assert (out / MANIFEST).stat() == left, "not even the manifest is written"
    # Whatever an export depends on is noticed.
    (out / "photos" / "p0-20.webp").write_bytes(b"edited")
    assert "1 made, 11 reused" in gefa(site, "export")
    (out / "photos" / "p0-60.avif").unlink()
    assert "1 made, 11 reused" in gefa(site, "export")
    photo(60, 40, 9).pngsave(str(site / "photos" / "p0.png"))
    assert "4 made, 8 reused" in gefa(site, "export")
    photo(60, 40, 0).pngsave(str(site / "photos" / "p0.png"))
    assert "4 made, 8 reused" in gefa(site, "export")
    assert made(site) == files
    plan(site, widths="[20]")
    assert "0 made, 6 reused, 6 dropped" in gefa(site, "export")
    photo(60, 40, 0).pngsave(str(site / "photos" / "p0.jpg"))
    assert "photos/p0-png-20.webp" not in files
    gefa(site, "export")
    assert "photos/p0-png-20.webp" in made(site), "a file beside a source changes its files' names"


@pytest.mark.parametrize("harm", ["damaged", "unreadable version"])
def test_a_cache_that_cannot_be_used_is_begun_anew(site: Path, harm: str) -> None:
    gefa(site, "export")
    database = site / "img" / ".gefa" / DATABASE
    if harm == "damaged":
        database.write_bytes(b"SQLite format 3\0" + bytes(5000))
    else:
        with sqlite3.connect(database) as opened:
            opened.execute("UPDATE alembic_version SET version_num = '9999'")
        opened.close()
    assert "0 to make, 12 to reuse" in gefa(site, "export", "--dry-run")
    assert "0 made, 12 reused" in gefa(site, "export")


def _stopped(site: Path, how: signal.Signals) -> bool:
    """Stop an export once it has placed a file; returns whether that was before its end."""
    command = [str(Path(sys.executable).with_name("gefa")), "export", "--jobs", "1"]
    export = subprocess.Popen(
        command, cwd=site, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    before = set(made(site))
    eventually(lambda: set(made(site)) - before or export.poll() is not None, step=0.002)
    export.send_signal(how)
    return export.wait(60) != 0


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_a_stopped_export_is_continued_by_any_plan(site: Path, how: signal.Signals) -> None:
    for number in range(3, 7):  # so many that it is still at work when it is stopped
        photo(500, 400, number).pngsave(str(site / "photos" / f"p{number}.png"))
    plan(site, widths="[20, 400]")
    _stopped(site, how)
    placed = made(site)
    assert placed
    assert not [path for path in placed if path.endswith(".part")]
    told = json.loads(gefa(site, "export", "--json"))
    assert told["reused"] >= len(placed), "what was made before is known"
    assert placed.items() <= made(site).items()
    # Now another plan is stopped, and then the first one runs again: nothing of the other stays.
    files = made(site)
    plan(site, widths="[24, 300]", name="other/{cut}-{width}.{ext}")
    in_time = _stopped(site, how)
    plan(site, widths="[20, 400]")
    told = json.loads(gefa(site, "export", "--json"))
    # One that came to its end has removed the files of the first plan.
    assert told["made"] + told["reused"] == len(files)
    assert told["made"] == 0 or not in_time
    assert made(site) == files


def test_a_layout_that_a_stopped_export_left_is_kept_where_it_is_made_again(site: Path) -> None:
    gefa(site, "export", "--layout")
    layouts = {path for path in made(site) if "-layout." in path}
    assert layouts
    (site / "img" / MANIFEST).unlink()  # as if it had been stopped just before its end
    gefa(site, "export", "--layout")
    assert layouts <= made(site).keys()
    assert "up to date" in gefa(site, "check")


def test_a_cache_that_cannot_be_opened_is_told(site: Path) -> None:
    (site / "img" / ".gefa" / DATABASE).mkdir(parents=True)
    command = [str(Path(sys.executable).with_name("gefa")), "export"]
    done = subprocess.run(command, cwd=site, capture_output=True, text=True, timeout=300)
    assert done.returncode == 2
    assert "cannot be used: unable to open database file" in " ".join(done.stderr.split())
    assert "Traceback" not in done.stderr
    assert "12 to make" in gefa(site, "export", "--dry-run")


def test_a_cache_that_cannot_be_written_any_more_is_told_and_costs_no_file(
    tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    (tmp_path / ".gefa").mkdir()
    memory = OutMemory(tmp_path)
    with closing(memory):
        assert memory._database is not None
        with memory._database.changing() as session:
            session.connection().exec_driver_sql("DROP TABLE made")
        memory.write({"k": MadeVariant(sha256="0" * 64, bytes=1)}, {}, {"a.webp": ("k", 1)})
        memory.flush()
        memory.flush()
    assert caplog.text.count("cannot be written") == 1


def test_what_nothing_makes_is_cleaned_and_what_was_edited_stays(site: Path) -> None:
    gefa(site, "export")
    plan(site, widths="[20]")
    out = site / "img"
    (out / "photos" / "p1-60.webp").write_bytes(b"mine now")
    # Of the other sources nothing is known to an export of one.
    gefa(site, "export", "photos/p0.png")
    said = gefa(site, "clean")
    assert "3 files" in said
    assert "photos/p1-60.webp" in said
    assert "it stays" in said
    assert len(made(site)) == 10, "it only lists"
    assert "removed 3 files" in gefa(site, "clean", "--yes")
    assert sorted(made(site)) == [
        *(f"photos/p{n}-20.{kind}" for n in range(2) for kind in ("avif", "webp")),
        "photos/p1-60.webp",
        *(f"photos/p2-20.{kind}" for kind in ("avif", "webp")),
    ]
    manifest = Manifest.model_validate_json((out / MANIFEST).read_text())
    assert {file.width for file in manifest.files} == {20}
    assert "nothing to remove" in gefa(site, "clean")
    assert "0 made, 6 reused" in gefa(site, "export")
    assert (out / "photos" / "p1-60.webp").read_bytes() == b"mine now"


def test_cleaning_a_folder_that_is_not_there_makes_none(site: Path) -> None:
    assert "nothing to remove" in gefa(site, "clean", "--yes")
    assert not (site / "img").exists()


def test_two_exports_into_one_folder_wait_for_each_other(site: Path) -> None:
    command = [str(Path(sys.executable).with_name("gefa")), "export"]
    both = [subprocess.Popen(command, cwd=site, stdout=subprocess.PIPE, text=True) for _ in "ab"]
    said = [one.communicate(timeout=300)[0] for one in both]
    assert [one.returncode for one in both] == [0, 0]
    assert sorted(line.split(",")[0] for line in "".join(said).splitlines() if "made" in line) == [
        "0 made",
        "12 made",
    ]

"""Data folders and out folders of earlier versions, as these left them."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from gefa.store.database import DATABASE, STEPS, FolderTrouble
from gefa.store.store import Store
from tests.conftest import start

FOLDERS = Path(__file__).parent.with_name("older") / "0016.zip"
"""one source with its run, a slot with an upload, both keys in ``keys.txt``; a site that was exported"""


@pytest.fixture
def older(tmp_path: Path) -> Path:
    with zipfile.ZipFile(FOLDERS) as packed:
        packed.extractall(tmp_path)
    return tmp_path


def test_a_server_continues_with_older_data(older: Path, free_port: Callable[[], int]) -> None:
    site_key, slot_key = (older / "data" / "keys.txt").read_text().split()
    server = start("serve", older / "data", free_port(), "--workers", "1")
    try:
        with server.client(headers={"Authorization": f"Bearer {slot_key}"}) as form:
            (upload,) = form.get("/api/v1/slots/wall/uploads").json()["uploads"]
            assert (upload["state"], upload["alt"]) == ("live", "Crest")
            assert all(form.get(file["url"]).is_success for file in upload["variants"])
        with server.client() as pages:
            assert upload["id"] in pages.get("/uploads", params={"q": "CREST"}).text
        with server.client(headers={"Authorization": f"Bearer {site_key}"}) as build:
            (run,) = build.get("/api/v1/runs").json()["runs"]
            waiting = {"Prefer": "wait=60"}
            again = build.post("/api/v1/runs", json={"sources": "all"}, headers=waiting).json()
            assert again["counts"]["reused"] == run["counts"]["files"] == again["counts"]["files"]
    finally:
        server.stop()


def test_an_older_export_is_known(older: Path) -> None:
    def gefa(*words: str) -> str:
        command = [sys.executable, "-m", "gefa", *words]
        return subprocess.run(command, cwd=older / "site", capture_output=True, text=True).stdout

    assert "0 to make, 4 to reuse" in gefa("export", "--dry-run")
    assert "0 made, 4 reused" in gefa("export")


def test_data_from_before_the_first_version_is_refused(older: Path) -> None:
    with sqlite3.connect(older / "data" / DATABASE) as database:
        database.execute("UPDATE alembic_version SET version_num = '0015'")
    database.close()
    with pytest.raises(FolderTrouble, match=r"from before 0\.1\.0.*27 November 2026"):
        Store(older / "data")
    assert STEPS[0] == "0016"

"""Addresses of uploads in built pages, found in the data of a server that goes on working."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx
import pytest

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import SourceError
from gefa.core.plan.plan import Plan
from gefa.core.weigh.addresses import FindUpload, FoundFile
from gefa.core.weigh.audience import neutral
from gefa.folder.page_weights import Weighing
from gefa.store.upload_addresses import uploads_in
from tests.conftest import Server
from tests.web.test_uploads import jpeg, send


@pytest.fixture
def api(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(headers={"Authorization": f"Bearer {demo.key}"}) as client:
        yield client


@pytest.fixture
def upload(api: httpx.Client) -> dict[str, Any]:
    found: dict[str, Any] = send(api, jpeg(900, 600, 7), "dunes.jpg").json()
    return found


@pytest.fixture
def find(demo: Server) -> Iterator[FindUpload]:
    with uploads_in(demo.folder) as found:
        yield found


def test_every_address_gives_the_file_that_is_served_there(
    upload: dict[str, Any], find: FindUpload, api: httpx.Client
) -> None:
    assert upload["variants"]
    for variant in upload["variants"]:
        found = find(urlsplit(f"https://kites.example{variant['url']}"))
        assert isinstance(found, FoundFile)
        assert found.bytes == len(api.get(variant["url"]).content)
        assert (found.width, found.path) == (variant["width"], variant["url"])


@pytest.mark.parametrize("query", ["", "?w=400", "?w=99999", "?crop=square&w=300", "?w=no"])
def test_an_address_that_names_no_file_counts_as_what_browsers_get(
    upload: dict[str, Any], find: FindUpload, api: httpx.Client, query: str
) -> None:
    address = f"/m/{upload['id']}{query}"
    found = find(urlsplit(address))
    answer = api.get(address, headers={"Accept": "image/avif,image/webp,image/*"})
    if query == "?w=no":  # the server refuses it; here the width is as if nobody had told one
        answer = api.get(f"/m/{upload['id']}", headers={"Accept": "image/avif,image/webp"})
    assert isinstance(found, FoundFile)
    assert found.bytes == len(answer.content)


def test_what_is_no_live_file_is_told(
    upload: dict[str, Any], find: FindUpload, api: httpx.Client, demo: Server
) -> None:
    url = upload["variants"][0]["url"]
    assert find(urlsplit("/img/m/else.png")) is None
    assert find(urlsplit("/m/nobody/0123456789ab/x.webp")) is None
    wrong = url.replace(url.split("/")[3], "0" * 12)
    assert find(urlsplit(wrong)) == f"/m/{upload['id']} has no live file at this address"
    assert api.delete(f"/api/v1/uploads/{upload['id']}").is_success
    with uploads_in(demo.folder) as now:
        assert now(urlsplit(url)) == f"/m/{upload['id']} was removed"


def test_a_built_page_is_weighed_with_its_uploads(
    upload: dict[str, Any], find: FindUpload, tmp_path: Path
) -> None:
    (tmp_path / "page.html").write_text(
        f'<img src="{upload["variants"][0]["url"]}" alt="Dunes" width="480" height="320">'
    )
    weighing = Weighing(Plan(), Manifest(sources=[]), neutral(), tmp_path, uploads=find)
    page = weighing.html(tmp_path / "page.html", tmp_path)
    assert page.worst == upload["variants"][0]["bytes"]
    assert not [fault for fault in weighing.faults if "not there" in fault.reason]


def test_a_folder_without_readable_data_is_told(tmp_path: Path) -> None:
    with uploads_in(None) as find:
        assert find(urlsplit("/m/x")) is None
    with pytest.raises(SourceError, match="has no Gefa data"), uploads_in(tmp_path):
        pass
    (tmp_path / "gefa.sqlite3").write_bytes(b"no database at all, though it is long enough" * 99)
    with pytest.raises(SourceError, match="cannot be read"), uploads_in(tmp_path) as find:
        find(urlsplit("/m/x"))

"""The site over the API: sources, plan and runs with a key, as a build would."""

from __future__ import annotations

import html
import io
import json
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import httpx
import pytest

from gefa.core.deliver.manifest import Manifest
from gefa.core.plan.load import parse_plan
from gefa.store.keys import SiteRight, new_site_key
from gefa.store.store import Store
from tests.conftest import Server, eventually
from tests.make import flat, photo

API = "/api/v1"


@dataclass
class Build:
    """A server without sources, and what a program with a key asks of it."""

    server: Server
    client: httpx.Client
    reader: httpx.Client

    def ask(self, method: str, path: str, status: int = 200, **more: Any) -> Any:
        answer = self.client.request(method, f"{API}{path}", **more)
        assert answer.status_code == status, answer.text
        return answer.json() if "json" in answer.headers.get("content-type", "") else answer

    def bring(self, files: dict[str, bytes], status: int = 201) -> list[dict[str, Any]]:
        form = [("file", (name, data)) for name, data in files.items()]
        return list(self.ask("POST", "/sources", status, files=form)["results"])

    def ready(self, files: dict[str, bytes]) -> dict[str, str]:
        """Ids by path, once all are read."""
        ids = {one["path"]: one["id"] for one in self.bring(files)}

        def read() -> bool:
            found = self.ask("GET", "/sources")["sources"]
            return all(one["state"] != "reading" for one in found)

        eventually(read)
        return ids

    def run(self, sources: object) -> dict[str, Any]:
        headers = {"Prefer": "wait=60"}
        told = self.ask("POST", "/runs", json={"sources": sources}, headers=headers)
        assert told["state"] == "done", told
        return dict(told)


def opened(server: Server, *rights: SiteRight) -> httpx.Client:
    store = Store(server.folder)
    with store.changing() as session:
        key = new_site_key(session, "build", rights)
    store.close()
    return server.client(headers={"Authorization": f"Bearer {key}"})


@pytest.fixture
def build(empty_server: Server) -> Iterator[Build]:
    with (
        opened(empty_server, SiteRight.BUILD) as client,
        opened(empty_server, SiteRight.READ) as reader,
    ):
        yield Build(empty_server, client, reader)


def pictures() -> dict[str, bytes]:
    return {
        "photos/noon.jpg": photo(120, 80, 1).jpegsave_buffer(),
        "photos/dusk.jpg": photo(90, 60, 2).jpegsave_buffer(),
        "crest.png": flat(400, 300).pngsave_buffer(),
    }


def test_sources_are_brought_in_found_changed_removed_and_had_back(build: Build) -> None:
    ids = build.ready(pictures())
    found = build.ask("GET", "/sources?folder=photos&sort=name")
    assert [one["path"] for one in found["sources"]] == ["photos/dusk.jpg", "photos/noon.jpg"]
    assert (found["total"], found["next"]) == (2, None)
    noon = ids["photos/noon.jpg"]
    changed = build.ask(
        "PATCH",
        f"/sources/{noon}",
        json={"path": "archive/noon.jpg", "tags": ["beach"], "recipe": "icon"},
    )
    assert (changed["path"], changed["tags"], changed["recipe"]) == (
        "archive/noon.jpg", ["beach"], "icon",
    )  # fmt: skip
    assert build.ask("PATCH", f"/sources/{noon}", json={"tags": []})["tags"] == []
    clash = build.ask("PATCH", f"/sources/{noon}", 422, json={"path": "crest.png"})
    assert "there is a source called crest.png" in clash["detail"]
    assert (
        "no recipe" in build.ask("PATCH", f"/sources/{noon}", 422, json={"recipe": "x"})["detail"]
    )
    build.ask("DELETE", f"/sources/{noon}", 204)
    build.ask("GET", f"/sources/{noon}", 404)
    assert build.ask("POST", f"/sources/{noon}/restore")["path"] == "archive/noon.jpg"
    assert build.ask("GET", "/sources?standing=new")["total"] == 3


def test_each_file_has_its_own_result_and_the_same_again_is_said(build: Build) -> None:
    build.ready(pictures())
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("deep/down/pier.jpg", photo(50, 40, 3).jpegsave_buffer())
        archive.writestr("notes.txt", "words")
    files = {"crest.png": pictures()["crest.png"], "empty.png": b"", "more.zip": packed.getvalue()}
    told = build.bring(files, 207)
    assert [(one["path"], one["same"], "problem" in one) for one in told] == [
        ("crest.png", True, False),
        ("empty.png", False, True),
        ("deep/down/pier.jpg", False, False),
        ("notes.txt", False, True),
    ]
    assert (told[1]["problem"]["status"], told[3]["problem"]["status"]) == (422, 415)
    assert told[1]["problem"]["detail"].startswith("empty.png is empty")
    (broken,) = build.bring({"half.jpg": photo(900, 600, 4).jpegsave_buffer()[:2000]})
    eventually(lambda: build.ask("GET", f"/sources/{broken['id']}")["state"] == "failed")
    assert build.ask("GET", f"/sources/{broken['id']}")["problem"]
    build.ask("POST", "/sources", 422, files={"other": b"x"})


def test_the_plan_is_read_and_replaced_with_care(build: Build) -> None:
    build.ready(pictures())
    before = build.client.get(f"{API}/plan")
    tag = before.headers["etag"]
    text = (
        'out = "img"\n[recipes.card]\nformats = ["webp"]\nwidths = [40]\n'
        '[[sources]]\nfiles = "photos/*"\nrecipe = "card"\n'
    )
    put = build.client.put(f"{API}/plan", content=text, headers={"If-Match": tag})
    assert put.status_code == 200
    assert parse_plan(put.text, "p") == parse_plan(text, "p")
    late = build.ask("PUT", "/plan", 412, content=text, headers={"If-Match": tag})
    assert "GET it" in late["detail"]
    bad = build.ask("PUT", "/plan", 422, content="[recipes.card]\nformats = ['webp']\nwidts = 1\n")
    assert "line 3: recipes.card: unknown key 'widts'" in bad["detail"]
    assert "did you mean 'widths'" in bad["detail"]
    build.ask("PUT", "/plan", 422, content="[[")
    build.ask("PUT", "/plan", 413, content="#" * 2_000_001)
    told = build.run("all")
    assert told["counts"] == {
        "sources": 3, "cuts": 3, "cuts_done": 3, "files": 4,
        "bytes": told["counts"]["bytes"],
        # Small files are made when they are estimated.
        "reused": told["counts"]["reused"],
    }  # fmt: skip


@pytest.mark.parametrize(
    ("wrong", "place", "reason"),
    [
        ('[[cuts]]\nsource = "crets.png"\npart = "/"\n', "line 2: cuts[0].source",
         "there is no source 'crets.png'; did you mean 'crest.png'?"),
        ('[[cuts]]\npart = "Sky"\n', "line 2: cuts[0].part", "no source has the part 'Sky'"),
        ('[[pictures]]\nname = "p"\nuse = [{ cut = "noom" }]\n', "line 3: pictures[0].use[0].cut",
         "there is no cut 'noom'; did you mean 'noon'?"),
        ('[[pages]]\nname = "p"\npictures = [{ picture = "dsk", sizes = "9px" }]\n',
         "line 3: pages[0].pictures[0].picture",
         "there is no picture 'dsk'; did you mean 'dusk'?"),
    ],
)  # fmt: skip
def test_a_plan_with_unknown_names_is_refused(
    build: Build, wrong: str, place: str, reason: str
) -> None:
    # Without sources nobody can know which names are wrong.
    build.ask("PUT", "/plan", content=wrong)
    build.ask("PUT", "/plan", content="")
    build.ready(pictures())
    refused = build.ask("PUT", "/plan", 422, content=wrong)
    assert f"gefa.toml: {place}: {reason}" in refused["detail"], refused
    with build.server.client() as pages:
        preview = pages.post("/plan/preview", files={"file": ("p.toml", wrong.encode())})
    assert reason in html.unescape(preview.text)
    assert build.ask("GET", "/plan").text == ""
    build.ask("PUT", "/plan?unknown=keep", content=wrong)
    # What the plan says already can be sent again.
    build.ask("PUT", "/plan", content=build.ask("GET", "/plan").text)


def test_what_changed_is_run_and_taken(build: Build) -> None:
    ids = build.ready(pictures())
    first = build.run("all")
    assert (first["counts"]["cuts"], first["failed"]) == (3, [])
    build.ask("POST", "/runs", 409, json={"sources": "changed"})
    build.ask("PATCH", f"/sources/{ids['crest.png']}", json={"recipe": "icon"})
    second = build.run("changed")
    assert second["counts"]["sources"] == 1
    made = Manifest.model_validate(build.ask("GET", f"/runs/{second['id']}/manifest.json"))
    assert made.sources == ["crest.png"]
    assert len(made.files) == second["counts"]["files"]
    assert second["dropped"], "what the recipe before made"
    packed = build.ask("GET", f"/runs/{first['id']}/bundle.zip").content
    with zipfile.ZipFile(io.BytesIO(packed)) as archive:
        assert any(name.startswith("photos/noon-") for name in archive.namelist())
    events = build.ask("GET", f"/runs/{first['id']}/events").text
    assert events.startswith("event: progress\ndata: ")
    assert json.loads(events.split("data: ")[-1])["state"] == "done"
    listed = build.ask("GET", "/runs")["runs"]
    assert [one["id"] for one in listed] == [second["id"], first["id"]]
    assert [one["counts"] for one in listed] == [second["counts"], first["counts"]]
    build.ask("POST", "/runs", 404, json={"sources": [ids["crest.png"], "nobody"]})
    build.ask("POST", "/runs", 422, json={"sources": "some"})
    build.ask("GET", "/runs/none", 404)


def test_the_description_says_what_answers_hold(build: Build) -> None:
    told = build.ask("GET", "/openapi.json")
    assert told["components"]["securitySchemes"]["key"]["scheme"] == "bearer"
    assert told["servers"] == [{"url": "/"}]
    paths = told["paths"]
    bundle = paths["/api/v1/runs/{run_id}/bundle.zip"]["get"]["responses"]["200"]["content"]
    assert list(bundle) == ["application/zip"]
    shown = paths["/api/v1/runs/{run_id}"]["get"]["responses"]["200"]["content"]
    assert shown["application/json"]["schema"]["$ref"].endswith("/RunAnswer")


def test_a_misspelt_word_in_a_query_is_told(build: Build) -> None:
    told = build.ask("GET", "/sources?fodler=photos", 422)
    assert told["detail"] == "There is no parameter 'fodler'. Did you mean 'folder'?"


def test_a_run_waits_for_sources_that_are_still_read(build: Build) -> None:
    build.bring({**pictures(), "torn.png": flat(400, 300).pngsave_buffer()[:900]})
    made = build.run("all")
    assert (made["counts"]["sources"], made["counts"]["cuts"]) == (3, 3)
    assert [one["cut"] for one in made["failed"]] == ["torn.png"]
    assert "still being read" not in json.dumps(made)
    build.ask("POST", "/runs", 404, json={"sources": ["abc"]})


def test_a_run_of_the_form_waits_too(build: Build) -> None:
    build.bring({"large.png": photo(1600, 1200, 8).pngsave_buffer(compression=0)})
    with build.server.client() as pages:
        begun = pages.post("/runs", data={"what": "all"})
    assert begun.status_code == 303
    run = begun.headers["location"]
    eventually(lambda: build.ask("GET", run)["state"] == "done")
    assert build.ask("GET", run)["failed"] == []
    assert build.ask("GET", run)["counts"]["cuts"] == 1


def test_a_run_that_waits_is_stopped(build: Build) -> None:
    (one,) = build.bring({"large.png": photo(4000, 3000, 7).pngsave_buffer(compression=0)})
    begun = build.ask("POST", "/runs", 202, json={"sources": [one["id"]]})
    assert (begun["state"], begun["counts"]["sources"]) == ("waiting", 1)
    assert build.ask("DELETE", f"/runs/{begun['id']}")["state"] == "stopped"
    eventually(lambda: build.ask("GET", "/sources")["sources"][0]["state"] == "ready")
    assert build.ask("GET", f"/runs/{begun['id']}")["counts"]["cuts"] == 0


def test_a_run_is_stopped(build: Build) -> None:
    build.ready({f"{n}.jpg": photo(1400, 1000, n).jpegsave_buffer() for n in range(12)})
    begun = build.ask("POST", "/runs", 202, json={"sources": "all"})
    assert begun["state"] in ("waiting", "running")
    stopped = build.ask("DELETE", f"/runs/{begun['id']}")
    assert stopped["state"] == "stopped"
    assert "the run was stopped" in stopped["left_out"][-1]["reason"]
    assert build.ask("GET", f"/runs/{begun['id']}")["state"] == "stopped"


def test_rights_are_held_to(build: Build) -> None:
    ids = build.ready({"crest.png": pictures()["crest.png"]})
    one = f"{API}/sources/{ids['crest.png']}"
    reading = build.reader
    assert reading.get(one).status_code == 200
    assert reading.get(f"{API}/plan").status_code == 200
    for method, path, more in (
        ("POST", f"{API}/sources", {"files": {"file": ("a.png", b"x")}}),
        ("PATCH", one, {"json": {"tags": []}}),
        ("DELETE", one, {}),
        ("POST", f"{one}/restore", {}),
        ("PUT", f"{API}/plan", {"content": ""}),
        ("POST", f"{API}/runs", {"json": {"sources": "all"}}),
        ("DELETE", f"{API}/runs/x", {}),
    ):
        answer = reading.request(method, path, **more)
        assert answer.status_code == 403, (method, path, answer.text)
        assert "right to build" in answer.json()["detail"]
    with build.server.client() as nobody:
        for path in ("/sources", "/plan", "/runs"):
            assert nobody.get(f"{API}{path}").status_code == 401


def test_keys_of_the_site_are_made_and_revoked_on_their_page(build: Build) -> None:
    with build.server.client(follow_redirects=True) as owner:
        made = owner.post("/keys", data={"called": "CI", "rights": ["read"]}).text
        key = made.split('id="made">')[1].split("<")[0]
        headers = {"Authorization": f"Bearer {key}"}
        assert owner.get(f"{API}/sources", headers=headers).status_code == 200
        assert "at least one right" in owner.post("/keys", data={"called": "none"}).text
        revoke = next(
            part.split('"')[0] for part in made.split('action="')[1:] if "/revoke" in part
        )
        assert "revoked" in owner.post(revoke).text
        assert owner.get(f"{API}/sources", headers=headers).status_code == 401

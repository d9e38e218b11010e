"""Proofs, sheets and comparisons over HTTP."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.conftest import Server, eventually
from tests.make import loaded, photo
from tests.web.plans import give_plan, site_plan
from tests.web.test_cutting import change, manifest, plan, source_of
from tests.web.test_pages import png, run

PLAN = (
    'default = "plain"\n[recipes.plain]\nformats = ["webp", "jpeg"]\nwidths = [80, 160]\n'
    "every_format = true\n"
)


@pytest.fixture
def pages(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(follow_redirects=True) as client:
        yield client


def made(pages: httpx.Client, name: str, seed: int, text: str = PLAN) -> tuple[str, str]:
    """A source that was run by a plan, and its run."""
    source = source_of(pages, name, png(seed, 200, 140))
    give_plan(pages, name, text)
    return source, run(pages, source)


def curve(pages: httpx.Client, address: str) -> str:
    def whole() -> str:
        text = pages.post(address).text
        return text if "Choose a point" in text else ""

    return str(eventually(whole))


def test_a_proof_shows_a_file_its_reference_and_its_curves(pages: httpx.Client) -> None:
    _, address = made(pages, "proofed.png", 21)
    first = pages.get(f"{address}/proof")
    assert first.url.path == f"{address}/proof/proofed"
    proof = f"{address}/proof/proofed?width=160&format=jpeg"
    text = pages.get(proof).text
    assert "160 × 112\u202fpx" in text
    shown = re.search(r'data-shown="([^"]+)"', text)
    assert shown is not None
    assert shown[1].endswith("proofed-160.jpg")
    reference = f"{address}/proof/proofed/reference?width=160"
    assert pages.get(reference).status_code == 404, "looking at a page begins no work"
    assert pages.post(reference).status_code == 202
    answer = eventually(lambda: (r := pages.get(reference)).status_code == 200 and r)
    image = loaded(answer.content)
    assert (image.width, image.height, image.bands) == (160, 112, 3)
    drawn = curve(pages, f"{address}/proof/proofed/curve?width=160&format=jpeg")
    points = re.findall(r'href="([^"]+)" aria-label="(JPEG[^"]+)"', drawn)
    assert len(points) == 8, "seven numbers, and that of the run"
    assert sum("shown now" in words for _, words in points) == 1
    link = next(href for href, words in points if "quality 35" in words).replace("&amp;", "&")
    tried = pages.get(link).text
    assert "Not made yet" in tried
    file = pages.get(f"{address}/proof/proofed/made?width=160&format=jpeg&quality=35")
    assert file.headers["content-type"] == "image/jpeg"
    assert loaded(file.content).width == 160
    missing = pages.get(f"{address}/proof/proofed/made?width=160&format=jpeg&quality=36")
    assert missing.status_code == 404
    assert eventually(
        lambda: "look" in pages.get(f"{address}/proof/proofed").text.split('class="strip"')[1]
    )


def test_what_is_not_there_is_no_proof(pages: httpx.Client) -> None:
    source, address = made(pages, "proofless.png", 22)
    for path in (f"{address}/proof/other", "/runs/none/proof/a", "/runs/none/proof"):
        assert pages.get(path).status_code == 404, path
    assert pages.get(f"{address}/proof/proofless?width=abc").status_code == 422
    odd = pages.get(f"{address}/proof/proofless?width=9999&format=bmp&quality=-3")
    assert odd.status_code == 200, "the nearest that there is"
    for quality in ("²", "9" * 4000, "-1", "nan"):
        for method, path in (("GET", ""), ("POST", "/curve")):
            url = f"{address}/proof/proofless{path}"
            answer = pages.request(method, url, params={"quality": quality})
            assert answer.status_code == 200, (quality, path)
        assert (
            keep(pages, f"{address}/proof/proofless", whom="cut", quality=quality).status_code
            == 422
        )
    assert keep(pages, f"{address}/proof/proofless", whom="cut", as_look="nan").status_code == 422
    change(pages, source, do="tick", part="/")
    empty = pages.post(f"/sources/{source}/runs").url.path
    assert pages.get(f"{empty}/proof").status_code == 404


def keep(pages: httpx.Client, address: str, **fields: str) -> httpx.Response:
    return pages.post(f"{address}/keep", data={"format": "jpeg", "width": "160", **fields})


def test_a_quality_is_kept_for_a_cut_taken_back_and_kept_for_the_recipe(
    pages: httpx.Client,
) -> None:
    source, address = made(pages, "keeping.png", 23)
    proof = f"{address}/proof/keeping"
    kept = keep(pages, proof, whom="cut", quality="35")
    assert "Kept: JPEG 35 for keeping" in kept.text
    assert "An exception: JPEG 35" in kept.text
    assert "jpeg = 35" in plan(pages, source).to_toml()
    assert "exception:</b> JPEG 35" in pages.get(f"/sources/{source}").text
    again = run(pages, source)
    qualities = {(f.format.value, f.quality) for f in manifest(pages, again).files}
    assert qualities == {("webp", 75), ("jpeg", 35)}
    assert "Kept: keeping as its recipe" in keep(pages, proof, whom="nobody").text
    assert "jpeg = 35" not in plan(pages, source).to_toml()
    whole = keep(pages, proof, whom="recipe", quality="35", as_look="71.24")
    assert "Kept: look 71.2 for the recipe plain" in whole.text
    assert site_plan(pages).recipes["plain"].quality.look == 71.2  # type: ignore[union-attr]
    refused = keep(pages, proof, whom="cut", quality="")
    assert refused.status_code == 422
    assert keep(pages, proof, whom="everybody", quality="35").status_code == 422


def test_a_slice_has_a_quality_of_its_own_too(pages: httpx.Client) -> None:
    source = source_of(pages, "halves.png", png(24, 200, 100))
    give_plan(pages, "halves.png", PLAN)
    change(pages, source, do="split", columns="2", rows="1")
    address = run(pages, source)
    cut = manifest(pages, address).cuts[-1].name
    keep(pages, f"{address}/proof/{cut}", whom="cut", quality="50", width="80")
    assert plan(pages, source).slices[0].cells["r1-c2"].quality is not None
    assert pages.get(f"/sources/{source}").text.count("exception:</b>") == 1
    change(pages, source, do="slice-follow", slice="0 r1-c2")
    assert plan(pages, source).slices[0].cells["r1-c2"].quality is None


def test_the_sheet_is_switched_sorted_and_filtered(pages: httpx.Client) -> None:
    text = (
        PLAN
        + 'quality = { max_bytes = 6000 }\n[[slices]]\nsplit = { columns = 2 }\n[[cuts]]\npart = "/"\n'
    )
    _, address = made(pages, "sheeted.png", 25, text)

    def names(query: str) -> list[str]:
        page = pages.get(f"{address}?{query}")
        assert page.status_code == 200
        return re.findall(r'<span class="font-medium break-words">([^<]+)', page.text)

    plain = names("")
    assert len(plain) == 3
    by_weight = names("sort=weight")
    assert sorted(by_weight) == sorted(plain)
    files = manifest(pages, address).files
    heaviest = {
        cut: sum(f.bytes for f in files if f.cut == cut and f.format == "jpeg") for cut in plain
    }
    assert names("sort=weight&format=jpeg") == sorted(plain, key=lambda cut: -heaviest[cut])
    assert sorted(names("sort=look")) == sorted(plain)
    assert names("sort=nonsense&format=nonsense") == plain
    page = pages.get(f"{address}?format=jpeg").text
    assert "of 6.0\u202fkB" in page
    assert 'class="number used-' in page
    assert set(names("warned=1")) < set(plain) or "with warnings" not in page


def test_two_runs_are_compared(pages: httpx.Client) -> None:
    source, before = made(pages, "twice.png", 26)
    worse = PLAN + "quality = { webp = 20, jpeg = 20 }\n"
    give_plan(pages, "twice.png", worse)
    after = run(pages, source)
    older = before.rpartition("/")[2]
    page = pages.get(f"{after}/compare?against={older}")
    assert page.status_code == 200
    assert page.text.count('class="verdict-') == 4
    assert "Lighter by" in page.text
    assert older in pages.get(after).text, "the choice of runs to compare with"
    assert pages.get(f"{after}/compare?against=none").status_code == 404
    assert pages.get(f"{after}/compare").status_code == 404


def test_what_failed_is_tried_again_and_what_is_made_stays(pages: httpx.Client) -> None:
    source = source_of(pages, "tall.png", bytes(photo(20, 17_000, 3).pngsave_buffer()))
    text = 'default = "tall"\n[recipes.tall]\nformats = ["webp", "png"]\nwidths = [20]\n'
    give_plan(pages, "tall.png", text)
    address = run(pages, source)
    assert [f.format for f in manifest(pages, address).files] == ["png"]
    assert "Retry failed" in pages.get(address).text
    again = pages.post(f"{address}/again")
    assert again.url.path == address
    eventually(lambda: "Bundle (zip)" in pages.get(address).text)
    assert [f.format for f in manifest(pages, address).files] == ["png"]
    assert pages.post("/runs/none/again").status_code == 404


def test_pictures_are_laid_over_corners_from_other_sources(
    pages: httpx.Client, tmp_path: Path
) -> None:
    source_of(pages, "stamp.png", png(5, 40, 20))
    text = PLAN + 'mark = { picture = "stamp.png", opacity = 1.0 }\n'
    source, address = made(pages, "stamped.png", 27, text)
    assert len(manifest(pages, address).files) == 4
    lost = PLAN + 'mark = { picture = "nowhere.png" }\n'
    give_plan(pages, "stamped.png", lost)
    started = pages.post(f"/sources/{source}/runs").url.path
    assert "nowhere.png&#39;, is missing" in pages.get(started).text

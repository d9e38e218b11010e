"""Markup of uploads over HTTP, and the pages of slots and uploads as forms."""

from __future__ import annotations

from typing import Any

import html5lib
import httpx
import pytest

from tests.conftest import HTTP, Server
from tests.make import photo
from tests.web.test_uploads import problem


@pytest.fixture(scope="module")
def upload(demo: Server) -> str:
    """The address of a live upload with several crops."""
    answer = HTTP.post(
        f"{demo.url}/api/v1/slots/gallery/uploads",
        files={"file": ("kite.jpg", bytes(photo(900, 700, 95).gaussblur(1.5).jpegsave_buffer()))},
        data={"alt": "A kite"},
        headers={"Authorization": f"Bearer {demo.key}", "Prefer": "wait=60"},
        timeout=70,
    )
    return f"{demo.url}/api/v1/uploads/{answer.json()['id']}"


def test_markup_comes_in_every_form_and_says_what_is_loaded(upload: str) -> None:
    params: Any = {"crop": "card", "sizes": "50vw", "art": "square; (max-width: 400px); 90px",
              "lazy": False, "placeholder": "tiny", "viewport": 800, "density": 1.25}  # fmt: skip
    told = HTTP.get(f"{upload}/markup", params=params).json()
    tree = html5lib.parse(told["html"], namespaceHTMLElements=False)
    (img,) = tree.iter("img")
    assert (img.get("alt"), img.get("loading"), img.get("sizes")) == ("A kite", "eager", "50vw")
    assert "data:image/webp" in img.get("style")
    assert round(int(img.get("width")) / int(img.get("height")), 2) == 1.5
    sources = [source for source in tree.iter("source") if source.get("media")]
    assert {source.get("sizes") for source in sources} == {"90px"}
    assert {source.get("width") == source.get("height") for source in sources} == {True}
    assert (told["loads"]["width"], told["loads"]["format"]) == (640, "avif")
    assert HTTP.get(httpx.URL(upload).join(told["loads"]["url"])).status_code == 200
    assert told["jinja"].startswith("{% macro kite(")
    assert told["preload"].count("<link ") == 2
    assert "image-set(" in told["css"]
    assert {source["type"] for source in told["data"]["sources"]} >= {"image/avif", "image/jpeg"}
    small = HTTP.get(f"{upload}/markup", params={**params, "viewport": 390}).json()["loads"]
    assert (small["width"], small["height"]) == (192, 192)


@pytest.mark.parametrize(
    ("params", "status", "said"),
    [
        ({"sizes": "50%"}, 422, "'50%' is not a length"),
        ({"sizes": "(max-wdith: 3px) 1px, 2px"}, 422, "does not choose pictures"),
        ({"sizes": "1px," * 200}, 422, "more than 400 characters"),
        ({"art": "square"}, 422, "crop; media"),
        ({"art": "square; (max-width)"}, 422, "not a condition"),
        ({"art": "nothing; (max-width: 3px)"}, 404, "no crop 'nothing'"),
        ({"crop": '"><script>'}, 404, "no crop"),
        ({"viewport": "0"}, 422, "viewport"),
    ],
)
def test_markup_that_cannot_be_says_why(
    upload: str, params: dict[str, str], status: int, said: str
) -> None:
    assert said in problem(HTTP.get(f"{upload}/markup", params=params), status)


def test_an_upload_that_is_not_live_has_no_markup(demo: Server) -> None:
    assert "may have been removed" in problem(
        HTTP.get(f"{demo.url}/api/v1/uploads/nobody/markup"), 404
    )


def test_settings_are_changed_by_rows_and_what_cannot_be_is_refused(demo: Server) -> None:
    with demo.client(follow_redirects=True) as client:
        assert client.post("/slots", data={"name": "by-form", "like": "gallery"}).status_code == 200
        for name, status in (("By Form", 422), ("by-form", 422), ("", 422)):
            assert client.post("/slots", data={"name": name}).status_code == status
        url = "/slots/by-form"
        client.post(
            f"{url}/settings/largest",
            data={"max_width": "1200", "max_height": "", "max_megapixels": "2,5"},
        )
        assert 'value="1200"' in client.get(url).text
        assert 'value="2.5"' in client.get(url).text
        for row, data, said in (
            ("smallest", {"min_width": "9000"}, "smallest width is larger"),
            ("takes", {"accepts": ["png"], "max_bytes": "wide"}, "the weight is"),
            ("takes", {"max_bytes": "4"}, "at least one format"),
            ("crops", {"crop_name": [""], "crop_ratio": [""], "crop_fit": ["cover"], "crop_widths": [""]}, "at least one crop"),
            ("crops", {"crop_name": ["a"], "crop_ratio": ["1:0"], "crop_fit": ["cover"], "crop_widths": ["9"]}, "is not a ratio"),
            ("shown", {"mask": "star", "sizes": ""}, "mask"),
            ("shown", {"mask": "none", "sizes": "50%"}, "not a length"),
            ("nothing", {}, "no row"),
        ):  # fmt: skip
            refused = client.post(
                f"{url}/settings/{row}", data=data, headers={"HX-Request": "true"}
            )
            assert refused.status_code == 422, row
            assert said in refused.json()["detail"], row
        client.post(f"{url}/settings/largest/back")
        assert 'value="1200"' not in client.get(url).text
        client.post(f"{url}/undo")
        assert 'value="1200"' in client.get(url).text
        for missing in (
            "/slots/nowhere",
            "/slots/nowhere/keys",
            "/slots/-/keys",
            "/slots/by-form/trial/none/preview",
            "/uploads/nobody",
        ):
            assert client.get(missing).status_code == 404, missing
        assert "deleted to save space" in client.post(f"{url}/effect?trial={'0' * 64}").text
        refused = client.post("/slots/gallery/remove")
        assert (refused.status_code, "Remove them first" in refused.text) == (409, True)
        assert client.post(f"{url}/remove").url.path == "/slots"
        assert client.get(url).status_code == 404


def test_a_recipe_that_a_slot_needs_is_not_removed(demo: Server) -> None:
    with demo.client(follow_redirects=True) as client:
        client.post("/recipes", data={"name": "needed", "like": "icon"})
        client.post("/slots", data={"name": "needy"})
        client.post("/slots/needy/settings/recipe", data={"recipe": "needed"})
        refused = client.post("/recipes/needed/remove")
        assert (refused.status_code, "needy" in refused.text) == (409, True)
        client.post("/slots/needy/settings/recipe/back")
        assert client.post("/recipes/needed/remove").status_code == 200

"""Recipes as sentences over HTTP: fields and back, refusals, effects."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from html.parser import HTMLParser
from pathlib import Path

import httpx
import pytest
from starlette.datastructures import FormData, UploadFile

from gefa.core.errors import PlanError
from gefa.core.treat.formats import Effort, Format
from gefa.core.treat.recipe import BUILT_IN, Aim, Corner, Fit, Mark, Recipe, Steps
from gefa.web.pages.recipe_form import Sentence, recipe_from
from gefa.web.templating import fragment
from tests.conftest import Server, eventually
from tests.make import L, ora, photo
from tests.web.plans import site_plan
from tests.web.test_cutting import change, plan, source_of
from tests.web.test_pages import png, run

HX = {"HX-Request": "true"}


@pytest.fixture
def pages(demo: Server) -> Iterator[httpx.Client]:
    with demo.client(follow_redirects=True) as client:
        yield client


class Fields(HTMLParser):
    """What a browser would send of a form."""

    def __init__(self, html: str) -> None:
        super().__init__()
        self.found: list[tuple[str, str | UploadFile]] = []
        self._select = ""
        self._first: str | None = None
        self.feed(html)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = {name: value or "" for name, value in attrs}
        if tag == "select":
            self._select, self._first = given.get("name", ""), None
        elif tag == "option" and self._select:
            if "selected" in given or (self._first is None and not self._chosen()):
                self._first = given["value"]
        elif tag == "input" and (given.get("type") != "checkbox" or "checked" in given):
            self.found.append((given["name"], given.get("value", "")))

    def _chosen(self) -> bool:
        return any(name == self._select for name, _ in self.found)

    def handle_endtag(self, tag: str) -> None:
        if tag == "select" and self._select:
            self.found.append((self._select, self._first or ""))
            self._select = ""


@dataclass
class Shown:
    """As much of a screen as the sentence needs."""

    recipe: Recipe
    name: str = "r"
    query: str = ""
    names: tuple[str, ...] = ()
    pictures: tuple[str, ...] = ("stamp.svg", "poster.ora")

    @property
    def said(self) -> Sentence:
        return Sentence(self.recipe)


def fields_of(recipe: Recipe) -> list[tuple[str, str | UploadFile]]:
    return Fields(fragment("recipes/_sentence.html", view=Shown(recipe), may=lambda _: True)).found


ODD = {
    "cover": Recipe(formats=("avif", "png"), widths=(7, 900), fit=Fit.COVER, ratio="3:2", zoom=1.5),
    "focal": Recipe(formats=("jpeg",), widths=(90,), fit=Fit.COVER, ratio=0.8, focal=(0.25, 0.6)),
    "fill": Recipe(formats=("jpeg",), widths=(90,), fit=Fit.FILL, ratio=2.371, enlarge=True),
    "densities": Recipe(formats=("webp", "png"), densities=(1, 1.5, 3), shown=320),
    "steps": Recipe(formats=("webp",), steps=Steps(narrowest=200, widest=999, apart=12_500)),
    "auto": Recipe(formats="auto", widths=(300,), quality=Aim(look=82)),
    "budget": Recipe(formats=("webp", "jpeg"), widths=(300,), quality=Aim(max_bytes=42_500)),
    "each": Recipe(
        formats=("avif", "webp", "jpeg"),
        widths=(300,),
        quality={Format.AVIF: Aim(look=70), Format.WEBP: Aim(max_bytes=9_000), Format.JPEG: 61},
    ),
    "encoders": Recipe(
        formats=("avif", "webp", "jpeg", "png"),
        widths=(64,),
        effort={Format.AVIF: 6, Format.WEBP: 4, Format.JPEG: 0, Format.PNG: 2},
        progressive=False,
        chroma="full",
        colours=16,
        dither=0.35,
        metadata="copyright",
        every_format=True,
        alpha="underlay",
        matte="#123456",
        name="{source}/{cut}-{width}-{hash}.{ext}",
    ),
    "thorough": Recipe(formats=("png",), widths=(64,), effort=Effort.THOROUGH, colours="auto"),
    "all colours": Recipe(formats="auto", widths=(64,), quality=Aim(look=75), colours="all"),
    "drawings": Recipe(formats=("svg", "webp"), widths=(64,), text="keep", sprite=True),
    "own file": Recipe(formats=("jpeg",), widths=(64,), untouched=True),
    "never its own": Recipe(formats="auto", widths=(64,), quality=Aim(look=75), untouched=False),
    "marked": Recipe(
        formats=("jpeg",),
        widths=(64,),
        tone=True,
        mark=Mark(
            picture="stamp.svg", corner=Corner.TOP_LEFT, width=0.125, margin=0.0, opacity=0.5
        ),
    ),
    "lost mark": Recipe(formats=("jpeg",), widths=(64,), mark=Mark(picture="gone.svg")),
}


@pytest.mark.parametrize("name", [*BUILT_IN, *ODD])
def test_a_sentence_says_all_of_a_recipe(name: str) -> None:
    """What the fields send back unchanged is the same recipe."""
    recipe = {**BUILT_IN, **ODD}[name]
    again = recipe_from(FormData(fields_of(recipe)))
    for format in recipe.candidates:
        assert again.quality_for(format) == recipe.quality_for(format)
    plain = {"quality": BUILT_IN["figure"].quality, "ratio": None}
    assert again.model_copy(update=plain) == recipe.model_copy(update=plain)
    assert again.ratio == (pytest.approx(recipe.ratio, rel=1e-3) if recipe.ratio else None)


def said(recipe: Recipe, **changes: str) -> Recipe:
    """The recipe after some words were changed, and nothing else was sent than before."""
    kept = [(name, value) for name, value in fields_of(recipe) if name not in changes]
    return recipe_from(FormData([*kept, *changes.items()]))


PLAIN = Recipe(formats=("avif", "webp", "png"), widths=(320, 640, 960))


def test_clauses_that_are_changed_get_usual_words_at_first() -> None:
    plain = PLAIN
    assert said(plain, sizes_by="steps").steps == Steps(narrowest=320, widest=1920, apart=30_000)
    assert said(plain, sizes_by="densities").densities == (1, 2, 3)
    assert said(plain, fit="cover").ratio == 1.5
    assert said(plain, quality_by="look").quality == Aim(look=75)
    assert said(plain, quality_by="budget").quality == Aim(max_bytes=120_000)
    assert said(plain, formats_by="auto").auto
    assert said(plain, formats_by="auto").colours is None, "what was a default stays one"
    assert said(plain, formats_by="auto").untouched is None
    assert said(plain, mark="stamp.svg").mark == Mark(picture="stamp.svg")
    assert said(ODD["auto"], formats_by="these", format="png").formats == (Format.PNG,)
    numbers = said(
        plain, widths="640px and 320; 960", quality_avif="look 66", quality_webp="12,5 kB"
    )
    assert numbers.widths == (320, 640, 960)
    assert numbers.quality_for(Format.AVIF) == Aim(look=66)
    assert numbers.quality_for(Format.WEBP) == Aim(max_bytes=12_500)


@pytest.mark.parametrize(
    ("changes", "reason"),
    [
        ({"widths": "32o"}, "'32o' is no number"),
        ({"widths": ""}, "one of widths, densities or steps"),
        ({"quality_avif": "fine"}, "'fine' is not a quality"),
        ({"matte": "white"}, "matte"),
        ({"name": "{cut"}, "braces"),
        ({"name": "{cut}.{ext}"}, "needs {width}"),
        ({"fit": "cover", "ratio": "wide"}, "is not a ratio"),
        ({"effort": "numbers", "effort_avif": "99"}, "0 to 9"),
        ({"effort": "numbers", "effort_avif": "inf"}, "Give a number"),
        ({"effort": "numbers", "effort_avif": "nan"}, "Give a number"),
        ({"widths": "1e999"}, "'1e999' is no number"),
        ({"widths": "9" * 5000}, "is no number"),
        ({"quality_avif": "²"}, "'²' is not a quality"),
        ({"quality_avif": "9" * 5000}, "is not a quality"),
        ({"quality_by": "look", "look": "9" * 400}, "Give a number"),
        ({"alpha": "gone"}, "alpha"),
    ],
)
def test_words_that_make_no_sense_are_refused_with_the_reason(
    changes: dict[str, str], reason: str
) -> None:
    with pytest.raises(PlanError, match=re.escape(reason)):
        said(PLAIN, **changes)


def begin(pages: httpx.Client, name: str, like: str = "") -> None:
    answer = pages.post("/recipes", data={"name": name, "like": like})
    assert answer.status_code == 200
    assert f">{name}</h1>" in answer.text


def form_of(pages: httpx.Client, address: str) -> list[tuple[str, str]]:
    text = pages.get(address).text
    start = text.index('<form id="sentence"')
    return [(n, str(v)) for n, v in Fields(text[start : text.index("</form>", start)]).found]


def test_a_recipe_is_begun_changed_tried_undone_and_removed(pages: httpx.Client) -> None:
    source = source_of(pages, "trial.png", png(3, 320, 200))
    begin(pages, "trial", "icon")
    address = f"/recipes/trial?sample={source}&part=/"
    fields = [(n, v) for n, v in form_of(pages, address) if n != "widths"]
    changed = pages.post(address, data=_many([*fields, ("widths", "40, 80")]), headers=HX)
    assert changed.status_code == 200, changed.text
    assert 'value="40, 80"' in changed.text

    def effect() -> str:
        text = pages.post(f"/recipes/trial/effect?sample={source}&part=/", headers=HX).text
        return text if "<table" in text else ""

    text = str(eventually(effect))
    assert ">40\u202fpx<" in text
    picture = re.search(r'/recipes/trial/tried/[^"]+', text)
    assert picture is not None
    shown = pages.get(picture[0])
    assert shown.headers["content-type"].startswith("image/")
    undone = pages.post("/recipes/trial/undo", headers=HX)
    assert 'value="48, 96, 192"' in undone.text
    assert pages.post("/recipes/trial/remove").url.path == "/recipes"
    assert pages.get("/recipes/trial").status_code == 404
    assert "The recipe trial was removed" in pages.get("/recipes").text
    assert pages.post("/recipes/trial/undo").url.path == "/recipes/trial"
    assert pages.get("/recipes/trial/tried/nothing/a.png").status_code == 404


def _many(fields: list[tuple[str, str]]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for name, value in fields:
        found.setdefault(name, []).append(value)
    return found


def test_names_are_refused_that_are_none_or_taken(pages: httpx.Client) -> None:
    assert pages.post("/recipes", data={"name": "icon"}).status_code == 409
    assert pages.post("/recipes", data={"name": "../icon"}).status_code == 422
    assert pages.get("/recipes/nothing").status_code == 404
    assert pages.post("/recipes/nothing", data={}).status_code == 404
    answer = pages.post("/recipes/icon", data={"formats_by": "these"}, headers=HX)
    assert answer.status_code == 422
    assert "formats" in answer.json()["detail"]


def test_a_name_by_which_two_cuts_would_clash_is_refused(
    pages: httpx.Client, tmp_path: Path
) -> None:
    layers = [L("One #pair", photo(40, 40, 1)), L("Two #pair", photo(40, 40, 2))]
    begin(pages, "pair")
    source_of(pages, "pair.ora", ora(tmp_path / "pair.ora", 90, 60, layers).read_bytes())
    fields = [(n, v) for n, v in form_of(pages, "/recipes/pair") if n != "name"]
    refused = pages.post(
        "/recipes/pair", data=_many([*fields, ("name", "{source}-{width}.{ext}")]), headers=HX
    )
    assert refused.status_code == 422
    assert "in pair.ora" in refused.json()["detail"]
    assert "Add {cut}" in refused.json()["detail"]


def test_a_sample_on_which_names_clash_is_shown_and_only_saving_is_refused(
    pages: httpx.Client,
) -> None:
    """Two widths of a very flat picture are equally high."""
    thin = source_of(pages, "thin.png", png(3, 2000, 2))
    begin(pages, "high")
    fields = [(n, v) for n, v in form_of(pages, "/recipes/high") if n not in ("name", "sizes_by")]
    words = _many([*fields, ("name", "{cut}-{height}.{ext}"), ("sizes_by", "widths")])
    tall = source_of(pages, "tall-enough.png", png(3, 900, 900))
    saved = pages.post(f"/recipes/high?sample={tall}&part=/", data=words, headers=HX)
    assert saved.status_code == 200
    refused = pages.post(f"/recipes/high?sample={thin}&part=/", data=words, headers=HX)
    assert refused.status_code == 422
    assert "two files would have the same name" in refused.json()["detail"]
    for method, path in (("GET", "/recipes/high"), ("POST", "/recipes/high/effect")):
        answer = pages.request(method, f"{path}?sample={thin}&part=/")
        assert answer.status_code == 200, path


def test_a_changed_recipe_counts_for_the_next_run_and_goes_into_the_plan_file(
    pages: httpx.Client,
) -> None:
    source = source_of(pages, "shared.png", png(9, 200, 120))
    begin(pages, "shared")
    fields = [
        (n, v) for n, v in form_of(pages, "/recipes/shared") if n not in ("widths", "formats_by")
    ]
    words = [
        *fields,
        ("widths", "50"),
        ("formats_by", "these"),
        ("format", "png"),
        ("name", "{cut}.{ext}"),
    ]
    assert pages.post("/recipes/shared", data=_many(words), headers=HX).status_code == 200
    change(pages, source, do="default", recipe="shared")
    text = pages.get(f"/sources/{source}").text
    assert '<option value="shared"' in text
    kept = plan(pages, source)
    assert kept.default == "shared"
    assert site_plan(pages).recipes["shared"].widths == (50,)
    address = run(pages, source)
    assert "shared.png" in pages.get(f"{address}/manifest.json").text
    assert pages.get("/recipes").text.count("Used by") >= 1
    change(pages, source, do="recipe", part="/", recipe="icon", line="0")
    assert "exception:</b> recipe icon" in pages.get(f"/sources/{source}").text
    change(pages, source, do="follow", part="/")
    assert "exception:" not in pages.get(f"/sources/{source}").text

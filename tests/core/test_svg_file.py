"""Parts that are drawn, as SVG files that stand alone."""

from __future__ import annotations

import base64
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import pyvips

from gefa.core.errors import NotDrawable
from gefa.core.geometry import Rect, Size
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.read.svg.cascade import put_in_styles
from gefa.core.read.xml import local_name, parse
from gefa.core.treat import svg_file as module
from gefa.core.treat.made import MadeVariant
from gefa.core.treat.recipe import AlphaPolicy, Recipe
from gefa.core.treat.svg_file import digits_for, sent_bytes, svg_file
from tests.core.test_export import one, run
from tests.make import RED, flat, photo, svg

SVG_ONLY = Recipe(formats=("svg",), widths=(96,), name="{cut}-{width}.{ext}")
BADGE = (
    '<g id="Badge"><circle cx="60" cy="60" r="50" fill="#c42"/>'
    '<path d="M30 60 60.123456 20 90 60 60 100z" fill="#fec" stroke="#222" stroke-width="3"/></g>'
)
XLINK = 'xmlns:xlink="http://www.w3.org/1999/xlink"'


def opened(tmp_path: Path, body: str) -> Document:
    return read(svg(tmp_path / "drawing.svg", body, more=XLINK))


def file_of(document: Document, path: str, **more: object) -> bytes:
    part = document.part(path)
    region = document.extent(part)
    picture = document.render(part, region, region.width)
    return svg_file(document, part, region, picture, **more)  # type: ignore[arg-type]


def test_a_part_becomes_a_file_of_its_own_that_looks_the_same(tmp_path: Path) -> None:
    document = opened(tmp_path, BADGE + '<rect id="other" x="200" width="50" height="50"/>')
    data = file_of(document, "Badge")
    root = parse(data, "", "it")
    region = document.extent(document.part("Badge"))
    assert [float(side) for side in root.attrib["viewBox"].split()] == [10, 10, 100, 100]
    assert (root.get("width"), root.get("height")) == (f"{region.width}", f"{region.height}")
    assert b"rect" not in data
    assert b"60.123456" not in data, "numbers are rounded to what shows"
    for scale in (1, 3):
        size = Size(region.width * scale, region.height * scale)
        theirs = document.render(document.part("Badge"), region, size.width).numpy().astype(int)
        assert np.abs(drawn_at(data, size).numpy().astype(int) - theirs).mean() < 0.2


def test_nothing_active_or_foreign_or_from_elsewhere_is_in_it(tmp_path: Path) -> None:
    body = (
        "<style>@import url(http://evil/a.css); .a{fill:#c20;background:url(//evil/b)}</style>"
        '<g id="g" onclick="alert(1)" class="a" data-x="1" xmlns:ink="urn:x" ink:label="secret">'
        "<script>alert(1)</script><desc>made by hand</desc><!-- a note -->"
        '<rect width="60" height="60" fill="url(http://evil/p#a)" style="cursor:url(http://evil/c)"/>'
        '<foreignObject width="9" height="9"><p xmlns="http://www.w3.org/1999/xhtml">x</p>'
        '</foreignObject><image href="http://evil/i.png" width="9" height="9"/>'
        '<a xlink:href="javascript:alert(1)"><circle cx="90" cy="30" r="20" class="a"/></a>'
        '<use href="other.svg#x"/><animate attributeName="x" to="9"/>'
        '<circle cx="90" cy="80" r="9" style="fill:u\\72l(http://evil/e)"/></g>'
    )
    for data in (
        file_of(opened(tmp_path, body), "secret"),
        opened(tmp_path, body).as_svg(
            opened(tmp_path, body).part("secret"), Rect(0, 0, 120, 100), Size(120, 100)
        ),
    ):
        told = data.decode()
        assert "evil" not in told
        assert "script" not in told
        for word in ("alert", "class", "data-x", "secret", "hand", "note", "other.svg", "animate"):
            assert word not in told, word
        names = {local_name(element.tag) for element in parse(data, "", "it").iter()}
        assert names <= {"svg", "g", "rect", "circle", "use"}
        assert "#c20" in told or "#cc2200" in told, "what the style sheet said"


def test_ids_are_of_its_own_and_only_what_is_referred_to_comes_along(tmp_path: Path) -> None:
    gradient = '<linearGradient id="{}"><stop stop-color="red"/><stop offset="1"/></linearGradient>'
    body = (
        f"<defs>{gradient.format('a')}{gradient.format('unused')}"
        '<clipPath id="k"><use href="#shape"/></clipPath></defs>'
        '<g id="one"><circle id="shape" cx="40" cy="40" r="30" fill="url(#a)"/></g>'
        '<rect id="two" x="10" y="10" width="90" height="60" fill="url(\'#a\')" clip-path="url(#k)"/>'
    )
    document = opened(tmp_path, body)
    files = [file_of(document, path).decode() for path in ("one/shape", "two")]
    ids = [set(re.findall(r'\bid="([^"]+)"', told)) for told in files]
    assert [len(own) for own in ids] == [1, 3]
    assert not ids[0] & ids[1]
    for told, own in zip(files, ids, strict=True):
        assert set(re.findall(r"#([\w-]+)[\")']", told)) <= own, "nothing refers to nowhere"
        assert "unused" not in told


@pytest.mark.parametrize(
    ("sheet", "attributes", "fill"),
    [
        (".a{fill:red}", 'fill="blue"', "red"),
        (".a{fill:red}", 'style="fill:blue"', "blue"),
        (".a{fill:red!important}", 'style="fill:blue"', "red"),
        ("#r{fill:red} .a{fill:blue}", "", "red"),
        (".a{fill:red} .a{fill:blue}", "", "blue"),
        ("g > .a:first-child{fill:red} rect{fill:blue}", "", "red"),
        (".a:hover{fill:blue} .a{fill:red}", "", "red"),
        (".a, ::nonsense(1){fill:blue}", 'fill="red"', "red"),
    ],
)
def test_a_style_sheet_is_worked_out(sheet: str, attributes: str, fill: str) -> None:
    """CSS Cascading 4, 6.1; Selectors 4, 4.1."""
    root = parse(
        f'<svg xmlns="http://www.w3.org/2000/svg"><style>{sheet.replace(">", "&gt;")}</style>'
        f'<g><rect id="r" class="a" {attributes}/></g></svg>'.encode(), "", "it",
    )  # fmt: skip
    assert put_in_styles(root, [root[0]]) == ""
    rect = root[1][0]
    style = dict(one.split(":") for one in rect.get("style", "").split(";") if one)
    assert style.get("fill", rect.get("fill")) == fill


def drawn_at(data: bytes, size: Size) -> pyvips.Image:
    natural = pyvips.Image.svgload_buffer(data)
    return pyvips.Image.svgload_buffer(data, scale=size.width / natural.width)


def small_png(side: int, noise: bool = False) -> str:
    image = photo(side, side) if noise else flat(side, side)
    return "data:image/png;base64," + base64.b64encode(image.pngsave_buffer()).decode()


@pytest.mark.parametrize(
    ("body", "reason"),
    [
        ('<text id="p" x="9" y="30">Kites</text>', "it has text, and visitors may lack its typeface"),
        (f'<image id="p" width="90" height="90" href="{small_png(150, noise=True)}"/>', "weigh"),
        ('<style>@media print{rect{fill:red}}</style><rect id="p" width="9" height="9"/>', "@media"),
        ('<image id="p" width="9" height="9" href="data:image/svg+xml,%3Csvg xmlns=\'http://www.w3.'
         "org/2000/svg' width='9' height='9'%3E%3Crect width='9' height='9'/%3E%3C/svg%3E\"/>",
         "of a kind that SVG files cannot hold"),
    ],
)  # fmt: skip
def test_what_not_everybody_would_see_alike_is_told(body: str, reason: str, tmp_path: Path) -> None:
    with pytest.raises(NotDrawable, match=reason):
        file_of(opened(tmp_path, body), "p")


@pytest.mark.parametrize("text", ["<tspan/>Kites", "<tspan>Kites</tspan>"])
def test_text_is_found_wherever_it_stands(text: str, tmp_path: Path) -> None:
    with pytest.raises(NotDrawable, match="it has text"):
        file_of(opened(tmp_path, f'<g id="p"><text x="9" y="30">{text}</text></g>'), "p")
    hidden = f'<g id="p"><rect width="9" height="9"/><text style="display:none">{text}</text></g>'
    assert b"Kites" not in file_of(opened(tmp_path, hidden), "p")


def test_text_is_kept_where_that_is_asked_for_and_small_pictures_come_along(
    tmp_path: Path,
) -> None:
    text = opened(
        tmp_path, '<text id="p" x="9" y="30" font-family="serif">Kites <tspan>up</tspan></text>'
    )
    told = file_of(text, "p", keep_text=True).decode()
    assert "Kites" in told
    assert "up" in told
    picture = opened(tmp_path, f'<image id="p" width="90" height="90" href="{small_png(8)}"/>')
    assert b"data:image/png" in file_of(picture, "p")


def test_a_file_that_would_look_otherwise_is_never_given(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """A cleaner's mistake costs its savings only; a drawing that looks otherwise is refused."""
    document = opened(tmp_path, BADGE)
    part = document.part("Badge")
    region = document.extent(part)
    picture = document.render(part, region, region.width)
    monkeypatch.setattr(module, "cleaned", lambda raw, digits: raw.replace(b"#222", b"#2f2"))
    assert b"#222" in svg_file(document, part, region, picture)
    with pytest.raises(NotDrawable, match="would look different"):
        svg_file(document, part, region, flat(picture.width, picture.height, (*RED, 255)))


@pytest.mark.parametrize(
    ("region", "width", "digits"),
    [(Rect(0, 0, 100, 100), 100, 4), (Rect(0, 0, 1000, 500), 2000, 5), (Rect(90_000, 0, 100, 9), 100, 7)],
)  # fmt: skip
def test_numbers_have_the_digits_that_show(region: Rect, width: int, digits: int) -> None:
    assert digits_for(region, Size(width, 9)) == digits


# -- in recipes ----------------------------------------------------------------------------


def made(tmp_path: Path, recipe: Recipe, body: str = BADGE, part: str = "Badge") -> JobReport:
    return one(svg(tmp_path / "drawing.svg", body), tmp_path / "out", recipe, part)


def test_a_drawing_is_one_file_for_all_widths(tmp_path: Path) -> None:
    recipe = Recipe(formats=("svg", "webp", "png"), widths=(48, 96, 400))
    report = made(tmp_path, recipe)
    (file,) = report.files
    data = (tmp_path / "out/Badge.svg").read_bytes()
    assert (file.path, file.width, file.bytes) == ("Badge.svg", 400, len(data))
    assert file.gzip == sent_bytes(data) < len(data)
    assert "lighter than its widest picture: " in report.record.why
    assert report.record.markup.startswith(
        '<img src="Badge.svg" width="100" height="100" loading="lazy"'
    )


def test_automatic_formats_take_the_lighter_of_drawing_and_pixels(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    dots = "".join(
        f'<circle cx="{x:.2f}" cy="{y:.2f}" r="{r:.2f}" fill="#{int(c):06x}"/>'
        for x, y, r, c in zip(*rng.random((3, 900)) * [[110], [110], [3]],
                              rng.integers(0, 1 << 24, 900), strict=True)
    )  # fmt: skip
    recipe = Recipe(formats="auto", widths=(60,))
    intricate = made(tmp_path, recipe, f'<g id="Badge">{dots}</g>')
    assert "svg" not in {file.format.value for file in intricate.files}
    assert any(
        remark.reason.startswith("SVG is left out: it is too intricate. It is sent as")
        for remark in intricate.left_out
    )
    plain = made(tmp_path, recipe)
    assert [file.format.value for file in plain.files] == ["svg"]


def test_what_cannot_be_a_drawing_is_told_or_fails(tmp_path: Path) -> None:
    both = Recipe(formats=("svg", "png"), widths=(60,))
    text = made(tmp_path, both, '<text id="Badge" y="30">Kites</text>')
    assert [file.format.value for file in text.files] == ["png"]
    assert any("SVG is left out: it has text" in remark.reason for remark in text.left_out)
    alone = made(tmp_path, SVG_ONLY, '<text id="Badge" y="30">Kites</text>')
    assert alone.files == []
    assert any("has no file: it has text" in remark.reason for remark in alone.warnings)
    photo(90, 60).pngsave(str(tmp_path / "sea.png"))
    plan = Plan(recipes={"r": SVG_ONLY}, cuts=(CutEntry(part="/", recipe="r"),))
    prepared, _ = run(tmp_path / "sea.png", tmp_path / "sea", plan)
    assert "SVG is the only format of its recipe, and it is made of pixels" in {
        remark.reason for remark in prepared.failed
    }


def test_transparency_is_laid_on_the_matte(tmp_path: Path) -> None:
    recipe = SVG_ONLY.model_copy(update={"alpha": AlphaPolicy.MATTE, "matte": "#0a7f30"})
    report = made(tmp_path, recipe)
    data = (tmp_path / "out" / report.files[0].path).read_bytes()
    assert drawn_at(data, Size(96, 96)).numpy()[1, 1].tolist() == [10, 127, 48, 255]


def test_a_file_that_is_sent_as_it_is_weighs_what_it_weighs() -> None:
    assert MadeVariant(sha256="", bytes=900).sent == 900
    assert MadeVariant(sha256="", bytes=900, gzip=300).sent == 300


def test_fingerprints_do_not_depend_on_what_a_process_wrote_before(tmp_path: Path) -> None:
    path = svg(tmp_path / "drawing.svg", BADGE, more=XLINK)
    # A process of its own: what this one has written before is what is tested.
    code = f"""
from pathlib import Path
from gefa.core.read import read
def prints(document):
    return [document.fingerprint(part) for part in document.canvas.walk()]
before = prints(read(Path({str(path)!r})))
from gefa.core.treat.svg_file import svg_file
document = read(Path({str(path)!r}))
part = document.part("Badge")
region = document.extent(part)
svg_file(document, part, region, document.render(part, region, region.width))
assert prints(read(Path({str(path)!r}))) == before, "they are others now"
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_text_on_a_path_makes_no_file_without_its_text(tmp_path: Path) -> None:
    body = (
        '<path id="p" d="M0 50h100"/><g id="Badge"><circle cx="50" cy="50" r="30"/>'
        '<text><textPath href="#p">Kites</textPath></text></g>'
    )
    with pytest.raises(NotDrawable, match="text on a path"):
        file_of(opened(tmp_path, body), "Badge")


def test_no_attribute_holds_an_address_or_a_script(tmp_path: Path) -> None:
    body = (
        '<filter id="f" x="0" y="0"><feOffset result="javascript:alert(1)"/></filter>'
        '<linearGradient id="l" gradientTransform="url(http://evil/t)"><stop/></linearGradient>'
        '<g id="Badge" filter="url(#f)"><rect width="60" height="50" fill="url(#l)"/></g>'
    )
    document = opened(tmp_path, body)
    told = document.as_svg(document.part("Badge"), Rect(0, 0, 120, 100), Size(120, 100)).decode()
    assert "feOffset" in told
    assert "linearGradient" in told
    assert "javascript" not in told
    assert "evil" not in told

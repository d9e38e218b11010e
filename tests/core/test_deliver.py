"""Names, markup, manifest and bundle."""

from __future__ import annotations

import hashlib
import io
import json
import re
import zipfile
from pathlib import Path
from urllib.parse import quote

import html5lib
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.cut import Origin
from gefa.core.deliver.bundle import bundle
from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.deliver.markup import Offer, picture
from gefa.core.deliver.names import MAX_SEGMENT, safe
from gefa.core.geometry import Size
from gefa.core.treat.formats import Format

RESERVED = {"con", "prn", "aux", "nul", *(f"{d}{n}" for d in ("com", "lpt") for n in range(10))}


@given(st.text(max_size=400))
def test_any_text_becomes_a_safe_name(text: str) -> None:
    name = safe(text)
    assert re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]*", name)
    assert len(name) <= MAX_SEGMENT + len("-cut")
    assert name.casefold() not in RESERVED
    assert quote(name) == name


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("Red kite", "Red-kite"),
        ("../../etc/passwd", "etc-passwd"),
        ("凧", "凧"),
        ("Grüße & Küsse", "Grusse-Kusse"),
        ("CON", "CON-cut"),
        ("lpt1", "lpt1-cut"),
        ("", "cut"),
        ("...", "cut"),
        ("a\0b\r\nc", "a-b-c"),
        ("x" * 300, "x" * MAX_SEGMENT),
        ("-_-leading", "leading"),
    ],
)
def test_safe_names(text: str, name: str) -> None:
    if name == "凧":
        assert safe(text).isascii()
        assert safe(text) != "cut", "every script is written in letters, not dropped"
    else:
        assert safe(text) == name


OFFERS = [
    Offer(f"hero-{width}.{ext}", format, width, width // 2)
    for format, ext in ((Format.JPEG, "jpg"), (Format.AVIF, "avif"), (Format.WEBP, "webp"))
    for width in (960, 480, 1440)
]


def parsed(markup: str) -> html5lib.treebuilders.etree.Element:
    """Parsed as a browser would, any parse error being an error."""
    parser = html5lib.HTMLParser(strict=True, namespaceHTMLElements=False)
    return parser.parse(
        f"<!DOCTYPE html><html><head><title>t</title></head><body>{markup}</body></html>"
    )


def test_a_picture_offers_the_newest_format_first_and_ends_with_the_fallback() -> None:
    tree = parsed(picture(OFFERS, Size(1440, 720), "A kite"))
    types = [source.get("type") for source in tree.iter("source")]
    assert types == ["image/avif", "image/webp"]
    (img,) = tree.iter("img")
    assert img.get("srcset") == "hero-480.jpg 480w, hero-960.jpg 960w, hero-1440.jpg 1440w"
    assert img.get("src") == "hero-960.jpg"
    assert (img.get("width"), img.get("height")) == ("1440", "720")
    assert img.get("alt") == "A kite"
    assert img.get("loading") == "lazy"
    for element in [*tree.iter("source"), img]:
        assert element.get("sizes") == "(max-width: 1440px) 100vw, 1440px"


@given(st.text(max_size=60), st.text(alphabet="abc \"'<>&,%#?ü凧", min_size=1, max_size=20))
def test_no_text_breaks_out_of_the_markup(alt: str, stem: str) -> None:
    alt = re.sub(
        r"[\x00-\x1f\x7f-\x9f\ud800-\udfff\ufdd0-\ufdef\ufffe\uffff]|[\U0001fffe-\U0010ffff]",
        "",
        alt,
    )
    offers = [Offer(f"/m/{stem}.webp", Format.WEBP, 100, 50)]
    tree = parsed(picture(offers, Size(100, 50), alt))
    (img,) = tree.iter("img")
    assert img.get("alt") == alt
    assert len(img.get("srcset").split(", ")) == 1
    assert not list(tree.iter("script"))


def test_one_format_needs_no_source_and_no_files_give_no_markup() -> None:
    assert "<source" not in picture(OFFERS[:3], Size(9, 9), "")
    assert picture([], Size(9, 9), "x") == ""
    assert 'loading="eager"' in picture(OFFERS, Size(9, 9), "", lazy=False)
    assert 'sizes="50vw"' in picture(OFFERS, Size(9, 9), "", sizes="50vw")


def _manifest(data: bytes) -> Manifest:
    file = File(
        cut="hero", path="sub/hero-480.webp", format=Format.WEBP, width=480, height=240,
        bytes=len(data), sha256=hashlib.sha256(data).hexdigest(), quality=75, reused=False,
    )  # fmt: skip
    record = CutRecord(
        name="hero", source="d.svg", part="Hero", recipe="icon", origin=Origin.TAG, x=1, y=2, width=480,
        height=240, alpha=None, baseline_bytes=900, markup='<img src="sub/hero-480.webp" alt="">',
    )  # fmt: skip
    return Manifest(sources=["<d>.svg"], files=[file], cuts=[record])


def test_a_manifest_of_before_is_read() -> None:
    now = json.loads(_manifest(b"x").to_json())
    files = [{k: v for k, v in file.items() if k != "source"} for file in now["files"]]
    rest = {key: value for key, value in now.items() if key != "sources"}
    old = Manifest.model_validate({**rest, "gefa_manifest": 1, "source": "<d>.svg", "files": files})
    assert (old.sources, old.gefa_manifest) == (["<d>.svg"], 3)
    assert [file.source for file in old.files] == [old.cuts[0].source]


def test_a_manifest_has_the_fields_that_others_rely_on() -> None:
    found = json.loads(_manifest(b"x").to_json())
    assert found["gefa_manifest"] == 3
    assert set(found) == {
        "gefa_manifest", "sources", "files", "cuts", "originals", "sprites", "pictures", "left_out", "dropped",
        "failed", "warnings", "extras", "days", "memory",
    }  # fmt: skip
    assert {
        "cut",
        "source",
        "path",
        "format",
        "width",
        "height",
        "bytes",
        "sha256",
        "quality",
        "score",
        "reused",
    } <= set(found["files"][0])
    assert {
        "name",
        "part",
        "origin",
        "x",
        "y",
        "width",
        "height",
        "alpha",
        "baseline_bytes",
        "css",
        "markup",
    } <= set(found["cuts"][0])
    assert found["files"][0]["score"] is None


def test_a_bundle_holds_variants_manifest_and_markup(tmp_path: Path) -> None:
    data = b"not really webp" * 1000
    blob = tmp_path / "blob"
    blob.write_bytes(data)
    packed = b"".join(bundle(_manifest(data), lambda sha256: blob))
    with zipfile.ZipFile(io.BytesIO(packed)) as archive:
        assert archive.testzip() is None
        assert sorted(archive.namelist()) == ["manifest.json", "markup.html", "sub/hero-480.webp"]
        assert archive.read("sub/hero-480.webp") == data
        page = archive.read("markup.html").decode()
    html5lib.HTMLParser(strict=True).parse(page)
    assert "&lt;d&gt;.svg" in page

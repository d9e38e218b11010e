"""Sprites: all drawings of a recipe in one file."""

from __future__ import annotations

import re

from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.cut import Origin
from gefa.core.deliver.bundle import markup_page
from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.deliver.sprite import sprite_files, sprites_of, use_line
from gefa.core.read.xml import local_name, parse

NAMES = st.lists(st.text(min_size=1, max_size=12), min_size=1, max_size=8, unique=True)


def record(name: str, recipe: str = "icon", *, sprite: bool = True) -> CutRecord:
    return CutRecord(
        name=name, source="a.svg", part="p", recipe=recipe, origin=Origin.HAND, x=0, y=0, width=40,
        height=30, alpha=None, baseline_bytes=None, markup="", sprite=sprite,
    )  # fmt: skip


def file(cut: str, format: str = "svg") -> File:
    return File.model_validate(
        {"cut": cut, "path": f"{cut}.{format}", "format": format, "width": 40, "height": 30,
         "bytes": 9, "sha256": "", "quality": None, "reused": False}
    )  # fmt: skip


@given(NAMES)
def test_ids_tell_cuts_apart_and_depend_on_no_order(names: list[str]) -> None:
    cuts, files = [record(name) for name in names], [file(name) for name in names]
    (sprite,) = sprites_of(cuts, files)
    assert set(sprite.symbols) == set(names)
    ids = [id.casefold() for id in sprite.symbols.values()]
    assert len(set(ids)) == len(ids)
    assert all(re.fullmatch(r"[\w-]+", id) for id in ids)
    (again,) = sprites_of(cuts[::-1], files)
    assert again.symbols == sprite.symbols


def test_only_drawings_of_recipes_that_want_one_are_in_it() -> None:
    cuts = [record("a"), record("b", sprite=False), record("c"), record("d", "badge")]
    sprites = sprites_of(cuts, [file("a"), file("b"), file("c", "png"), file("d")])
    assert {sprite.path: set(sprite.symbols) for sprite in sprites} == {
        "icon/sprite.svg": {"a"},
        "badge/sprite.svg": {"d"},
    }


def test_a_sprite_has_a_symbol_for_each_drawing() -> None:
    drawing = (
        b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9" viewBox="1 2 9 9">%s</svg>'
    )
    manifest = Manifest(sources=["a.svg"], cuts=[record("a b"), record("c")])
    manifest.files = [file("a b"), file("c")]
    manifest.sprites = sprites_of(manifest.cuts, manifest.files)
    shapes = {"a b": b'<path d="M0 0"/>', "c": b'<rect id="xyz0"/><use href="#xyz0"/>'}
    made = sprite_files(manifest, lambda one: drawing % shapes[one.cut])["icon/sprite.svg"]
    symbols = list(parse(made, "", "it"))
    assert [(s.get("id"), s.get("viewBox")) for s in symbols] == [
        ("a-b", "1 2 9 9"),
        ("c", "1 2 9 9"),
    ]
    assert [local_name(child.tag) for child in symbols[1]] == ["rect", "use"]
    told = use_line(manifest.sprites[0], manifest.cuts[0])
    assert told == (
        '<svg width="40" height="30" aria-hidden="true"><use href="icon/sprite.svg#a-b"/></svg>'
    )
    assert told in markup_page(manifest)

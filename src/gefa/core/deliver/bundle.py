"""The zip of a run: variants, manifest, markup."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from html import escape
from pathlib import Path

from zipstream import ZIP_DEFLATED, ZIP_STORED, ZipStream

from gefa.core.deliver.layout import Layout
from gefa.core.deliver.manifest import MANIFEST, CutRecord, Manifest
from gefa.core.deliver.sprite import sprite_files, use_line

MARKUP = "markup.html"


def bundle(
    manifest: Manifest,
    blob: Callable[[str], Path],
    layouts: Mapping[str, Layout] | None = None,
) -> Iterator[bytes]:
    """The zip, in chunks as it is written. ``blob`` gives the file of a SHA-256; ``layouts`` maps
    name prefixes to pages."""
    stream = ZipStream(compress_type=ZIP_STORED)
    for file in manifest.files:
        stream.add_path(blob(file.sha256), file.path)
    for original in manifest.originals:
        stream.add_path(blob(original.sha256), original.path)
    for path, data in sprite_files(manifest, lambda file: blob(file.sha256).read_bytes()).items():
        stream.add(data, path, compress_type=ZIP_DEFLATED)
    texts = {MANIFEST: manifest.to_json(), MARKUP: markup_page(manifest)}
    for name, layout in (layouts or {}).items():
        texts |= {
            f"{name}.html": layout.html,
            f"{name}.css": layout.css,
            f"{name}.json": layout.json,
        }
    if layouts and "layout" not in layouts:
        texts["layout.html"] = layout_index(list(layouts))
    for name, text in texts.items():
        stream.add(text, name, compress_type=ZIP_DEFLATED)
    yield from stream


def layout_index(names: Sequence[str]) -> str:
    """A page with a link to each layout."""
    links = "\n".join(
        f'<li><a href="{escape(name)}.html">{escape(name.removesuffix("-layout"))}</a></li>'
        for name in names
    )
    return (
        '<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width">\n<title>Layouts</title>\n</head>\n'
        f"<body>\n<ul>\n{links}\n</ul>\n</body>\n</html>\n"
    )


def markup_page(manifest: Manifest) -> str:
    """A page with every picture and cut beside its markup; works in the unpacked bundle."""
    title = escape(", ".join(manifest.sources))
    uses = {cut.name: _use(manifest, cut) for cut in manifest.cuts}
    shown = [(one.name, one.markup) for one in manifest.pictures]
    shown += [(cut.name, f"{cut.markup}{uses[cut.name]}") for cut in manifest.cuts]
    figures = "\n".join(
        f"<figure>\n{markup}\n<figcaption>{escape(name)}</figcaption>\n</figure>"
        for name, markup in shown
    )
    return (
        f'<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        f'<meta name="viewport" content="width=device-width">\n<title>{title}</title>\n'
        f"<style>img {{ max-width: 100%; height: auto }}</style>\n</head>\n"
        f"<body>\n{figures}\n</body>\n</html>\n"
    )


def _use(manifest: Manifest, cut: CutRecord) -> str:
    """The ``<use>`` line of the cut's sprite, on a line of its own; empty without a sprite."""
    sprite = next((s for s in manifest.sprites if cut.name in s.symbols), None)
    return f"\n{use_line(sprite, cut)}" if sprite else ""

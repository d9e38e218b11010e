"""Draws the sample sources, and loads them into a data folder the first time."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from gefa.core.deliver.shelf import write_whole
from gefa.core.read import kind_of
from gefa.demo.pennants import draw_pennants
from gefa.demo.photographs import PANORAMA, SCENES, draw_panorama, draw_photograph
from gefa.demo.poster import draw_poster
from gefa.demo.site.posts import Post, Posts
from gefa.store.slots import accept, add_slot, new_key, slot_named
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.work.pool import Pool

DEMO_FILE = "demo.json"
SAMPLES = "samples"
POSTER, PENNANTS = "poster.ora", "pennants.svg"
SLOT = "gallery"
SLOT_RECIPE = "backdrop"
SLOT_BYTES = 40_000_000
SHARED_AT_FIRST = 3
"""photographs that visitors have shared already; the others are left for trying"""


def draw_world(folder: Path, processes: int) -> list[Path]:
    """Draw every sample source into ``folder``, on ``processes`` cores; returns their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    photographs = [folder / scene.file for scene in SCENES]
    with Pool(processes) as pool:
        calls: list[tuple[Callable[..., object], tuple[object, ...]]] = [
            (draw_poster, (folder / POSTER,))
        ]
        calls.append((draw_panorama, (folder,)))
        calls += [(draw_photograph, (i, folder)) for i in range(len(SCENES))]
        futures = [(pool.submit(function, *args), function, args) for function, args in calls]
        draw_pennants(folder / PENNANTS)
        for future, function, args in futures:
            pool.outcome(future, function, *args)
    return [folder / POSTER, folder / PENNANTS, folder / PANORAMA.file, *photographs]


def load_world(folder: Path, processes: int) -> None:
    """Fill an empty data folder with the sample world; one that has it is left alone."""
    if (folder / DEMO_FILE).exists():
        return
    samples = draw_world(folder / SAMPLES, processes)
    store = Store(folder)
    try:
        keys = _fill(store, samples)
    finally:
        store.close()
    _write(folder, {"base_url": "", "slots": [{"name": name, "key": key} for name, key in keys]})


def _fill(store: Store, samples: list[Path]) -> list[tuple[str, str]]:
    blobs = {path.name: store.blobs.put(path.read_bytes()) for path in samples}
    posts = Posts(store.folder)
    with store.session() as session:
        for path in reversed(samples):
            bring_in(session, path.name, blobs[path.name], kind_of(path).value)
        slot = slot_named(session, SLOT) or add_slot(session, SLOT, SLOT_RECIPE, SLOT_BYTES)
        key = new_key(session, slot)
        for scene in SCENES[:SHARED_AT_FIRST]:
            upload = accept(
                session,
                slot,
                name=scene.file,
                blob=blobs[scene.file],
                format="jpeg",
                alt=scene.alt,
            )
            posts.add(Post(upload=upload.id, caption=scene.alt))
    return [(SLOT, key)]


def note_address(folder: Path, base_url: str) -> None:
    """Write down where the demo is served; its slots and keys stay."""
    known = json.loads((folder / DEMO_FILE).read_text("utf-8"))
    _write(folder, known | {"base_url": base_url})


def _write(folder: Path, content: dict[str, object]) -> None:
    write_whole(folder / DEMO_FILE, (json.dumps(content, indent=2) + "\n").encode())

"""Draws the sample sources, and loads them into a data folder the first time."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from gefa.core.files import write_whole
from gefa.core.read import kind_of
from gefa.demo.numbered import draw_numbered
from gefa.demo.pennants import draw_pennants
from gefa.demo.photographs import PANORAMA, SCENES, draw_panorama, draw_photograph
from gefa.demo.poster import draw_poster
from gefa.demo.site.fill import fill_site
from gefa.store.keys import Right, SiteRight, new_key, new_site_key
from gefa.store.slots import add_slot, slot_named
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.uploads import Described, Sent, accept
from gefa.work.pool import Pool

DEMO_FILE = "demo.json"
SAMPLES = "samples"
TESTS = "tests"
"""the folder of numbered test pictures, among the samples"""
POSTER, PENNANTS = "poster.ora", "pennants.svg"
SLOTS: dict[str, dict[str, object]] = {
    "gallery": {
        "crops": [
            {"name": "whole"},
            {"name": "card", "ratio": "3:2", "widths": [320, 640, 960]},
            {"name": "square", "ratio": "1:1", "widths": [96, 192]},
        ],
    },
    "stalls": {
        "crops": [
            {"name": "wide", "ratio": "4:1", "widths": [720, 1080, 1440]},
            {"name": "middle", "ratio": "2:1", "widths": [640, 960]},
            {"name": "tall", "ratio": "4:5", "widths": [360, 540, 720]},
        ],
    },
    "reports": {
        "crops": [{"name": "whole", "widths": [320, 640, 960]}],
        "original": "up to",
        "original_bytes": 8_000_000,
    },
}
"""What the sample website has places for: shared photographs, banners, pictures in reports."""


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
        asked = [pool.submit(function, *args) for function, args in calls]
        draw_pennants(folder / PENNANTS)
        draw_numbered(folder / TESTS)
        for call in asked:
            pool.outcome(call)
    return [folder / POSTER, folder / PENNANTS, folder / PANORAMA.file, *photographs]


def load_world(folder: Path, processes: int) -> None:
    """Fill an empty data folder with the sample world; one that has it is left alone."""
    if (folder / DEMO_FILE).exists():
        return
    samples = draw_world(folder / SAMPLES, processes)
    store = Store(folder)
    try:
        keys = _fill(store, samples)
        with store.changing() as session:
            site_key = new_site_key(session, "the sample build", list(SiteRight))
    finally:
        store.close()
    slots = [{"name": name, "key": key} for name, key in keys]
    _write(folder, {"base_url": "", "site_key": site_key, "slots": slots})


def _fill(store: Store, samples: list[Path]) -> list[tuple[str, str]]:
    blobs = {path.name: store.blobs.put(path.read_bytes()) for path in samples}
    with store.session() as session:
        for path in reversed(samples):
            bring_in(session, path.name, blobs[path.name], kind_of(path).value)
        keys = []
        for name, own in SLOTS.items():
            slot = slot_named(session, name) or add_slot(session, name, own)
            keys.append((name, new_key(session, slot, "the sample website", list(Right))))

        def share(slot_name: str, file: str, alt: str) -> str:
            """Upload a photograph as the website would; the upload's id."""
            slot = slot_named(session, slot_name)
            assert slot is not None
            sent = Sent(file, blobs[file], "jpeg")
            said = Described(alt=alt, tags=[slot_name])
            return accept(session, slot, sent, said).id

        fill_site(store.folder, share)
    return keys


def note_address(folder: Path, base_url: str) -> None:
    """Write down where the demo is served; its slots and keys stay."""
    known = json.loads((folder / DEMO_FILE).read_text("utf-8"))
    _write(folder, known | {"base_url": base_url})


def _write(folder: Path, content: dict[str, object]) -> None:
    write_whole(folder / DEMO_FILE, (json.dumps(content, indent=2) + "\n").encode())

"""Draws the sample sources, and loads them into a data folder the first time."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from gefa.core.files import write_whole
from gefa.core.plan.load import parse_plan
from gefa.core.read import kind_of
from gefa.core.weigh.audience import with_rows
from gefa.folder.site_files import PLAN_FILE
from gefa.store.keys import Right, SiteRight, new_key, new_site_key
from gefa.store.site_plan import import_plan, prepare_import
from gefa.store.slots import add_slot, slot_named
from gefa.store.sources import bring_in
from gefa.store.store import Store
from gefa.store.uploads import Described, Sent, accept
from gefa.work.pool import Pool
from gefa_demo.moments import MOMENTS, draw_moment
from gefa_demo.numbered import draw_numbered
from gefa_demo.pennants import draw_pennants
from gefa_demo.photographs import PANORAMA, SCENES, draw_panorama, draw_photograph
from gefa_demo.plan import PLAN, VISITORS
from gefa_demo.poster import draw_poster
from gefa_demo.programme import draw_programme
from gefa_demo.site.fill import fill_site
from gefa_demo.site.pictures import FOLDER, make_pictures

DEMO_FILE = "demo.json"
SAMPLES = "samples"
AUDIENCE_FILE = "visitors.csv"
TESTS = "tests"
"""the folder of numbered test pictures, among the samples"""
DESIGNS, PHOTOS = "designs", "photos"
"""the folders of the site's sources"""
POSTER, PENNANTS, PROGRAMME = "poster.ora", "pennants.svg", "programme.ora"
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
"""The slots of the sample website: shared photographs, banners, pictures in reports."""


def draw_world(folder: Path, processes: int) -> list[str]:
    """Draw the sample site into ``folder``, on ``processes`` cores, with its plan beside it;
    returns the paths of its sources from there."""
    designs, photos = folder / DESIGNS, folder / PHOTOS
    for place in (designs, photos):
        place.mkdir(parents=True, exist_ok=True)
    with Pool(processes) as pool:
        calls: list[tuple[Callable[..., object], tuple[object, ...]]] = [
            (draw_poster, (designs / POSTER,)),
            (draw_panorama, (photos,)),
            (draw_programme, (designs / PROGRAMME,)),
        ]
        calls += [(draw_photograph, (i, photos)) for i in range(len(SCENES))]
        calls += [(draw_moment, (i, photos)) for i in range(len(MOMENTS))]
        asked = [pool.submit(function, *args) for function, args in calls]
        draw_pennants(designs / PENNANTS)
        draw_numbered(folder / TESTS)
        for call in asked:
            pool.outcome(call)
    write_whole(folder / PLAN_FILE, PLAN.encode())
    write_whole(folder / AUDIENCE_FILE, VISITORS.encode())
    photographs = [scene.file for scene in (*SCENES, PANORAMA, *MOMENTS)]
    return [
        *(f"{DESIGNS}/{name}" for name in (POSTER, PENNANTS, PROGRAMME)),
        *(f"{PHOTOS}/{name}" for name in photographs),
    ]


def load_world(folder: Path, processes: int) -> None:
    """Fill an empty data folder with the sample world; does nothing if it is there already."""
    if (folder / DEMO_FILE).exists():
        return
    names = draw_world(folder / SAMPLES, processes)
    with Pool(1) as pool:
        pool.call(make_pictures, folder / SAMPLES / DESIGNS / PROGRAMME, folder / FOLDER)
    store = Store(folder)
    try:
        keys = _fill(store, folder / SAMPLES, names)
        with store.changing() as session:
            site_key = new_site_key(session, "the sample build", list(SiteRight))
    finally:
        store.close()
    slots = [{"name": name, "key": key} for name, key in keys]
    _write(folder, {"base_url": "", "site_key": site_key, "slots": slots})


def _fill(store: Store, samples: Path, names: list[str]) -> list[tuple[str, str]]:
    blobs = {name: store.blobs.put_file(samples / name) for name in names}
    with store.session() as session:
        for name in reversed(names):
            bring_in(session, name, blobs[name], kind_of(samples / name).value)
        plan = with_rows(parse_plan(PLAN, PLAN_FILE), samples)
        import_plan(session, prepare_import(session, plan), f"Imported {PLAN_FILE}")
        keys = []
        for name, own in SLOTS.items():
            slot = slot_named(session, name) or add_slot(session, name, own)
            keys.append((name, new_key(session, slot, "the sample website", list(Right))))

        def share(slot_name: str, file: str, alt: str) -> str:
            """Upload a photograph as the website would; the upload's id."""
            slot = slot_named(session, slot_name)
            assert slot is not None
            sent = Sent(file, blobs[f"{PHOTOS}/{file}"], "jpeg")
            said = Described(alt=alt, tags=[slot_name])
            return accept(session, slot, sent, said, background=True).id

        fill_site(store.folder, share)
    return keys


def note_address(folder: Path, base_url: str) -> None:
    """Note the address of the demo; its slots and keys stay."""
    known = json.loads((folder / DEMO_FILE).read_text("utf-8"))
    _write(folder, known | {"base_url": base_url})


def _write(folder: Path, content: dict[str, object]) -> None:
    write_whole(folder / DEMO_FILE, (json.dumps(content, indent=2) + "\n").encode())

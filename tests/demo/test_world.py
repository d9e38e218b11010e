from __future__ import annotations

from pathlib import Path

import pyvips

from gefa.core.plan.load import load_plan
from gefa.folder.site_files import site_files
from gefa_demo.pennants import draw_pennants
from gefa_demo.photographs import SCENES, draw_photograph
from gefa_demo.world import SAMPLES


def test_six_photographs_large_enough_to_be_worth_it() -> None:
    assert len(SCENES) == 6
    assert len({scene.file for scene in SCENES}) == 6
    assert all(scene.alt for scene in SCENES)


def test_a_photograph_is_the_same_each_time_and_looks_like_one(tmp_path: Path) -> None:
    (tmp_path / "again").mkdir()
    one = draw_photograph(4, tmp_path)
    two = draw_photograph(4, tmp_path / "again")
    assert one.read_bytes() == two.read_bytes()
    picture = pyvips.Image.new_from_file(str(one))
    assert min(picture.width, picture.height) >= 1600
    assert max(picture.width, picture.height) >= 2400
    assert picture.get("orientation") == 6, "one is stored sideways, as phones do"
    assert 1.0 < one.stat().st_size / 1e6 < 3.0, "grain and gradients weigh what a photograph does"


def test_the_sheet_is_the_same_each_time(tmp_path: Path) -> None:
    for name in ("a.svg", "b.svg"):
        draw_pennants(tmp_path / name)
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()


def test_the_whole_world_is_drawn(loaded_demo: Path) -> None:
    samples = loaded_demo / SAMPLES
    photographs = list((samples / "photos").iterdir())
    assert len(photographs) == 25
    assert len(list((samples / "designs").iterdir())) == 3
    assert all(path.stat().st_size > 3_000 for path in photographs)
    plan = load_plan(samples / "gefa.toml")
    named = {file.name for file in site_files(plan, samples, samples / "public")}
    assert len(named) == 28, "the numbered test pictures are not of the site"
    assert all(plan.entry_for(name) for name in named)

"""A whole site: many photographs through one run, thousands of sources on the desk, and how far
expected weights are off."""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import pyvips

from bench.cutting import serving_process
from bench.designs import layered
from bench.encoders import encoder_clock
from gefa.core.make.foresight import foresee
from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.make.sampling import look_at
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.store.keys import SiteRight, new_site_key
from gefa.store.models import Revision, RevisionState, Source
from gefa.store.store import Store
from gefa.work.outlooks import Outlooks
from gefa_demo.moments import MOMENTS
from gefa_demo.pennants import draw_pennants
from gefa_demo.photographs import draw_scene
from gefa_demo.programme import draw_programme

# -- one run of many ---------------------------------------------------------------------

PHOTOGRAPHS = 300
SIDE = 1200
"""px of width: small ones, so that the run takes minutes and not an hour"""
WIDTHS = (400, 800, 1200)
RECIPE = (
    'default = "bench"\n[recipes.bench]\nformats = ["avif", "webp", "jpeg"]\n'
    f"widths = {list(WIDTHS)}\nevery_format = true\n"
    "quality = { avif = 55, webp = 75, jpeg = 78 }\n"
)


@dataclass
class OneRun:
    """CPU seconds of encoders and of all worker processes; MB of the web process at most."""

    encoding: float
    cpu: float
    seconds: float
    server_megabytes: float
    files: int

    @property
    def share(self) -> float:
        return self.encoding / self.cpu


def one_run(folder: Path) -> OneRun:
    """300 photographs, brought in, run at once."""
    photos = _many(folder / "many")
    data = folder / "run"
    headers = {"Authorization": f"Bearer {_site_key(data)}"}
    with encoder_clock() as encoding, serving_process(data) as (url, process):
        client = httpx.Client(base_url=f"{url}/api/v1", timeout=120, headers=headers)
        toml = {"Content-Type": "application/toml"}
        client.put("/plan", content=RECIPE, headers=toml).raise_for_status()
        for start in range(0, len(photos), 20):
            some = [
                ("file", (f"photos/{p.name}", p.read_bytes())) for p in photos[start : start + 20]
            ]
            client.post("/sources", files=some).raise_for_status()
        # Previews and expected weights are no part of the run.
        _until(lambda: _is_estimated(client) and _is_idle(url))
        before, started = _cpu_of_children(process), time.perf_counter()
        encoded = encoding()
        run = client.post("/runs", json={"sources": "all"}).raise_for_status().json()["id"]
        _until(lambda: client.get(f"/runs/{run}").json()["state"] == "done")
        cpu, seconds = _cpu_of_children(process) - before, time.perf_counter() - started
        encoded = encoding() - encoded
        memory = _high_water(process)
        files = client.get(f"/runs/{run}").json()["counts"]["files"]
    return OneRun(encoded, cpu, seconds, memory, files)


def _is_estimated(client: httpx.Client) -> bool:
    """What the files of every source weigh is known or expected."""
    after: str | None = "0"
    while after is not None:
        listed = client.get(f"/sources?after={after}").json()
        if not all(source["out"] for source in listed["sources"]):
            return False
        after = listed["next"]
    return True


def _is_idle(url: str) -> bool:
    """Nothing is in the queue, and no worker is busy."""
    lines = httpx.get(f"{url}/metrics").text.splitlines()
    figures = dict(line.rsplit(" ", 1) for line in lines if not line.startswith("#"))
    return float(figures["gefa_queue_waiting"]) + float(figures["gefa_tasks_working"]) == 0


def _site_key(data: Path) -> str:
    store = Store(data)
    with store.changing() as session:
        key = new_site_key(session, "bench", [SiteRight.BUILD, SiteRight.READ])
    store.close()
    return key


def _many(folder: Path) -> list[Path]:
    """Pieces of a dozen drawn photographs, no two alike."""
    folder.mkdir()
    scenes = [pyvips.Image.new_from_file(str(draw_scene(m, 900 + i, folder))).copy_memory()
              for i, m in enumerate(MOMENTS[:12])]  # fmt: skip
    for file in list(folder.iterdir()):
        file.unlink()
    made = []
    for number in range(PHOTOGRAPHS):
        scene = scenes[number % len(scenes)]
        x, y = (number * 29) % (scene.width - SIDE), (number * 17) % (scene.height - 800)
        target = folder / f"photo-{number:03d}.jpg"
        scene.crop(x, y, SIDE, 800).jpegsave(str(target), Q=92)
        made.append(target)
    return made


def _descendants(pid: int) -> Iterator[int]:
    for children in Path(f"/proc/{pid}/task").glob("*/children"):
        for child in children.read_text("ascii").split():
            yield int(child)
            yield from _descendants(int(child))


def _cpu_of_children(pid: int) -> float:
    """Of all processes below one, those included that have ended."""
    ticks = 0
    for child in _descendants(pid):
        fields = Path(f"/proc/{child}/stat").read_text("ascii").rpartition(")")[2].split()
        ticks += sum(int(field) for field in fields[11:15])
    return ticks / os.sysconf("SC_CLK_TCK")


def _high_water(pid: int) -> float:
    """MB of memory at most."""
    lines = Path(f"/proc/{pid}/status").read_text("ascii").splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM")) / 1024


def _until(check: object, seconds: float = 1200) -> None:
    assert callable(check)
    deadline = time.monotonic() + seconds
    while not check():
        if time.monotonic() > deadline:
            raise SystemExit("nothing came of it")
        time.sleep(2)  # each look costs the server something


# -- thousands on the desk ---------------------------------------------------------------

SOURCES = 3_000
VIEWS = (
    "/", "/?view=table", "/?q=photo-12", "/?folder=folder-7", "/?state=new&sort=name",
    "/?view=table&sort=heaviest", "/?after=2400",
)  # fmt: skip


@dataclass
class Desk:
    """Milliseconds until the slowest view of the desk answers; the median of seven each."""

    slowest: float
    view: str
    sources: int


def desk(folder: Path) -> Desk:
    """A desk of 3,000 sources in 40 folders."""
    data = folder / "desk"
    _fill(data, folder)
    # Once it is settled: without workers nothing goes on beside it.
    with serving_process(data, "--workers", "0") as (url, _):
        client = httpx.Client(base_url=url, timeout=120)
        found = {}
        for view in VIEWS:
            client.get(view).raise_for_status()
            times = []
            for _ in range(7):
                started = time.perf_counter()
                client.get(view).raise_for_status()
                times.append(time.perf_counter() - started)
            found[view] = 1000 * statistics.median(times)
    slowest = max(found, key=found.__getitem__)
    return Desk(found[slowest], slowest, SOURCES)


def _fill(data: Path, folder: Path) -> None:
    picture = folder / "one.png"
    pyvips.Image.black(64, 48, bands=3).copy(interpretation="srgb").pngsave(str(picture))
    found = survey(read(picture)).model_dump(mode="json")
    store = Store(data)
    blob = store.blobs.put_file(picture)
    with store.session() as session:
        for number in range(SOURCES):
            source = Source(name=f"folder-{number % 40}/photo-{number}.png")
            session.add(source)
            session.flush()
            session.add(
                Revision(
                    source_id=source.id, number=1, blob=blob.sha256, bytes=blob.bytes,
                    format="png", state=RevisionState.READY, survey=found,
                    preview={"problem": "not drawn"},
                )
            )  # fmt: skip
    outlooks = Outlooks(store)
    while outlooks.turn():
        pass
    store.close()


# -- expected weights --------------------------------------------------------------------

RECIPES = {
    "fixed": 'formats = ["avif", "webp", "jpeg"]\nquality = { avif = 60, webp = 80, jpeg = 82 }\n',
    "look": 'formats = ["avif", "webp", "jpeg"]\nquality = { look = 70 }\n',
}


@dataclass
class Expected:
    """What cuts weigh against what was expected, and CPU seconds of looking against making."""

    ratios: list[float] = field(default_factory=list)
    expected: float = 0.0
    real: float = 0.0
    looking: float = 0.0
    making: float = 0.0

    @property
    def within(self) -> float:
        """The share of cuts that are within 20 %."""
        return sum(abs(ratio - 1) <= 0.2 for ratio in self.ratios) / len(self.ratios)

    @property
    def off(self) -> float:
        """By how much the sum is off."""
        return abs(self.expected / self.real - 1)


def expected(folder: Path) -> Expected:
    """Photographs drawn otherwise than the sample's, drawings and designs; each by a fixed quality
    and by a look."""
    folder = folder / "expected"
    folder.mkdir()
    photos = [draw_scene(moment, 500 + i, folder) for i, moment in enumerate(MOMENTS[::3])]
    designs = [folder / "pennants.svg", folder / "programme.ora"]
    draw_pennants(designs[0])
    draw_programme(designs[1])
    designs.append(layered(folder / "pieces.ora", 24))
    found = Expected()
    for file in [*photos, *designs]:
        for name in RECIPES if file in photos else ("fixed",):
            widths = [400, 800, 1600] if file in photos else [120, 240, 480]
            text = f'default = "t"\n[recipes.t]\n{RECIPES[name]}widths = {widths}\n'
            if file not in photos:
                text += '[[rules]]\nparts = "**"\nrecipe = "t"\n'
            _compare(found, file, parse_plan(text, "p"))
    return found


def _compare(found: Expected, file: Path, plan: Plan) -> None:
    document = read(file)
    for job in prepare(survey_for(document, plan), plan).jobs:
        started = time.process_time()
        foretold = look_at(job, document, MemoryShelf())
        looked = time.process_time()
        report = carry_out(job, lambda: document, MemoryShelf())
        made = time.process_time()
        facts, known = None, {}
        if foretold.report is not None:
            facts, known = foretold.report.facts.get(job.facts_key), foretold.report.made
        seen = foresee(job, facts, known, foretold.estimate)
        real = sum(one.sent for one in report.files)
        if not real:
            continue
        if foretold.report is None:  # what is made at once is no work twice
            found.looking += looked - started
            found.making += made - looked
        found.ratios.append(seen.expected / real)
        found.expected += seen.expected
        found.real += real

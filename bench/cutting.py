"""What a small change costs, how fast a large design opens, how a huge picture is sliced."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import httpx
import pyvips
from playwright.sync_api import expect, sync_playwright

from bench.designs import layered
from bench.rungs import rungs
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.load import load_plan, parse_plan
from gefa.core.read import read
from gefa.core.threads import cores
from gefa.core.treat.encode import encode
from gefa.core.treat.pictures import fit_alpha
from gefa.core.treat.recipe import Aim
from gefa.folder.export import Exporter
from gefa.folder.site_files import named
from gefa.serve import free_port
from gefa.work.pool import Pool

CUTS = 50
WATCHED_CUTS = 40
EACH = '[[rules]]\nparts = "*/*"\nrecipe = "figure"\n'
"""a plan that cuts each layer of each group"""
HUGE = 20_000
"""px a side"""


@dataclass
class Again:
    """Seconds of a full export, and of two after a layer of many was changed: by processes that
    are already there, and by a program started anew."""

    full: float
    warm: float
    cold: float
    made: int
    files: int

    @property
    def share(self) -> float:
        return self.warm / self.full


def after_a_small_change(folder: Path) -> Again:
    """50 cuts, then again with one of them changed, and again with another."""
    place = folder / "again"
    place.mkdir()
    design = layered(place / "design.ora", CUTS, largest=1100)
    plan = place / "gefa.toml"
    plan.write_text(EACH)
    out = place / "out"
    with Pool(cores()) as pool:
        pool.start()
        time.sleep(2)
        exporter = Exporter(pool, out)

        def export() -> tuple[float, int]:
            started = time.perf_counter()
            manifest = exporter.export(named([design]), load_plan(plan)).manifest
            made = sum(not file.reused for file in manifest.files)
            return time.perf_counter() - started, made

        full, files = export()
        layered(design, CUTS, changed=CUTS // 2, largest=1100)
        warm, made = export()
    layered(design, CUTS, changed=CUTS // 2 + 1, largest=1100)
    started = time.perf_counter()
    subprocess.run(_export(design, plan, out), check=True, stdout=subprocess.DEVNULL)
    return Again(full, warm, time.perf_counter() - started, made, files)


def _export(source: Path, plan: Path, out: Path) -> list[str]:
    command = [sys.executable, "-m", "gefa", "export", str(source), "--plan", str(plan)]
    return [*command, "--out", str(out)]


@dataclass
class Opening:
    """Seconds from bringing a design in until its list and outlines are on the screen."""

    seconds: float
    parts: int
    longest_frame: float
    """ms, while the list is scrolled from end to end"""


SCROLL = """async () => {
  const list = document.getElementById("list");
  let last = performance.now(), longest = 0;
  for (let at = 0; at < list.scrollHeight; at += 160) {
    list.scrollTop = at;
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    longest = Math.max(longest, now - last);
    last = now;
  }
  return longest;
}"""


SHOWN = """() => document.readyState !== "loading"
  && document.querySelector("tbody.part") && document.getElementById("outlines")"""


def opening(folder: Path) -> Opening:
    """A design of 300 layers, in a real browser on a real server."""
    design = layered(folder / "crowd.ora", 300)
    with (
        serving(folder / "opening") as url,
        sync_playwright() as playwright,
    ):
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(url)
        body = design.read_bytes()
        started = time.perf_counter()
        brought = httpx.post(
            f"{url}/sources",
            files={"file": (design.name, body)},
            headers={"Accept": "application/json"},
            timeout=60,
        )
        (result,) = brought.json()["results"]
        page.goto(f"{url}/sources/{result['source']}")
        rows = page.locator("tbody.part")
        # Looked at with each frame: ``expect`` looks once a second after a while.
        page.wait_for_function(SHOWN, polling="raf", timeout=60_000)
        seconds = time.perf_counter() - started
        count = rows.count()
        expect(page.locator("#drawn image")).to_be_attached(timeout=60_000)
        page.wait_for_timeout(1000)
        longest = page.evaluate(SCROLL)
        browser.close()
    return Opening(seconds, count, longest)


@contextmanager
def serving(data: Path) -> Iterator[str]:
    """The address of a server on a data folder."""
    with serving_process(data) as (url, _):
        yield url


@contextmanager
def serving_process(data: Path, *more: str) -> Iterator[tuple[str, int]]:
    """The same, with the number of its process; ``more`` are options."""
    port = free_port("127.0.0.1", 0)
    command = [
        sys.executable,
        "-m",
        "gefa",
        "serve",
        "--data",
        str(data),
        "--port",
        str(port),
        *more,
    ]
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    url = f"http://127.0.0.1:{port}"
    try:
        _wait(lambda: httpx.get(f"{url}/runs").is_success)
        time.sleep(2)  # the encoding processes start up beside it
        yield url, server.pid
    finally:
        server.terminate()
        server.wait()


def _wait(check: Callable[[], bool], seconds: float = 60) -> None:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        try:
            if check():
                return
        except (httpx.HTTPError, OSError, ValueError):
            pass
        time.sleep(0.02)
    raise SystemExit("nothing came of it")


@dataclass
class Slicing:
    """The largest process of an export, in MB of 1,000,000 bytes, and its wall seconds."""

    megabytes: float
    seconds: float
    slices: int


def slicing(folder: Path) -> Slicing:
    """A JPEG of 20,000 × 20,000 px into 10 × 10 slices."""
    place = folder / "slicing"
    place.mkdir()
    source = place / "huge.jpg"
    noise = pyvips.Image.gaussnoise(HUGE, HUGE, mean=128, sigma=24).cast("uchar")
    ramp = pyvips.Image.xyz(HUGE, HUGE)
    colour = noise.bandjoin([(ramp[0] / 80).cast("uchar"), (ramp[1] / 80).cast("uchar")])
    colour.copy(interpretation="srgb").jpegsave(str(source), Q=85)
    plan = place / "gefa.toml"
    plan.write_text(
        '[recipes.tile]\nformats = ["webp", "jpeg"]\nwidths = [1000]\n'
        '[[slices]]\nsplit = { columns = 10, rows = 10 }\nrecipe = "tile"\n'
    )
    code = "from bench.cutting import print_largest; print_largest()"
    started = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-c", code],
        input=f"{source}\n{plan}\n{place / 'out'}",
        capture_output=True,
        text=True,
        check=True,
    )
    found = json.loads(done.stdout.splitlines()[-1])
    return Slicing(found["bytes"] / 1e6, time.perf_counter() - started, found["slices"])


def print_largest() -> None:
    """The other end of ``slicing``: one export, and the high-water mark of its largest process."""
    import resource

    source, plan, out = (Path(line) for line in sys.stdin.read().splitlines())
    subprocess.run(_export(source, plan, out), check=True, stdout=subprocess.DEVNULL)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024
    cuts = json.loads((out / "manifest.json").read_text())["cuts"]
    print(json.dumps({"bytes": peak, "slices": len(cuts)}))


@dataclass
class Saving:
    """Seconds from a save to new files in place, and of encoding those files alone."""

    until_there: float
    encoding: float

    @property
    def over(self) -> float:
        return self.until_there - self.encoding


def saving(folder: Path) -> Saving:
    """``gefa export --watch`` on a design of 40 cuts, of which one changes."""
    place = folder / "saving"
    place.mkdir()
    design = layered(place / "design.ora", WATCHED_CUTS, largest=600)
    newer = layered(place / "newer.ora", WATCHED_CUTS, changed=7, largest=600)
    plan = place / "gefa.toml"
    plan.write_text(EACH)
    command = [*_export(design, plan, place / "out"), "--watch"]
    watcher = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    lines: list[tuple[float, str]] = []

    def listen() -> None:
        assert watcher.stdout is not None
        for line in watcher.stdout:
            lines.append((time.perf_counter(), line))

    threading.Thread(target=listen, daemon=True).start()
    try:
        _wait(lambda: any("waiting" in line for _, line in lines))
        time.sleep(1)
        lines.clear()
        started = time.perf_counter()
        os.replace(newer, design)
        _wait(lambda: any("waiting" in line for _, line in lines))
        arrived = next(at for at, line in lines if "waiting" in line)
    finally:
        watcher.terminate()
        watcher.wait()
    return Saving(arrived - started, _encoding_seconds(design, "Piece 7"))


def _encoding_seconds(design: Path, piece: str) -> float:
    """Wall seconds of nothing but the encoders for one cut's files."""
    document = read(design)
    plan = parse_plan(EACH, "gefa.toml")
    jobs = prepare(survey_for(document, plan), plan).jobs
    job = next(job for job in jobs if piece in document.part(job.cut.part).path)
    total = 0.0
    sizes = sorted({variant.size for variant in job.variants}, key=lambda size: size.width)
    part = document.part(job.cut.part)
    for size, image in rungs(document, part, job.extent, sizes):
        for variant in (each for each in job.variants if each.size == size):
            pixels = fit_alpha(image, variant.format, job.recipe)
            started = time.perf_counter()
            assert not isinstance(variant.quality, Aim)
            encode(pixels, variant.format, variant.quality)
            total += time.perf_counter() - started
    return total

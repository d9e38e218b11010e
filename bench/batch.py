"""A batch of photographs through ``gefa export``: how much of it encodes; against a Pillow loop."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pyvips
from PIL import Image

from bench.encoders import encoder_clock
from gefa.core.geometry import Size, height_for
from gefa.core.treat.formats import FORMATS, Format
from gefa_demo.photographs import SCENES, draw_photograph

WIDTHS = (320, 640, 960, 1280, 1920)
TIMES = 2
"""how often a time is taken; the shortest counts, since others may use the machine too"""


@dataclass
class Efficiency:
    """``share`` is how much of the CPU time of an export its encoders take, 0..1; ``busy`` how
    much of the cores' time the export used."""

    encoder_seconds: float
    cpu_seconds: float
    wall_seconds: float
    cores: int
    files: int

    @property
    def share(self) -> float:
        return self.encoder_seconds / self.cpu_seconds

    @property
    def busy(self) -> float:
        return self.cpu_seconds / (self.wall_seconds * self.cores)


@dataclass
class Ratio:
    """Wall seconds for the same files, and bytes of ours over bytes of theirs."""

    ours: float
    theirs: float
    bytes_ratio: float

    @property
    def ratio(self) -> float:
        return self.ours / self.theirs


def photographs(folder: Path) -> list[Path]:
    """24 pictures: six scenes, each also mirrored and turned."""
    folder.mkdir()
    made = []
    for index, scene in enumerate(SCENES):
        original = draw_photograph(index, folder)
        image = pyvips.Image.new_from_file(str(original)).autorot().copy_memory()
        original.unlink()
        turns = (image, image.fliphor(), image.flipver(), image.rot180())
        for number, turned in enumerate(turns):
            target = folder / f"{Path(scene.file).stem}-{number}.jpg"
            turned.jpegsave(str(target), Q=92)
            made.append(target)
    return made


def efficiency(photos: list[Path], folder: Path) -> Efficiency:
    """All three formats at five widths."""
    formats = (Format.JPEG, Format.WEBP, Format.AVIF)
    before = _children_seconds()
    with encoder_clock() as encoding:
        wall = export(photos, folder, "all", formats, times=1)
        encoded = encoding()
    cpu = _children_seconds() - before
    files = len(photos) * len(WIDTHS) * len(formats)
    return Efficiency(encoded, cpu, wall, os.cpu_count() or 1, files)


def _children_seconds() -> float:
    """CPU seconds of all processes that this one has started and that have ended."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def export(
    photos: list[Path],
    folder: Path,
    name: str,
    formats: tuple[Format, ...],
    times: int = TIMES,
) -> float:
    """Wall seconds of one ``gefa export``, start of the program included."""
    plan = folder / f"{name}.toml"
    listed = ", ".join(f'"{format.value}"' for format in formats)
    plan.write_text(
        f"[recipes.bench]\nformats = [{listed}]\nwidths = {list(WIDTHS)}\nevery_format = true\n"
        '[[cuts]]\npart = "/"\nrecipe = "bench"\n'
    )
    command = [sys.executable, "-m", "gefa", "export", *map(str, photos)]
    command += ["--plan", str(plan), "--out", str(folder / name), "--force"]

    def once() -> None:
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)

    return shortest(once, times)


def shortest(work: Callable[[], None], times: int = TIMES) -> float:
    """Wall seconds of the quickest of so many tries."""
    tries = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        tries.append(time.perf_counter() - started)
    return min(tries)


def against_pillow(photos: list[Path], folder: Path, name: str) -> Ratio:
    """The same files with the same settings, once by us and once by a plain loop."""
    format = Format(name)
    ours = export(photos, folder, f"only-{name}", (format,))
    target = folder / f"pillow-{name}"
    target.mkdir()

    def loop() -> None:
        for path in photos:
            pillow_loop(path, target, format)

    theirs = shortest(loop)
    weights = [
        sum(file.stat().st_size for file in where.glob("*-*.*") if file.suffix != ".json")
        for where in (folder / f"only-{name}", target)
    ]
    return Ratio(ours, theirs, weights[0] / weights[1])


def pillow_loop(path: Path, target: Path, format: Format) -> None:
    quality = FORMATS[format].quality
    with Image.open(path) as opened:
        image = opened.convert("RGB")
    for width in WIDTHS:
        height = height_for(Size(*image.size), width)
        small = image.resize((width, height), Image.Resampling.LANCZOS)
        file = target / f"{path.stem}-{width}.{format.value}"
        if format is Format.JPEG:
            small.save(file, quality=quality, optimize=True, progressive=True)
        else:
            small.save(file, quality=quality, method=FORMATS[format].effort())

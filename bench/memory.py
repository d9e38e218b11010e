"""How much memory a worker needs for a very large picture."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pyvips

from gefa_demo.photographs import draw_photograph

SIDE = 10_000


@dataclass
class Memory:
    """The largest resident size of the process, in MB of 1,000,000 bytes."""

    megabytes: float
    width: int
    height: int
    files: int


def peak_memory(folder: Path) -> Memory:
    """A JPEG of 100 megapixels through the built-in recipe for photographs."""
    photo = draw_photograph(0, folder)
    image = pyvips.Image.new_from_file(str(photo))
    large = image.resize(SIDE / image.width, vscale=SIDE / image.height)
    source = folder / "large.jpg"
    large.jpegsave(str(source), Q=90)
    code = "from bench.memory import print_peak; print_peak()"
    done = subprocess.run(
        [sys.executable, "-c", code],
        input=f"{source}\n{folder / 'large'}",
        env=os.environ | {"VIPS_CONCURRENCY": "1"},
        capture_output=True,
        text=True,
        check=True,
    )
    found = json.loads(done.stdout)
    return Memory(found["bytes"] / 1e6, SIDE, SIDE, found["files"])


def print_peak() -> None:
    """The other end of ``peak_memory``: what a worker process does, and its high-water mark."""
    from gefa.core.make.folder_shelf import Kept
    from gefa.core.make.prepare import prepare, survey_for
    from gefa.core.plan.plan import Plan
    from gefa.core.read import read
    from gefa.folder.export_calls import make_cut

    source, out = (Path(line) for line in sys.stdin.read().splitlines())
    plan = Plan()
    document = read(source)
    (job,) = prepare(survey_for(document, plan), plan).jobs
    report = make_cut(source, source.name, job, out, Kept(), {})
    print(json.dumps({"bytes": high_water(), "files": len(report.files)}))


def high_water() -> int:
    """The largest resident size of this process so far, in bytes. ``getrusage`` would count that of
    the process that started it, from before its own program was loaded."""
    status = Path("/proc/self/status").read_text("ascii")
    (kilobytes,) = re.findall(r"^VmHWM:\s+(\d+) kB$", status, re.MULTILINE)
    return int(kilobytes) * 1024

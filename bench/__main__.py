"""``make bench``: how fast and how small, as ratios measured in one run on this machine."""

from __future__ import annotations

import json
import os
import platform
import tempfile
from dataclasses import asdict, dataclass
from pathlib import Path

from rich.console import Console
from rich.table import Table

from bench.batch import against_pillow, efficiency, photographs
from bench.memory import peak_memory

OUT = Path(__file__).parent / "out"


@dataclass
class Figure:
    """One measured figure beside what is wanted of it."""

    name: str
    value: float
    wanted: str
    reached: bool
    how: str


def measure(folder: Path) -> list[Figure]:
    photos = photographs(folder / "photos")
    whole = efficiency(photos, folder)
    jpeg = against_pillow(photos, folder, "jpeg")
    webp = against_pillow(photos, folder, "webp")
    memory = peak_memory(folder)
    return [
        Figure(
            "batch efficiency",
            whole.ratio,
            "at least 0.85",
            whole.ratio >= 0.85,
            f"{whole.encoder_seconds:.1f} s of bare encoding ÷ ({whole.wall_seconds:.1f} s ×"
            f" {whole.cores} cores), {whole.files} files",
        ),
        *(
            Figure(
                f"time against a Pillow loop, {name}",
                ratio.ratio,
                "at most 0.6",
                ratio.ratio <= 0.6,
                f"{ratio.ours:.1f} s ÷ {ratio.theirs:.1f} s,"
                f" bytes {ratio.bytes_ratio:.3f} of theirs",
            )
            for name, ratio in (("JPEG", jpeg), ("WebP", webp))
        ),
        Figure(
            "peak memory of a worker, 100 megapixels",
            memory.megabytes,
            "under 600 MB",
            memory.megabytes < 600,
            f"{memory.width} × {memory.height} px JPEG, {memory.files} files",
        ),
    ]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        figures = measure(Path(folder))
    table = Table(title=f"{platform.machine()}, {os.cpu_count()} cores")
    for title in ("figure", "measured", "wanted", "reached", "how"):
        table.add_column(title)
    for figure in figures:
        reached = "yes" if figure.reached else "no"
        table.add_row(figure.name, f"{figure.value:.2f}", figure.wanted, reached, figure.how)
    Console(width=150).print(table)
    OUT.mkdir(exist_ok=True)
    text = json.dumps([asdict(figure) for figure in figures], indent=2, ensure_ascii=False)
    (OUT / "bench.json").write_text(text + "\n", "utf-8")


if __name__ == "__main__":
    main()

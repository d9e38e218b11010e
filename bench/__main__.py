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

from bench import cutting, delivery, proofs, quality
from bench.batch import against_pillow, efficiency, photographs
from bench.memory import peak_memory
from gefa.work.pool import Pool

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
            "share of an export's CPU time that encodes",
            whole.share,
            "at least 0.92",
            whole.share >= 0.92,
            f"{whole.encoder_seconds:.1f} s of bare encoding ÷ {whole.cpu_seconds:.1f} s,"
            f" {whole.files} files; {whole.cores} cores busy to {whole.busy:.2f}",
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
        *delivery_figures(photos, folder),
        *cutting_figures(folder),
        *quality_figures(photos),
        *proof_figures(folder),
    ]


def delivery_figures(photos: list[Path], folder: Path) -> list[Figure]:
    served = delivery.delivered(photos, folder)
    how = (
        f"a file of {served.bytes / 1000:.1f} kB to 16 connections; 99 of 100 within"
        f" {served.quiet_ms:.0f} ms, {served.busy_ms:.0f} ms while a batch runs"
        + ("" if served.encoding else " (which ended too early)")
    )
    return [
        Figure(
            "requests for a variant, a second",
            served.quiet,
            "at least 2000",
            served.quiet >= 2000,
            how,
        ),
        Figure(
            "share of them left while a batch runs",
            served.kept,
            "at least 0.67",
            served.kept >= 0.67 and served.encoding,
            how,
        ),
    ]


def proof_figures(folder: Path) -> list[Figure]:
    proof = proofs.proofing(folder)
    return [
        Figure(
            "proof of a 12-megapixel picture on the screen, s",
            proof.first,
            "at most 1",
            proof.first <= 1,
            f"the file at 1,920 px; with its reference {proof.both:.2f} s, at the natural"
            f" {proofs.WIDTH:,} px {proof.natural:.2f} s;"
            f" curves complete after {proof.curves:.0f} s more",
        )
    ]


def quality_figures(photos: list[Path]) -> list[Figure]:
    # One of each scene: mirrored ones cost the same again.
    # In a worker's process, as in operation: one thread for pixels.
    with Pool(1) as pool:
        searched: quality.Searching = pool.call(quality.searching, photos[::4])
    scored = quality.scoring(photos[0])
    return [
        Figure(
            f"look {quality.LOOK:g}, time against one fixed encode",
            searched.times,
            "at most 3",
            searched.times <= 3,
            f"{len(searched.encodes)} files, median {searched.median_encodes:g} and at most"
            f" {max(searched.encodes)} encodes; {min(searched.above):.2f} to"
            f" {max(searched.above):.2f} points above, {searched.named} limits named",
        ),
        Figure(
            f"bytes of look {quality.LOOK:g} against fixed numbers",
            searched.share,
            "at most 0.8",
            searched.share <= 0.8,
            f"{searched.bytes / 1e6:.2f} MB against {searched.fixed_bytes / 1e6:.2f} MB",
        ),
        Figure(
            "speed of the score against the package",
            scored.times,
            "at least 5",
            scored.times >= 5,
            f"{scored.ours:.3f} s against {scored.theirs:.3f} s for a megapixel",
        ),
    ]


def cutting_figures(folder: Path) -> list[Figure]:
    again = cutting.after_a_small_change(folder)
    opened = cutting.opening(folder)
    saved = cutting.saving(folder)
    sliced = cutting.slicing(folder)
    return [
        Figure(
            f"export after changing 1 of {cutting.CUTS} cuts",
            again.share,
            "at most 0.05",
            again.share <= 0.05,
            f"{again.warm:.2f} s ÷ {again.full:.1f} s, {again.made} of {again.files} files;"
            f" {again.cold:.1f} s by a program started anew",
        ),
        Figure(
            "opening a design of 300 layers, s",
            opened.seconds,
            "under 3",
            opened.seconds < 3,
            f"from bringing it in until {opened.parts} rows and outlines are on the screen;"
            f" longest frame when scrolled {opened.longest_frame:.0f} ms",
        ),
        Figure(
            f"from save to files, {cutting.WATCHED_CUTS} cuts, s over encoding",
            saved.over,
            "under 1",
            saved.over < 1,
            f"{saved.until_there:.2f} s, of which {saved.encoding:.2f} s encode",
        ),
        Figure(
            f"peak memory, {cutting.HUGE:,} px squared into {sliced.slices} slices",
            sliced.megabytes,
            "under 800 MB",
            sliced.megabytes < 800,
            f"the largest process; {sliced.seconds:.0f} s",
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

"""``make bench``: how fast and how small, as ratios measured in one run on this machine.

``python -m bench TEXT`` measures only figures that have the text in their names.
"""

from __future__ import annotations

import json
import os
import platform
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import cached_property
from pathlib import Path

from rich.console import Console
from rich.table import Table

from bench import automatic, cutting, delivery, idle, lightness, proofs, quality, site, weights
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


class Workshop:
    """A folder for what is measured, with photographs that are drawn when somebody asks."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @cached_property
    def photos(self) -> list[Path]:
        return photographs(self.folder / "photos")


def batch_figures(shop: Workshop) -> list[Figure]:
    whole = efficiency(shop.photos, shop.folder)
    return [
        Figure(
            ENCODING,
            whole.share,
            "at least 0.95",
            whole.share >= 0.95,
            f"{whole.encoder_seconds:.1f} s of encoders ÷ {whole.cpu_seconds:.1f} s,"
            f" {whole.files} files; {whole.cores} cores busy to {whole.busy:.2f}",
        )
    ]


def pillow_figures(shop: Workshop) -> list[Figure]:
    figures = []
    for name, label in (("jpeg", "JPEG"), ("webp", "WebP")):
        ratio = against_pillow(shop.photos, shop.folder, name)
        figures.append(
            Figure(
                f"{PILLOW}, {label}",
                ratio.ratio,
                "at most 0.6",
                ratio.ratio <= 0.6,
                f"{ratio.ours:.1f} s ÷ {ratio.theirs:.1f} s,"
                f" bytes {ratio.bytes_ratio:.3f} of theirs",
            )
        )
    return figures


def memory_figures(shop: Workshop) -> list[Figure]:
    memory = peak_memory(shop.folder)
    return [
        Figure(
            MEMORY,
            memory.megabytes,
            "under 600 MB",
            memory.megabytes < 600,
            f"{memory.width} × {memory.height} px JPEG, {memory.files} files",
        )
    ]


def idle_figures(shop: Workshop) -> list[Figure]:
    found = idle.idle(shop.photos[0], shop.folder)
    return [
        Figure(
            IDLE,
            found.share,
            "under 0.01",
            found.share < 0.01,
            f"CPU of the web process in {found.seconds:.0f} s, {found.tasks:,} tasks in the queue",
        )
    ]


def delivery_figures(shop: Workshop) -> list[Figure]:
    served = delivery.delivered(shop.photos, shop.folder)
    how = (
        f"a file of {served.bytes / 1000:.1f} kB to 16 connections; 99 of 100 within"
        f" {served.quiet_ms:.0f} ms, {served.busy_ms:.0f} ms while a batch runs"
        + ("" if served.encoding else " (which ended too early)")
    )
    return [
        Figure(REQUESTS, served.quiet, "at least 2000", served.quiet >= 2000, how),
        Figure(
            KEPT,
            served.kept,
            "at least 0.67",
            served.kept >= 0.67 and served.encoding,
            how,
        ),
    ]


def proof_figures(shop: Workshop) -> list[Figure]:
    proof = proofs.proofing(shop.folder)
    return [
        Figure(
            PROOF,
            proof.first,
            "at most 1",
            proof.first <= 1,
            f"the file at 1,920 px; with its reference {proof.both:.2f} s, at the natural"
            f" {proofs.WIDTH:,} px {proof.natural:.2f} s;"
            f" curves complete after {proof.curves:.0f} s more",
        )
    ]


def quality_figures(shop: Workshop) -> list[Figure]:
    # One of each scene: mirrored ones cost the same again.
    # In a worker's process, as in operation: one thread for pixels.
    with Pool(1) as pool:
        searched: quality.Searching = pool.call(quality.searching, shop.photos[::4])
    scored = quality.scoring(shop.photos[0])
    return [
        Figure(
            SEARCH,
            searched.times,
            "at most 3",
            searched.times <= 3,
            f"{len(searched.encodes)} files, median {searched.median_encodes:g} and at most"
            f" {max(searched.encodes)} encodes; {min(searched.above):.2f} to"
            f" {max(searched.above):.2f} points above, {searched.named} limits named",
        ),
        Figure(
            BYTES,
            searched.share,
            "at most 0.8",
            searched.share <= 0.8,
            f"{searched.bytes / 1e6:.2f} MB against {searched.fixed_bytes / 1e6:.2f} MB",
        ),
        Figure(
            SCORE,
            scored.times,
            "at least 5",
            scored.times >= 5,
            f"{scored.ours:.3f} s against {scored.theirs:.3f} s for a megapixel",
        ),
    ]


def lightness_figures(shop: Workshop) -> list[Figure]:
    found = lightness.lightness(shop.photos[::4], shop.folder)
    photographs = f"{found.photographs} photographs at {lightness.WIDTH} px, look 75"
    drawn = f"{found.drawn} drawn pieces"
    wanted = {
        f"{LIGHT}, JPEG": (found.jpeg, 0.88, photographs),
        f"{LIGHT}, WebP": (found.webp, 1.0, photographs),
        f"{LIGHT}, PNG of photographs": (found.png_of_photographs, 0.88, photographs),
        f"{LIGHT}, PNG of drawn pieces": (found.png, 0.88, drawn),
        f"{LIGHT}, pieces as PNG with a palette": (found.palettes, 0.88, f"{drawn}, look 85"),
        f"{LIGHT}, drawings as SVG": (found.drawings, 0.5, "parts of a drawing, against WebP"),
        f"{LIGHT}, pieces as WebP": (found.pieces, 0.88, f"{drawn}, look 85"),
    }
    return [
        Figure(name, share, f"at most {most}", share <= most, how)
        for name, (share, most, how) in wanted.items()
    ]


def automatic_figures(shop: Workshop) -> list[Figure]:
    found = automatic.automatic(shop.photos[::8])
    return [
        Figure(
            AUTO,
            found.times,
            "at most 2.0",
            found.times <= 2.0 and not found.missed,
            f"{found.automatic_seconds:.1f} s ÷ {found.fixed_seconds:.1f} s CPU at look 75;"
            f" {found.automatic_bytes / 1e6:.2f} MB against {found.fixed_bytes / 1e6:.2f} MB,"
            f" {found.missed} of {found.files} files miss their look",
        )
    ]


def change_figures(shop: Workshop) -> list[Figure]:
    again = cutting.after_a_small_change(shop.folder)
    return [
        Figure(
            CHANGE,
            again.share,
            "at most 0.05",
            again.share <= 0.05,
            f"{again.warm:.2f} s ÷ {again.full:.1f} s, {again.made} of {again.files} files;"
            f" {again.cold:.1f} s by a program started anew",
        )
    ]


def opening_figures(shop: Workshop) -> list[Figure]:
    opened = cutting.opening(shop.folder)
    return [
        Figure(
            OPENING,
            opened.seconds,
            "under 3",
            opened.seconds < 3,
            f"from bringing it in until {opened.parts} rows and outlines are on the screen;"
            f" longest frame when scrolled {opened.longest_frame:.0f} ms",
        )
    ]


def saving_figures(shop: Workshop) -> list[Figure]:
    saved = cutting.saving(shop.folder)
    return [
        Figure(
            SAVING,
            saved.over,
            "under 1",
            saved.over < 1,
            f"{saved.until_there:.2f} s, of which {saved.encoding:.2f} s encode",
        )
    ]


def slicing_figures(shop: Workshop) -> list[Figure]:
    sliced = cutting.slicing(shop.folder)
    return [
        Figure(
            SLICING,
            sliced.megabytes,
            "under 800 MB",
            sliced.megabytes < 800,
            f"{sliced.slices} slices; the largest process; {sliced.seconds:.0f} s",
        )
    ]


def run_figures(shop: Workshop) -> list[Figure]:
    ran = site.one_run(shop.folder)
    return [
        Figure(
            RUN,
            ran.share,
            "at least 0.92",
            ran.share >= 0.92,
            f"{ran.encoding:.0f} s of encoders ÷ {ran.cpu:.0f} s, {ran.files:,} files in"
            f" {ran.seconds:.0f} s",
        ),
        Figure(
            SERVER,
            ran.server_megabytes,
            "under 300 MB",
            ran.server_megabytes < 300,
            f"of the web process, with {site.PHOTOGRAPHS} sources and their run",
        ),
    ]


def desk_figures(shop: Workshop) -> list[Figure]:
    shown = site.desk(shop.folder)
    return [
        Figure(
            DESK,
            shown.slowest,
            "under 300",
            shown.slowest < 300,
            f"the slowest view, {shown.view}",
        )
    ]


def expected_figures(shop: Workshop) -> list[Figure]:
    with Pool(1) as pool:
        found: site.Expected = pool.call(site.expected, shop.folder)
    how = (
        f"{len(found.ratios)} cuts, from {min(found.ratios):.2f} to {max(found.ratios):.2f};"
        f" looking takes {found.looking / found.making:.2f} of the time of making"
    )
    return [
        Figure(EXPECTED, found.within, "at least 0.9", found.within >= 0.9, how),
        Figure(
            SUM,
            found.off,
            "at most 0.1",
            found.off <= 0.1,
            f"{found.expected / 1e6:.2f} MB expected, {found.real / 1e6:.2f} MB real",
        ),
    ]


def weight_figures(shop: Workshop) -> list[Figure]:
    with Pool(1) as pool:
        found: weights.Weighing = pool.call(weights.weighing)
    return [
        Figure(
            WEIGHED,
            found.site,
            "under 3",
            found.site < 3,
            f"{weights.PAGES} pages × {weights.PICTURES} pictures × {weights.ROWS} rows, CPU s",
        ),
        Figure(
            LADDERS, found.ladders, "under 5", found.ladders < 5, "CPU s, without encoding anything"
        ),
        Figure(
            FITTED,
            found.best,
            "at most 0.85",
            found.best <= 0.85,
            "photographs of the sample site, as its pages show them, the neutral audience",
        ),
    ]


ENCODING = "share of an export's CPU time that encodes"
PILLOW = "time against a Pillow loop"
MEMORY = "peak memory of a worker, 100 megapixels"
IDLE = "web process idle, of a core"
REQUESTS = "requests for a variant, a second"
KEPT = "share of them left while a batch runs"
CHANGE = f"export after changing 1 of {cutting.CUTS} cuts"
OPENING = "opening a design of 300 layers, s"
SAVING = f"from save to files, {cutting.WATCHED_CUTS} cuts, s over encoding"
SLICING = f"peak memory, {cutting.HUGE:,} px squared into slices"
SEARCH = f"look {quality.LOOK:g}, time against one fixed encode"
BYTES = f"bytes of look {quality.LOOK:g} against fixed numbers"
SCORE = "speed of the score against the package"
LIGHT = "bytes against plain settings"
AUTO = "automatic formats against fixed ones"
RUN = f"share of CPU time that encodes, {site.PHOTOGRAPHS} photographs in one run"
SERVER = "peak memory of the server, MB"
DESK = f"{site.SOURCES:,} sources on the desk, ms"
EXPECTED = "share of cuts that weigh what was expected, within 20 %"
SUM = "expected weight of all, off by"
WEIGHED = "weighing a site, s"
LADDERS = f"ladders for {weights.LADDERS} pictures, s"
FITTED = "bytes of a visit, best ladders against equal steps"
PROOF = "proof of a 12-megapixel picture on the screen, s"

MEASURES: dict[tuple[str, ...], Callable[[Workshop], list[Figure]]] = {
    (ENCODING,): batch_figures,
    (PILLOW,): pillow_figures,
    (MEMORY,): memory_figures,
    (IDLE,): idle_figures,
    (REQUESTS, KEPT): delivery_figures,
    (CHANGE,): change_figures,
    (OPENING,): opening_figures,
    (SAVING,): saving_figures,
    (SLICING,): slicing_figures,
    (SEARCH, BYTES, SCORE): quality_figures,
    (LIGHT,): lightness_figures,
    (AUTO,): automatic_figures,
    (PROOF,): proof_figures,
    (RUN, SERVER): run_figures,
    (DESK,): desk_figures,
    (EXPECTED, SUM): expected_figures,
    (WEIGHED, LADDERS, FITTED): weight_figures,
}
"""what each measurement is asked for by"""


def measured(wanted: str, shop: Workshop) -> list[Figure]:
    figures: list[Figure] = []
    for names, measure in MEASURES.items():
        if any(wanted.lower() in name.lower() for name in names):
            began = time.monotonic()
            figures += measure(shop)
            print(f"{time.monotonic() - began:.0f} s: {names[0]}", file=sys.stderr, flush=True)
    return figures


def main(wanted: str = "") -> None:
    with tempfile.TemporaryDirectory() as folder:
        figures = measured(wanted, Workshop(Path(folder)))
    if not figures:
        known = "; ".join(name for names in MEASURES for name in names)
        sys.exit(f"No figure has {wanted!r} in its name. There are: {known}.")
    table = Table(title=f"{platform.machine()}, {os.cpu_count()} cores")
    for title in ("figure", "measured", "wanted", "reached", "how"):
        table.add_column(title)
    for figure in figures:
        reached = "yes" if figure.reached else "no"
        table.add_row(figure.name, f"{figure.value:.3g}", figure.wanted, reached, figure.how)
    Console(width=150).print(table)
    if wanted:
        return
    OUT.mkdir(exist_ok=True)
    text = json.dumps([asdict(figure) for figure in figures], indent=2, ensure_ascii=False)
    (OUT / "bench.json").write_text(text + "\n", "utf-8")


if __name__ == "__main__":
    main(" ".join(sys.argv[1:]))

"""Quality that is found: what searching costs, what it saves, and how fast the score is."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median

import numpy as np
import pyvips
from ssimulacra2 import compute_ssimulacra2

from bench.batch import WIDTHS
from bench.rungs import rungs
from gefa.core.geometry import Size, height_for
from gefa.core.read import read
from gefa.core.read.document import Document
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import PROBE_WIDTH, EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import LOSSY, Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.quality_search import EncodeResult
from gefa.core.treat.recipe import Aim, Settings
from gefa.core.treat.score import Reference

LOOK = 75.0


@dataclass
class Searching:
    """CPU seconds of searches, and of one encode each at the quality they found; how many
    encodes each took; how far above the look they came; bytes."""

    seconds: float = 0.0
    fixed_seconds: float = 0.0
    encodes: list[int] = field(default_factory=list)
    above: list[float] = field(default_factory=list)
    named: int = 0
    bytes: int = 0
    fixed_bytes: int = 0

    @property
    def times(self) -> float:
        return self.seconds / self.fixed_seconds

    @property
    def share(self) -> float:
        """Bytes against fixed numbers that reach the look on every picture."""
        return self.bytes / self.fixed_bytes

    @property
    def median_encodes(self) -> float:
        return float(median(self.encodes))


def searching(photos: list[Path]) -> Searching:
    """Whole ladders of photographs, by one thread."""
    result = Searching()
    qualities: dict[Format, int] = dict.fromkeys(LOSSY, 0)
    for path in photos:
        for format, found in _ladder(path, result):
            qualities[format] = max(qualities[format], found.quality or 0)
    for path in photos:
        document = read(path)
        for image in _at(document, ladder(document.size, WIDTHS)):
            result.fixed_bytes += sum(
                len(encode(image, format, qualities[format])) for format in LOSSY
            )
    return result


def _ladder(path: Path, result: Searching) -> Iterator[tuple[Format, EncodeResult]]:
    document = read(path)
    sizes = ladder(document.size, WIDTHS)
    probes: list[EncodeSource] = []

    def probe() -> EncodeSource:
        """One for all widths, as in a run; the time that it takes is that of the first."""
        if not probes:
            size = Size(PROBE_WIDTH, height_for(document.size, PROBE_WIDTH))
            (image,) = _at(document, [size])
            probes.append(EncodeSource(image))
        return probes[0]

    for image in _at(document, sizes):
        source = EncodeSource(image, probe=probe)
        for format in LOSSY:
            began = time.process_time()
            found = find(source, EncodeRequest(format, Aim(look=LOOK), Settings()))
            between = time.process_time()
            encode(image, format, found.quality)
            result.fixed_seconds += time.process_time() - between
            result.seconds += between - began
            result.encodes.append(found.encodes)
            result.named += bool(found.limit)
            result.above.append((found.score or 0) - LOOK)
            result.bytes += len(found.data)
            yield format, found


def _at(document: Document, sizes: Sequence[Size]) -> Iterator[pyvips.Image]:
    for _, image in rungs(document, document.canvas, document.canvas_rect, sizes):
        yield image


@dataclass
class Scoring:
    """Seconds for a megapixel, from scratch."""

    ours: float
    theirs: float

    @property
    def times(self) -> float:
        return self.theirs / self.ours


def scoring(photo: Path) -> Scoring:
    """One picture against a noisy copy, by us and by the ``ssimulacra2`` package."""
    image = pyvips.Image.thumbnail(str(photo), 1250, height=800, crop="centre").copy_memory()
    pixels = np.ascontiguousarray(image.numpy())
    noise = np.random.default_rng(1).normal(0, 6, pixels.shape)
    worse = (pixels + noise).clip(0, 255).astype(np.uint8)
    with tempfile.TemporaryDirectory() as folder:
        paths = [Path(folder) / name for name in ("one.png", "other.png")]
        for path, rows in zip(paths, (pixels, worse), strict=True):
            pyvips.Image.new_from_array(rows).pngsave(str(path))
        started = time.perf_counter()
        compute_ssimulacra2(*paths)
        between = time.perf_counter()
        Reference(pixels).score(worse)
        return Scoring(time.perf_counter() - between, between - started)

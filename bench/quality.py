"""Quality that is found: what searching costs, what it saves, and how fast the score is."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from math import log2
from pathlib import Path
from statistics import median

import numpy as np
import pyvips
from ssimulacra2 import compute_ssimulacra2

from bench.batch import WIDTHS
from gefa.core.read import read
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeRequest, EncodeSource, find
from gefa.core.treat.formats import Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.pictures import rungs
from gefa.core.treat.quality_search import EncodeResult
from gefa.core.treat.recipe import Aim, Settings
from gefa.core.treat.score import Reference
from gefa.core.treat.typical_curves import DRIFT, Curve, moved

LOOK = 75.0
FORMATS = (Format.AVIF, Format.WEBP, Format.JPEG)


@dataclass
class Searching:
    """Seconds of searches, and of one encode each at the quality they found; how many encodes each
    took; how far above the look they came; bytes."""

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
    """Whole ladders of photographs, by one thread, each from its smallest width on."""
    result = Searching()
    qualities: dict[Format, int] = dict.fromkeys(FORMATS, 0)
    for path in photos:
        for format, found in _ladder(path, result):
            qualities[format] = max(qualities[format], found.quality or 0)
    for path in photos:
        for image in _pictures(path):
            result.fixed_bytes += sum(
                len(encode(image, format, qualities[format])) for format in FORMATS
            )
    return result


def _pictures(path: Path) -> Iterator[pyvips.Image]:
    document = read(path)
    for _, image in rungs(
        document, document.canvas, document.canvas_rect, ladder(document.size, WIDTHS)
    ):
        yield image


def _ladder(path: Path, result: Searching) -> Iterator[tuple[Format, EncodeResult]]:
    curves: dict[Format, tuple[int, Curve]] = {}
    looked: EncodeSource | None = None
    for image in _pictures(path):
        looked = EncodeSource(image, smaller=looked)
        for format in FORMATS:
            curve = None
            if format in curves:
                width, known = curves[format]
                curve = moved(known, DRIFT[format] * log2(image.width / width))
            began = time.perf_counter()
            found = find(looked, EncodeRequest(format, Aim(look=LOOK), Settings(), curve=curve))
            between = time.perf_counter()
            encode(image, format, found.quality)
            result.fixed_seconds += time.perf_counter() - between
            result.seconds += between - began
            result.encodes.append(found.encodes)
            result.named += bool(found.limit)
            result.above.append((found.score or 0) - LOOK)
            result.bytes += len(found.data)
            if found.curve is not None:
                curves[format] = (image.width, found.curve)
            yield format, found


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

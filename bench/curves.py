"""How score and weight grow with each encoder's quality number: ``Typical`` figures.

``python -m bench.curves FOLDER`` prints the means over the photographs of a folder.
"""

from __future__ import annotations

import sys
from math import log
from pathlib import Path
from statistics import mean

import pyvips

from gefa.core.geometry import Size, height_for
from gefa.core.read import read
from gefa.core.treat.curves import QUALITIES, warped
from gefa.core.treat.encode import encode
from gefa.core.treat.encode_at_quality import EncodeSource
from gefa.core.treat.formats import LOSSY
from gefa.core.treat.pictures import Pictures

WIDTH = 640
DRIFT_QUALITY = 70


def pictures(photo: Path) -> tuple[pyvips.Image, pyvips.Image]:
    """At WIDTH px and at twice that."""
    document = read(photo)
    sizes = [Size(w, height_for(document.size, w)) for w in (WIDTH, 2 * WIDTH)]
    made = Pictures(document, document.canvas, document.canvas_rect, sizes[1])
    return made.at(sizes[0]), made.at(sizes[1])


def main(folder: Path) -> None:
    photos = [pictures(path) for path in sorted(folder.glob("*.jpg"))]
    for format in LOSSY:
        scores: dict[int, list[float]] = {quality: [] for quality in QUALITIES}
        weights: dict[int, list[float]] = {quality: [] for quality in QUALITIES}
        drifts, bits = [], []
        for small, large in photos:
            source = EncodeSource(small)
            at_80 = len(encode(small, format, 80))
            bits.append(at_80 * 8 / (small.width * small.height))
            for quality in QUALITIES:
                data = encode(small, format, quality)
                scores[quality].append(source.score(data, format))
                weights[quality].append(log(len(data) / at_80))
            own = source.score(encode(small, format, DRIFT_QUALITY), format)
            twice = EncodeSource(large).score(encode(large, format, DRIFT_QUALITY), format)
            drifts.append(warped(twice) - warped(own))
        print(format.value)
        print("  scores ", ", ".join(f"{mean(scores[q]):.1f}" for q in QUALITIES))
        print("  weights", ", ".join(f"{mean(weights[q]):.2f}" for q in QUALITIES))
        print(f"  drift   {mean(drifts):.2f}")
        print(f"  bits    {mean(bits):.2f} a pixel at quality 80", flush=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]))

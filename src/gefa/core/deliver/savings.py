"""How many bytes a run saved by format, quality, size and CSS, against the baselines of its
cuts."""

from __future__ import annotations

from dataclasses import dataclass

from gefa.core.deliver.manifest import File, Manifest
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.treat.formats import FORMATS


@dataclass(frozen=True)
class Saving:
    """``bytes`` saved in one way, at ``cuts`` cuts."""

    by: str
    bytes: int
    cuts: int


def savings(manifest: Manifest) -> list[Saving]:
    """Largest first. Resizing and encoding in a format that every browser shows is one saving; a
    newer format is another. Their sum is *saved* in the totals."""
    files = manifest.files_by_cut()
    sums: dict[str, list[int]] = {}
    for cut in manifest.cuts:
        if cut.baseline_bytes:
            for by, bytes in _of_cut(cut.baseline_bytes, files.get(cut.name, [])):
                sums.setdefault(by, []).append(bytes)
    found = [Saving(by, sum(saved), len(saved)) for by, saved in sums.items()]
    found.sort(key=lambda saving: -saving.bytes)
    drawn_by_css = sum(cut.css is not None for cut in manifest.cuts)
    return found + [Saving("CSS instead of files", 0, drawn_by_css)] * bool(drawn_by_css)


def _of_cut(baseline: int, files: list[File]) -> list[tuple[str, int]]:
    sent = sent_to_large_screens(files)
    if sent is None:
        return []
    if FORMATS[sent.format].drawn:
        return [("drawings as SVG", baseline - sent.sent)]
    if sent.untouched:
        return [("own files without metadata", baseline - sent.bytes)]
    plain = sent_to_large_screens(
        f for f in files if f.width == sent.width and not FORMATS[f.format].modern
    )
    if plain is None or plain.bytes <= sent.bytes:
        return [("size and quality", baseline - sent.bytes)]
    return [
        ("size and quality", baseline - plain.bytes),
        ("AVIF and WebP", plain.bytes - sent.bytes),
    ]

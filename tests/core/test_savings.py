"""What a run saved, by what."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.deliver.savings import savings
from gefa.core.treat.formats import Format
from tests.core.test_sprite import file, record

WEIGHTS = st.dictionaries(
    st.tuples(st.sampled_from([80, 400]), st.sampled_from([f for f in Format if f != "svg"])),
    st.integers(100, 90_000),
    min_size=1,
)


def made(cut: str, width: int, format: str, bytes: int, **more: object) -> File:
    return file(cut, format).model_copy(update={"width": width, "bytes": bytes, **more})


def based(name: str, baseline: int | None, css: str | None = None) -> CutRecord:
    return record(name).model_copy(update={"baseline_bytes": baseline, "css": css})


@given(st.lists(st.tuples(st.integers(1_000, 900_000), WEIGHTS), max_size=5))
def test_the_parts_are_what_the_totals_call_saved(
    cuts: list[tuple[int, dict[tuple[int, Format], int]]],
) -> None:
    manifest = Manifest(sources=["a"])
    for number, (baseline, weights) in enumerate(cuts):
        name = f"cut {number}"
        manifest.cuts.append(based(name, baseline))
        manifest.files += [made(name, w, f, bytes) for (w, f), bytes in weights.items()]
    totals = manifest.totals()
    assert sum(saving.bytes for saving in savings(manifest)) == totals.baseline - totals.served


def test_each_thing_that_saves_is_told_with_its_cuts() -> None:
    manifest = Manifest(
        sources=["a"],
        cuts=[
            based("photo", 900), based("badge", 500), based("as it is", 300), based("plate", None, "x"),
        ],
        files=[
            made("photo", 400, "avif", 100), made("photo", 400, "jpeg", 250),
            made("photo", 80, "avif", 20), made("badge", 400, "svg", 90, gzip=40),
            made("as it is", 400, "jpeg", 280, untouched=True),
        ],
    )  # fmt: skip
    assert [(s.by, s.bytes, s.cuts) for s in savings(manifest)] == [
        ("size and quality", 650, 1),
        ("drawings as SVG", 460, 1),
        ("AVIF and WebP", 150, 1),
        ("own files without metadata", 20, 1),
        ("CSS instead of files", 0, 1),
    ]

"""Filters of strangers' drawings are counted before anything is drawn."""

from __future__ import annotations

import time
from math import inf
from pathlib import Path

import pytest

from gefa.core.errors import SourceError
from gefa.core.read import read
from gefa.core.read.svg import drawing

SHADOW = '<filter id="f"><feGaussianBlur stdDeviation="4"/></filter>'
NOISE = '<filter id="f" x="0" y="0" width="1" height="1"><feTurbulence numOctaves="2"/></filter>'


def work_of(folder: Path, body: str, monkeypatch: pytest.MonkeyPatch) -> float:
    """Megapixels × steps of a canvas of 1,000 × 1,000 px."""
    found: list[float] = []
    monkeypatch.setattr(drawing, "check_filters", lambda work, file: found.append(work))
    path = folder / "a.svg"
    path.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="1000" height="1000">{body}</svg>'
    )
    read(path, "a.svg")
    return found[0]


@pytest.mark.parametrize(
    ("body", "work"),
    [
        ('<rect width="100" height="100"/>', 0.0),
        # A blur is two steps; its region is 120 % of the box each way.
        (f'{SHADOW}<rect width="100" height="100" filter="url(#f)"/>', 2 * 0.0144),
        (f'{SHADOW}<circle cx="90" cy="90" r="50" style="filter:url(#f)"/>', 2 * 0.0144),
        (f'{SHADOW}<path d="M10 10h100v100h-100z" filter="url(#f)"/>', 2 * 0.0144),
        (f'{SHADOW}<polygon points="10,10 110,10 110,110" filter="url(#f)"/>', 2 * 0.0144),
        (f'{SHADOW}<g transform="scale(2)"><rect width="50" height="50" filter="url(#f)"/></g>',
         2 * 0.0144),
        (f'{SHADOW}<g filter="url(#f)"><rect width="50" height="50"/><rect width="50" height="50"'
         ' transform="translate(50 50)"/></g>', 2 * 0.0144),
        (f'{SHADOW}<defs><rect id="r" width="100" height="100"/></defs>'
         '<g filter="url(#f)"><use href="#r" x="400"/></g>', 2 * 0.0144),
        # Each copy counts, also a hidden one: it can be cut.
        (f'{SHADOW}<defs><rect id="r" width="100" height="100" filter="url(#f)"/></defs>'
         '<use href="#r"/><use href="#r"/><use href="#r" display="none"/>', 3 * 2 * 0.0144),
        # Text has no box before it is drawn; nothing is larger than the canvas.
        (f'{SHADOW}<text filter="url(#f)">A</text>', 2.0),
        (f'{SHADOW}<rect width="9000" height="9000" filter="url(#f)"/>', 2.0),
        (f'<style>rect{{filter:url(#f)}}</style>{SHADOW}<rect width="100" height="100"/>',
         2 * 0.0144),
        # A sheet that cannot be worked out may mean any element: here the drawing and its rectangle.
        (f'<style>@media print{{a{{b:c}}}} i{{filter:url(#f)}}</style>{SHADOW}<g>'
         '<rect width="100" height="100"/></g>', 2.0 + 2 * 2 * 0.0144),
        ('<rect width="10" height="10" style="filter:blur(3px) saturate(2)"/>', 2.0 + 1.0),
        (f'{NOISE}<rect width="1000" height="1000" filter="url(#f)"/>', 1.5),
        ('<filter id="f"><feMorphology radius="50"/></filter><text filter="url(#f)">A</text>',
         0.06 * 101**2),
        ('<filter id="f" filterUnits="userSpaceOnUse" width="500" height="10%"><feBlend/></filter>'
         '<text filter="url(#f)">A</text>', 0.05),
        (f'{SHADOW}<pattern id="p"><rect width="100" height="100" filter="url(#f)"/></pattern>'
         '<rect width="9" height="9" fill="url(#p)"/>', 2 * 0.0144),
        (f'{SHADOW}<marker id="m"><rect width="100" height="100" filter="url(#f)"/></marker>'
         '<path d="M1 1 2 2 3 3 4 4" marker-mid="url(#m)"/>', 5 * 2 * 0.0144),
    ],
)  # fmt: skip
def test_regions_times_steps(
    tmp_path: Path, body: str, work: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert work_of(tmp_path, body, monkeypatch) == pytest.approx(work, rel=1e-6)


def test_copies_of_copies_are_not_counted_for_ever(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Ten levels of ten copies each, and a drawing that contains itself."""
    levels = "".join(
        f'<g id="l{n}">' + f'<use href="#l{n - 1}"/>' * 10 + "</g>" for n in range(1, 11)
    )
    before = time.process_time()
    body = f'{SHADOW}<g id="l0"><rect width="9" height="9" filter="url(#f)"/></g>{levels}'
    assert work_of(tmp_path, body, monkeypatch) == inf
    work_of(tmp_path, f'{SHADOW}<g id="a" filter="url(#f)"><use href="#a"/></g>', monkeypatch)
    assert time.process_time() - before < 20


def test_a_heavy_drawing_is_refused_in_words(tmp_path: Path) -> None:
    path = tmp_path / "a.svg"
    octaves = NOISE.replace('"2"', '"9"')
    path.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="6000" height="6000">{octaves}'
        '<rect width="6000" height="6000" filter="url(#f)"/></svg>'
    )
    with pytest.raises(SourceError, match="megapixels × steps: 167; the limit is 150"):
        read(path, "a.svg")

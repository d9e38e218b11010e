"""The contrast of every pair of colours that stand on each other, in light and in dark."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

STYLES = (Path(__file__).parents[1] / "frontend" / "gefa.css").read_text("utf-8")
GROUNDS = ("paper", "pane", "file-wash")
READ = [
    *((ink, ground) for ink in ("ink", "soft") for ground in GROUNDS),
    *((ink, ground) for ink in ("file", "warn") for ground in ("paper", "pane")),
    ("warn", "warn-wash"), ("ink", "warn-wash"), ("paper", "file"), ("paper", "ink"),
    ("ink", "hatch-a"), ("ink", "hatch-b"),
]  # fmt: skip
"""words on a ground: 4.5 to 1 (WCAG 2.2, 1.4.3)"""
SEEN = [
    *((mark, ground) for mark in ("line-strong", "file", "warn") for ground in ("paper", "pane")),
    ("file", "file-wash"), ("file", "hatch-a"), ("file", "hatch-b"),
]  # fmt: skip
"""edges of fields, marks and bars: 3 to 1 (WCAG 2.2, 1.4.11)"""


def palettes() -> dict[str, dict[str, str]]:
    blocks = re.findall(r":root \{(.*?)\}", STYLES, flags=re.DOTALL)
    light, dark = (dict(re.findall(r"--([\w-]+): (#[0-9a-f]{6});", block)) for block in blocks[:2])
    return {"light": light, "dark": light | dark}


def luminance(colour: str) -> float:
    """Relative luminance of ``#rrggbb``, as WCAG 2.2 defines it."""
    parts = (int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5))
    linear = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
    return sum(share * part for share, part in zip((0.2126, 0.7152, 0.0722), linear, strict=True))


def contrast(one: str, other: str) -> float:
    lighter, darker = sorted((luminance(one), luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def test_the_formula_agrees_with_the_figures_of_the_standard() -> None:
    assert contrast("#000000", "#ffffff") == 21
    assert contrast("#777777", "#ffffff") == pytest.approx(4.48, abs=0.01)


@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.parametrize(
    ("pairs", "least"), [pytest.param(READ, 4.5, id="words"), pytest.param(SEEN, 3, id="marks")]
)
def test_every_pair_of_colours_can_be_told_apart(
    scheme: str, pairs: list[tuple[str, str]], least: float
) -> None:
    colours = palettes()[scheme]
    low = {
        pair: round(ratio, 2)
        for pair in pairs
        if (ratio := contrast(colours[pair[0]], colours[pair[1]])) < least
    }
    assert low == {}

"""Numbered test pictures that show at a glance what a crop does: their ratio and size are written
on them, rings lie round the middle, and tenths are marked."""

from __future__ import annotations

from pathlib import Path

from gefa_demo.shapes import CHALK, DUSK, MADDER, PINE, SAFFRON, SAND, TIDE, drawn

SIZES = (
    ((3, 2), (1800, 1200)),
    ((16, 9), (1920, 1080)),
    ((1, 1), (1200, 1200)),
    ((2, 3), (1200, 1800)),
    ((9, 16), (720, 1280)),
    ((4, 1), (2400, 600)),
    ((4, 3), (320, 240)),
)
"""ratio, and size in px; the last is too small for most ladders"""
_GROUNDS = (TIDE, PINE, MADDER, DUSK, "#7a5a2a", "#56616b", "#8a4a63")


def draw_numbered(folder: Path) -> list[Path]:
    """Draw all of them as PNG; their paths, in their order."""
    folder.mkdir(parents=True, exist_ok=True)
    return [_draw(folder, number) for number in range(1, len(SIZES) + 1)]


def _draw(folder: Path, number: int) -> Path:
    (across, down), (width, height) = SIZES[number - 1]
    path = folder / f"test-{number}-{across}x{down}-{width}x{height}.png"
    image = drawn(width, height, _body(number, f"{across}:{down}", width, height))
    image.flatten().pngsave(str(path), compression=9, keep="none")
    return path


def _body(number: int, ratio: str, width: int, height: int) -> str:
    ground = _GROUNDS[(number - 1) % len(_GROUNDS)]
    short = min(width, height)
    middle = (width / 2, height / 2)
    rings = "".join(
        f'<circle cx="{middle[0]}" cy="{middle[1]}" r="{short * share / 2}" fill="none"'
        f' stroke="{CHALK}" stroke-width="{short * 0.006}"/>'
        for share in (0.25, 0.5, 0.75, 0.98)
    )
    return (
        f'<rect width="{width}" height="{height}" fill="{ground}"/>{_tenths(width, height)}{rings}'
        f'<circle cx="{middle[0]}" cy="{middle[1]}" r="{short * 0.012}" fill="{SAFFRON}"/>'
        f"{_text(middle[0], middle[1] - short * 0.14, short * 0.16, f'{number}')}"
        f"{_text(middle[0], middle[1] + short * 0.14, short * 0.1, ratio)}"
        f"{_text(middle[0], middle[1] + short * 0.22, short * 0.05, f'{width} × {height} px')}"
        f"{_corners(width, height, short)}"
    )


def _tenths(width: int, height: int) -> str:
    """Lines at each tenth, the fifths stronger."""
    lines = []
    for tenth in range(1, 10):
        weight, opacity = (3, 0.5) if tenth == 5 else (1.5, 0.3)
        x, y = width * tenth / 10, height * tenth / 10
        stroke = f'stroke="{SAND}" stroke-width="{weight}" stroke-opacity="{opacity}"'
        lines.append(f'<path d="M{x} 0V{height}M0 {y}H{width}" {stroke}/>')
    return "".join(lines)


def _corners(width: int, height: int, short: int) -> str:
    """A letter in each corner, so that it shows which are left."""
    inset, size = short * 0.08, short * 0.09
    places = {
        "A": (inset, inset + size / 3),
        "B": (width - inset, inset + size / 3),
        "C": (inset, height - inset + size / 3),
        "D": (width - inset, height - inset + size / 3),
    }
    return "".join(_text(x, y, size, letter, SAFFRON) for letter, (x, y) in places.items())


def _text(x: float, y: float, size: float, text: str, colour: str = CHALK) -> str:
    return (
        f'<text x="{x}" y="{y}" font-family="DejaVu Sans, sans-serif" font-weight="bold"'
        f' font-size="{size}" text-anchor="middle" fill="{colour}">{text}</text>'
    )

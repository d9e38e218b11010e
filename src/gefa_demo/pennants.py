"""A sheet of pennants and badges as SVG, every piece named."""

from __future__ import annotations

from pathlib import Path

from gefa_demo.shapes import CHALK, DUSK, MADDER, PINE, SAFFRON, SAND, TIDE, kite, star

WIDTH, HEIGHT = 1200, 900

_DEFS = f"""<defs>
  <linearGradient id="cloth" x1="0" y1="0" x2="0" y2="1">
    <stop offset="0" stop-color="{SAFFRON}"/><stop offset="1" stop-color="{MADDER}"/>
  </linearGradient>
  <radialGradient id="sea"><stop offset="0" stop-color="{CHALK}"/>
    <stop offset="1" stop-color="{TIDE}"/></radialGradient>
  <filter id="lift" x="-30%" y="-30%" width="160%" height="170%">
    <feGaussianBlur in="SourceAlpha" stdDeviation="6" result="soft"/>
    <feOffset in="soft" dy="9" result="low"/>
    <feComponentTransfer in="low" result="faint"><feFuncA type="linear" slope=".4"/>
    </feComponentTransfer>
    <feMerge><feMergeNode in="faint"/><feMergeNode in="SourceGraphic"/></feMerge>
  </filter>
  <clipPath id="disc"><circle cx="160" cy="640" r="95"/></clipPath>
</defs>"""


def _pennant(name: str, x: int, fill: str, mark: str) -> str:
    return (
        f'<g id="{name.lower().replace(" ", "-")}" filter="url(#lift)"><title>{name} #icon</title>'
        f'<path d="M{x} 90 h150 l-18 120 l-57 90 l-57 -90 z" fill="{fill}"/>'
        f'<path d="{mark}" fill="{CHALK}"/></g>'
    )


def _sheet() -> str:
    wave = "q 12 -14 24 0 t 24 0 t 24 0"
    pieces = [
        f'<rect id="Paper" width="100%" height="100%" fill="{CHALK}"/>',
        '<path id="Bunting-line" d="M20 80 Q 600 140 1180 80" fill="none"'
        f' stroke="{DUSK}" stroke-width="5"/>',
        '<g id="Pennants"><title>Pennants</title>',
        _pennant("Pennant star", 70, MADDER, star(145, 165, 38, 16, 5)),
        _pennant("Pennant sun", 290, SAFFRON, star(365, 165, 40, 27, 12)),
        _pennant("Pennant wave", 510, TIDE, f"M549 150 {wave} v16 {_back(wave)} z"),
        _pennant("Pennant dune", 730, SAND, "M760 190 q 45 -60 90 0 z"),
        _pennant("Pennant cloth", 950, "url(#cloth)", star(1025, 165, 36, 30, 8)),
        "</g>",
        '<g id="Badges"><title>Badges</title>',
        '<g id="harbour" clip-path="url(#disc)"><title>Harbour badge #icon</title>'
        '<circle cx="160" cy="640" r="95" fill="url(#sea)"/>'
        f'<path d="M40 660 {wave} {wave} {wave} {wave} v120 h-300 z" fill="{PINE}"/></g>',
        '<g id="finder"><title>Finder badge #icon #figure</title>'
        f'<path d="{star(430, 640, 105, 88, 24)}" fill="{PINE}"/>'
        + kite(430, 610, 52, 12, (SAFFRON, MADDER))
        + "</g>",
        '<g id="steward" style="mix-blend-mode:multiply"><title>Steward badge #icon</title>'
        f'<rect x="600" y="545" width="190" height="190" rx="34" fill="{TIDE}"/>'
        f'<path d="{star(695, 640, 70, 50, 4)}" fill="{CHALK}"/></g>',
        '<g id="lost" style="display:none"><title>Lost kites badge #icon</title>'
        f'<circle cx="960" cy="640" r="92" fill="{DUSK}"/>'
        f'<path d="M915 640 h90 M960 595 v90" stroke="{CHALK}" stroke-width="20"/></g>',
        "</g>",
        f'<circle id="Stray-pin" cx="1190" cy="820" r="34" fill="{MADDER}"/>',
    ]
    return "\n".join(pieces)


def _back(wave: str) -> str:
    return wave.replace("24", "-24").replace("12 ", "-12 ")


def draw_pennants(target: Path) -> None:
    """Write the sheet."""
    target.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}"'
        f' viewBox="0 0 {WIDTH} {HEIGHT}">\n{_DEFS}\n{_sheet()}\n</svg>\n',
        "utf-8",
    )

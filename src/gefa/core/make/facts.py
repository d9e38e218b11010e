"""Measures a cut's pixels: alpha, colours, kind of picture."""

from __future__ import annotations

from collections.abc import Sequence

import pyvips

from gefa.core.geometry import Rect, Size
from gefa.core.pixels import AlphaKind, alpha_kind
from gefa.core.read.document import Document
from gefa.core.treat.made import CutFacts
from gefa.core.treat.nature import nature_of
from gefa.core.treat.pictures import Pictures, baseline_bytes
from gefa.core.treat.weight_steps import growth

SOFT = (16, 239)
"""alpha (0..255) of pixels that count as soft edges"""
FEWEST = 30
"""edge pixels without which an edge does not show"""


def measured(
    document: Document,
    pictures: Pictures,
    widest: Size,
    crop: Rect | None,
    candidates: Sequence[Size] = (),
) -> CutFacts:
    """Measure the picture at its ``widest``. With ``candidates`` (sizes to choose from by weight),
    also measure how weight grows with width."""
    image = pictures.at(widest)
    alpha = alpha_kind(image)
    nature = nature_of(image)
    return CutFacts(
        crop=crop,
        alpha=alpha,
        baseline_bytes=baseline_bytes(document, image),
        nature=nature.nature,
        colours=nature.colours,
        edge=_edge_colour(image) if alpha is AlphaKind.SOFT else "",
        growth=growth(candidates, pictures.at) if candidates else (),
    )


def _edge_colour(image: pyvips.Image) -> str:
    pixels = image.numpy()
    alpha = pixels[..., 3]
    soft = (alpha >= SOFT[0]) & (alpha <= SOFT[1])
    if int(soft.sum()) < FEWEST or alpha.min() > 0:
        return ""  # a veil over everything has no edge
    return "#" + "".join(f"{round(value):02x}" for value in pixels[soft][:, :3].mean(axis=0))

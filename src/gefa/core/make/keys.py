"""Keys of variants: hashes of everything that a file's bytes depend on, and of nothing else."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping

from gefa.core.cut.crop import Crop
from gefa.core.cut.cut import Cut
from gefa.core.geometry import Size
from gefa.core.treat.encode import ENCODER
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.recipe import Aim, AlphaPolicy, Fit, Keep, Recipe

SEARCH = 5
"""edition of the quality search; a new edition may find other files for the same look"""
TONE = 1
"""edition of the tone lift"""
ESTIMATE = 4
"""edition of the estimates of weight"""
DRAWING = 1
"""edition of the SVG files"""
UNTOUCHED = 1
"""edition of files that pass through untouched"""
MOVING = 3
"""edition of animations"""


def key_of(*ingredients: object) -> str:
    """A key for ``ingredients``: equal ingredients give the same key."""
    text = json.dumps([str(ingredient) for ingredient in ingredients])
    return hashlib.blake2b(text.encode(), digest_size=20).hexdigest()


def crop_of_recipe(recipe: Recipe, cut: Cut) -> Crop | None:
    """The crop that a recipe makes; None if it keeps all."""
    if cut.size is not None or recipe.fit is not Fit.COVER or recipe.ratio is None:
        return None
    return Crop(ratio=recipe.ratio, focal=recipe.focal, zoom=recipe.zoom)


def treatment_key(
    content: str,
    cut: Cut,
    recipe: Recipe,
    mark: str,
    size: Size,
    format: Format,
    quality: int | Aim | None,
    moves: bool = False,
) -> str:
    """The key of a variant of ``size`` px. ``content`` is the fingerprint of its pixels, ``mark``
    the SHA-256 of the picture over a corner."""
    treatment: dict[str, object] = {
        "encoder": ENCODER,
        "size": (size.width, size.height),
        "format": format.value,
        "quality": _plain(quality),
        "settings": recipe.settings_for(format).told,
        "matte": _matte(recipe, format),
        "underlay": recipe.alpha is AlphaPolicy.UNDERLAY and cut.rect is None,
        "crop": _plain(crop_of_recipe(recipe, cut)),
        "dpi": _resolution(cut, format),
        "copyright": recipe.metadata is Keep.COPYRIGHT,
        "tone": TONE if recipe.tone else 0,
        "mark": (_plain(recipe.mark), mark) if recipe.mark is not None and not moves else None,
        "search": SEARCH if isinstance(quality, Aim) else 0,
        "moves": MOVING if moves else 0,
        "drawing": DRAWING if FORMATS[format].drawn else 0,
        "untouched": UNTOUCHED if _may_be_own(recipe, format, moves) else 0,
    }
    return key_of(content, _told(treatment))


def _may_be_own(recipe: Recipe, format: Format, moves: bool) -> bool:
    return recipe.takes_untouched and not moves and not FORMATS[format].drawn


def _told(treatment: Mapping[str, object]) -> str:
    """Settings that differ from their defaults: a new setting whose default changes nothing then
    changes no key."""
    said = {name: value for name, value in treatment.items() if value not in (None, 0, "", {})}
    return json.dumps(said, sort_keys=True, default=str)


def _plain(value: object) -> object:
    dump = getattr(value, "model_dump", None)
    return dump(mode="json", exclude_defaults=True) if dump is not None else value


def _matte(recipe: Recipe, format: Format) -> str:
    """The colour to lay transparency on, if there is one."""
    kept = recipe.alpha is AlphaPolicy.KEEP and FORMATS[format].alpha
    return "" if kept else recipe.matte


def _resolution(cut: Cut, format: Format) -> float | None:
    """Pixels per inch to write into the file, if the format has a field for them."""
    if cut.size is None or not FORMATS[format].resolution:
        return None
    return cut.size.resolution

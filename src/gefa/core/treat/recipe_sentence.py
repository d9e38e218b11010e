"""A recipe as a sentence."""

from __future__ import annotations

from fractions import Fraction

from gefa.core.treat.formats import FORMATS, Effort
from gefa.core.treat.recipe import Aim, AlphaPolicy, Fit, Recipe, TextPolicy
from gefa.core.units import listed, weight


def sentence(recipe: Recipe) -> str:
    """A recipe in words."""
    told = [f"{_formats(recipe)} {_sizes(recipe)}, {_quality(recipe)}", *_shape(recipe)]
    told += _look(recipe)
    return "; ".join(told) + "."


def ratio_words(ratio: float) -> str:
    """``16:9`` for a ratio of small numbers, else ``2.37:1``."""
    simple = Fraction(ratio).limit_denominator(32)
    if abs(float(simple) / ratio - 1) < 0.0005:
        return f"{simple.numerator}:{simple.denominator}"
    return f"{ratio:.4g}:1"


def aim_words(aim: int | Aim | None) -> str:
    """``55``, ``look 75``, ``at most 180 kB``, or a word for none."""
    if aim is None:
        return "without loss"
    return aim.words if isinstance(aim, Aim) else str(aim)


def _formats(recipe: Recipe) -> str:
    if recipe.auto:
        return "The best formats for each cut"
    return listed([FORMATS[format].label for format in recipe.candidates])


def _sizes(recipe: Recipe) -> str:
    if recipe.steps is not None:
        steps = recipe.steps
        return (
            f"from {steps.narrowest:,} to {steps.widest:,} px in steps of at most"
            f" {weight(steps.apart)}"
        )
    if recipe.shown is not None:
        return f"for {recipe.shown:,} px at {listed([f'{d:g}x' for d in recipe.densities])}"
    return f"{listed([f'{width:,}' for width in recipe.widths])} px wide"


def _quality(recipe: Recipe) -> str:
    if isinstance(recipe.quality, Aim):
        return recipe.quality.words
    lossy = [format for format in recipe.candidates if FORMATS[format].lossy]
    aims = {format: aim_words(recipe.quality_for(format)) for format in lossy}
    if not aims:
        return "without loss"
    if len(set(aims.values())) == 1:
        (same,) = set(aims.values())
        return f"quality {same}" if same.isdigit() else same
    return "quality " + listed([f"{FORMATS[f].label} {words}" for f, words in aims.items()])


def _shape(recipe: Recipe) -> list[str]:
    told = []
    if recipe.ratio is not None:
        verb = {Fit.COVER: "cropped to", Fit.FILL: "stretched to", Fit.CONTAIN: "fitted into"}
        told.append(f"{verb[recipe.fit]} {ratio_words(recipe.ratio)}")
    if recipe.untouched is not None:
        told.append(
            "good source files used as they are"
            if recipe.untouched
            else "source files always encoded again"
        )
    if isinstance(recipe.effort, Effort) and recipe.effort is not Effort.USUAL:
        told.append("made quickly" if recipe.effort is Effort.QUICK else "made thoroughly")
    if recipe.text is TextPolicy.KEEP:
        told.append("drawings keep their text")
    if recipe.sprite:
        told.append("SVG files also in one sprite.svg")
    if recipe.enlarge:
        told.append("enlarged if needed")
    return told


def _look(recipe: Recipe) -> list[str]:
    told = []
    if recipe.alpha is AlphaPolicy.MATTE:
        told.append(f"transparency laid on {recipe.matte}")
    elif recipe.alpha is AlphaPolicy.UNDERLAY:
        told.append("with the design beneath it")
    if recipe.tone:
        told.append("flat tones lifted a little")
    if recipe.mark is not None:
        told.append(f"{recipe.mark.picture} {recipe.mark.corner}")
    return told

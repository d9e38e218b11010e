"""A recipe and the words of its sentence: from the one to the other and back."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from starlette.datastructures import FormData

from gefa.core.errors import PlanError
from gefa.core.plan.problems import problems_in_words
from gefa.core.treat.formats import FORMATS, LOSSY, RASTER, Effort, Format
from gefa.core.treat.recipe import PALETTE_LOOK, Aim, Corner, Fit, Recipe, TextPolicy
from gefa.core.treat.recipe_sentence import aim_words, ratio_words
from gefa.web.fields import Fields, whole_number

_LOOK = re.compile(r"(?:look|looks)\s*(\d+(?:\.\d+)?)", re.I)
_BUDGET = re.compile(r"(?:at most|max|up to|≤|<=|<)?\s*(\d+(?:[.,]\d+)?)\s*(kB|MB|B)", re.I)
_BYTES = {"b": 1, "kb": 1_000, "mb": 1_000_000}
KB = 1_000
BY_NUMBER = "numbers"


def recipe_from(form: FormData) -> Recipe:
    """The recipe in the sentence; PlanError with what is wrong and where."""
    words = Fields(form)
    try:
        fields: dict[str, Any] = {}
        for clause in (_formats, _sizes, _shape, _quality, _alpha, _extras, _encoders):
            fields |= clause(words)
        return Recipe.model_validate(fields)
    except ValidationError as error:
        raise PlanError("; ".join(problems_in_words(error)) + ".") from error


def _formats(words: Fields) -> dict[str, Any]:
    if words.text("formats_by") == "auto":
        return {"formats": "auto"}
    return {"formats": words.texts("format")}


def _sizes(words: Fields) -> dict[str, Any]:
    by = words.text("sizes_by")
    if by == "steps":
        return {
            "steps": {
                "narrowest": words.whole("narrowest", "the narrowest width", 320),
                "widest": words.whole("widest", "the widest width", 1920),
                "apart": round(words.number("apart", "the step", 30) * KB),
            }
        }
    if by == "densities":
        return {
            "densities": words.numbers("densities", "densities", [1, 2, 3]),
            "shown": words.whole("shown", "the width it is shown at", 480),
        }
    return {
        "widths": [round(width) for width in words.numbers("widths", "widths", [480, 960, 1440])]
    }


def _shape(words: Fields) -> dict[str, Any]:
    found: dict[str, Any] = {"enlarge": words.text("enlarge") == "yes"}
    fit = words.text("fit")
    if fit == "own":
        return found
    found |= {"fit": fit, "ratio": words.text("ratio") or "3:2"}
    if fit == Fit.COVER:
        found["zoom"] = words.number("zoom", "the zoom", 1)
        if words.text("focal_by") == "point":
            found["focal"] = [
                words.number(f"focal_{axis}", f"the focal point's {axis}", 50) / 100
                for axis in ("x", "y")
            ]
    return found


def _quality(words: Fields) -> dict[str, Any]:
    by = words.text("quality_by")
    if by == "look" or words.text("formats_by") == "auto":
        return {"quality": {"look": words.number("look", "the look", 75)}}
    if by == "budget":
        return {"quality": {"max_bytes": round(words.number("budget", "the weight", 120) * KB)}}
    # A format that is not made has no field, and so no quality of its own.
    given = {f: words.text(f"quality_{f.value}") for f in LOSSY}
    return {"quality": {f: _aim(text) for f, text in given.items() if text}}


def _aim(text: str) -> Any:
    if look := _LOOK.fullmatch(text):
        return {"look": float(look[1][:9])}
    if budget := _BUDGET.fullmatch(text):
        amount = float(budget[1].replace(",", ".")[:12])
        return {"max_bytes": round(amount * _BYTES[budget[2].lower()])}
    number = whole_number(text)
    if number is not None:
        return number
    raise PlanError(
        f"{text!r} is not a quality.",
        advice="Write a number, a look such as look 75, or a limit such as 180 kB.",
    )


def _alpha(words: Fields) -> dict[str, Any]:
    found = {"alpha": words.text("alpha")}
    if words.text("matte"):
        found["matte"] = words.text("matte")
    return found


def _extras(words: Fields) -> dict[str, Any]:
    found: dict[str, Any] = {
        "tone": words.text("tone") == "lifted",
        "metadata": words.text("metadata"),
        "untouched": _untouched(words),
        "text": words.text("text") or TextPolicy.PIXELS,
        "sprite": words.text("sprite") == "yes" and _has_drawings(words),
        "every_format": words.text("every_format") == "yes",
        "name": words.text("name"),
    }
    if words.text("mark"):
        found["mark"] = {
            "picture": words.text("mark"),
            "corner": words.text("corner") or Corner.BOTTOM_RIGHT,
            **{
                side: words.number(f"mark_{side}", f"the mark's {side}", usual) / 100
                for side, usual in (("width", 20), ("margin", 3), ("opacity", 80))
            },
        }
    return found


def _has_drawings(words: Fields) -> bool:
    return words.text("formats_by") == "auto" or Format.SVG in words.texts("format")


def _encoders(words: Fields) -> dict[str, Any]:
    return {
        "effort": _effort(words),
        "progressive": words.text("progressive") != "no",
        "chroma": words.text("chroma"),
        "colours": _colours(words),
        "dither": words.number("dither", "the dithering", 100) / 100,
    }


def _untouched(words: Fields) -> bool | None:
    """None if it is the default for the formats that the sentence was shown with."""
    said = words.text("untouched")
    return None if said in ("", "yes" if _shown_auto(words) else "no") else said == "yes"


def _shown_auto(words: Fields) -> bool:
    """Whether formats were automatic before this change: what was a default then stays one."""
    return (words.text("shown_auto") or words.text("formats_by")) in ("yes", "auto")


def _effort(words: Fields) -> str | dict[Format, int]:
    word = words.text("effort")
    if word != BY_NUMBER:
        return word or Effort.USUAL
    # Right after this was chosen no format has a field yet: all begin with the usual numbers.
    return {
        format: words.whole(f"effort_{format.value}", "the effort")
        if words.text(f"effort_{format.value}")
        else FORMATS[format].effort()
        for format in RASTER
    }


def _colours(words: Fields) -> int | str | None:
    """None if it is the default for the formats that the sentence was shown with."""
    by = words.text("colours_by")
    if by == "most":
        return words.whole("colours", "how many colours") if words.text("colours") else 64
    return None if by in ("", "auto" if _shown_auto(words) else "all") else by


@dataclass(frozen=True)
class Sentence:
    """A recipe as the fields of the sentence."""

    recipe: Recipe

    @property
    def sizes_by(self) -> str:
        if self.recipe.steps:
            return "steps"
        return "densities" if self.recipe.shown else "widths"

    @property
    def quality_by(self) -> str:
        quality = self.recipe.quality
        if self.recipe.auto and not quality:
            return "look"
        if isinstance(quality, Aim):
            return "look" if quality.look is not None else "budget"
        return "each"

    @property
    def look(self) -> str:
        aim = self.recipe.quality
        return f"{aim.look:g}" if isinstance(aim, Aim) and aim.look is not None else "75"

    @property
    def budget(self) -> str:
        aim = self.recipe.quality
        return f"{aim.max_bytes / KB:g}" if isinstance(aim, Aim) and aim.max_bytes else "120"

    @property
    def qualities(self) -> list[tuple[Format, str]]:
        """The content of the field of each format."""
        lossy = [format for format in self.recipe.candidates if format in LOSSY]
        return [(f, aim_words(self.recipe.quality_for(f))) for f in lossy]

    @property
    def ratio(self) -> str:
        return ratio_words(self.recipe.ratio) if self.recipe.ratio else "3:2"

    @property
    def fit(self) -> str:
        return self.recipe.fit.value if self.recipe.ratio else "own"

    @property
    def focal(self) -> tuple[str, str]:
        x, y = self.recipe.focal or (0.5, 0.5)
        return f"{x * 100:g}", f"{y * 100:g}"

    @property
    def widths(self) -> str:
        return ", ".join(str(width) for width in self.recipe.widths)

    @property
    def densities(self) -> str:
        return ", ".join(f"{density:g}x" for density in self.recipe.densities)

    @property
    def effort_by(self) -> str:
        effort = self.recipe.effort
        return effort.value if isinstance(effort, Effort) else BY_NUMBER

    @property
    def efforts(self) -> list[tuple[Format, int, int]]:
        """Formats, their effort if given as a number, and its maximum."""
        if self.effort_by != BY_NUMBER:
            return []
        return [
            (format, self.recipe.effort_for(format), FORMATS[format].most_effort)
            for format in self.recipe.rasters
        ]

    @property
    def colours_by(self) -> str:
        colours = self.recipe.png_colours
        if colours is None:
            return "all"
        return "auto" if colours == "auto" else "most"

    @property
    def palette_look(self) -> str:
        """The least look of PNG, if it is more than the recipe's; else empty."""
        automatic = self.recipe.auto and self.recipe.png_colours == "auto"
        return f"{PALETTE_LOOK:g}" if automatic and self.recipe.look < PALETTE_LOOK else ""

    @property
    def corners(self) -> list[str]:
        return [corner.value for corner in Corner]

    def has(self, format: str) -> bool:
        return Format(format) in self.recipe.candidates

    def per_cent(self, share: float) -> str:
        return f"{share * 100:g}"

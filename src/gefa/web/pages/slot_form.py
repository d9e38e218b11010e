"""A slot's settings and the rows they are shown and changed in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from starlette.datastructures import FormData

from gefa.core.errors import PlanError
from gefa.core.slots.settings import SlotSettings, settings_from
from gefa.core.treat.recipe import Fit
from gefa.core.treat.recipe_sentence import ratio_words
from gefa.web.fields import Fields

MB = 1_000_000

ROWS: dict[str, tuple[str, ...]] = {
    "takes": ("accepts", "max_bytes"),
    "smallest": ("min_width", "min_height", "min_megapixels"),
    "largest": ("max_width", "max_height", "max_megapixels"),
    "quota": ("max_uploads", "max_total_bytes"),
    "ratios": ("min_ratio", "max_ratio"),
    "recipe": ("recipe",),
    "crops": ("crops",),
    "original": ("original", "original_bytes"),
    "files": ("folders", "name"),
    "review": ("review",),
    "shown": ("mask", "sizes"),
    "notify": ("notify",),
}
"""the settings of each row"""


def settings_in(row: str) -> tuple[str, ...]:
    """The settings of a row; PlanError if there is no such row."""
    if row not in ROWS:
        raise PlanError(f"there is no row {row[:40]!r}.")
    return ROWS[row]


def changes_from(
    form: FormData, row: str, inherited: SlotSettings, own: set[str]
) -> dict[str, Any]:
    """The settings that the row's form changes: all that differ from inherited or earlier values.
    PlanError with the field that is not valid."""
    words = Fields(form)
    read = {name: _READ[name](words) for name in settings_in(row)}
    checked = settings_from(inherited.model_dump(mode="json"), read)
    return {
        name: value
        for name, value in read.items()
        if name in own or getattr(checked, name) != getattr(inherited, name)
    }


def _whole(field: str, what: str) -> Callable[[Fields], int | None]:
    return lambda words: words.whole(field, what) if words.text(field) else None


def _number(field: str, what: str) -> Callable[[Fields], float | None]:
    return lambda words: words.number(field, what) if words.text(field) else None


def _ratio(field: str) -> Callable[[Fields], str | float | None]:
    def read(words: Fields) -> str | float | None:
        text = words.text(field)
        if not text or ":" in text or "/" in text:
            return text or None
        return words.number(field, "the ratio")

    return read


def _megabytes(field: str, what: str) -> Callable[[Fields], int]:
    return lambda words: round(words.number(field, what) * MB)


def _accepts(words: Fields) -> list[str]:
    kinds = words.texts("accepts")
    if not kinds:
        raise PlanError("a slot takes at least one format.", advice="Tick one.")
    return kinds


def _crops(words: Fields) -> list[dict[str, Any]]:
    """A crop for each line with a name."""
    found = []
    columns = [words.texts(f"crop_{column}") for column in ("name", "ratio", "fit", "widths")]
    for name, ratio, fit, widths in zip(*columns, strict=False):
        if not name.strip():
            continue
        crop: dict[str, Any] = {"name": name.strip(), "fit": fit}
        if ratio.strip():
            crop["ratio"] = ratio.strip() if ":" in ratio or "/" in ratio else f"{ratio.strip()}:1"
        line = FormData({"widths": widths})
        crop["widths"] = [round(w) for w in Fields(line).numbers("widths", f"widths of {name}", [])]
        found.append(crop)
    if not found:
        raise PlanError(
            "a slot has at least one crop.", advice="Name the crop whole to keep the whole picture."
        )
    return found


_READ: dict[str, Callable[[Fields], Any]] = {
    "accepts": _accepts,
    "max_bytes": _megabytes("max_bytes", "the weight"),
    "max_uploads": _whole("max_uploads", "the number of uploads"),
    "max_total_bytes": lambda words: (
        round(words.number("max_total_bytes", "the weight of all uploads") * MB)
        if words.text("max_total_bytes")
        else None
    ),
    "min_width": _whole("min_width", "the smallest width"),
    "min_height": _whole("min_height", "the smallest height"),
    "min_megapixels": _number("min_megapixels", "the smallest number of megapixels"),
    "max_width": _whole("max_width", "the largest width"),
    "max_height": _whole("max_height", "the largest height"),
    "max_megapixels": _number("max_megapixels", "the largest number of megapixels"),
    "min_ratio": _ratio("min_ratio"),
    "max_ratio": _ratio("max_ratio"),
    "recipe": lambda words: words.text("recipe"),
    "crops": _crops,
    "original": lambda words: words.text("original"),
    "original_bytes": lambda words: round(
        words.number("original_bytes", "the weight of an original", 10) * MB
    ),
    "folders": lambda words: words.text("folders"),
    "name": lambda words: words.text("name"),
    "review": lambda words: words.text("review") == "yes",
    "mask": lambda words: words.text("mask"),
    "sizes": lambda words: words.text("sizes"),
    "notify": lambda words: words.text("notify"),
}


@dataclass(frozen=True)
class CropLine:
    """A crop as a line of the form."""

    name: str = ""
    ratio: str = ""
    fit: str = Fit.COVER.value
    widths: str = ""


def crop_lines(settings: SlotSettings) -> list[CropLine]:
    """The crops, and an empty line for a new one."""
    lines = [
        CropLine(
            crop.name,
            ratio_words(crop.ratio) if crop.ratio else "",
            crop.fit.value,
            ", ".join(map(str, crop.widths)),
        )
        for crop in settings.crops
    ]
    return [*lines, CropLine()]

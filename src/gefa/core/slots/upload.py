"""An upload by a slot's settings: which crops and files are made of it, and which are not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date

from pydantic import BaseModel, ConfigDict, Field

from gefa.core.cut.crop import MIDDLE, crop_round
from gefa.core.geometry import Rect, Size
from gefa.core.make.job import CutJob
from gefa.core.make.keys import key_of
from gefa.core.make.prepare import prepare
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read.document import CANVAS_PATH
from gefa.core.read.survey import Survey
from gefa.core.slots.settings import Folders, NamedCrop, SlotSettings
from gefa.core.treat.recipe import Fit, Recipe, Share, Steps

MAX_ZOOM = 8.0
"""beyond it, too few px would be left for any width"""


class Focus(BaseModel):
    """The focal point of an upload's crops, 0..1 each way, and a zoom of at least 1."""

    model_config = ConfigDict(frozen=True)

    x: Share
    y: Share
    zoom: float = Field(default=1.0, ge=1, le=MAX_ZOOM)

    @property
    def point(self) -> tuple[float, float]:
        return (self.x, self.y)


def first_focus(recipe: Recipe, found: tuple[float, float]) -> Focus:
    """The focal point before anybody chooses one: the recipe's, else the point ``found`` in the
    picture."""
    x, y = recipe.focal or found
    return Focus(x=x, y=y, zoom=min(recipe.zoom, MAX_ZOOM))


class LeftOut(BaseModel):
    """Files of a crop that are not made, and why: one width in px, or a whole format if ``width``
    is None."""

    crop: str
    width: int | None
    reason: str


class CropPlace(BaseModel):
    """The rectangle that a crop keeps, in px of the picture."""

    name: str
    rect: Rect


@dataclass
class Expanded:
    """What an upload becomes: a job for each crop."""

    jobs: list[CutJob] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    failed: list[str] = field(default_factory=list)


def cropped_by(settings: SlotSettings, recipe: Recipe) -> SlotSettings:
    """The settings, with the recipe's cropping for crops without a ratio of their own."""
    if recipe.ratio is None:
        return settings
    own = {"ratio": recipe.ratio, "fit": recipe.fit}
    crops = tuple(c if c.ratio else c.model_copy(update=own) for c in settings.crops)
    return settings.model_copy(update={"crops": crops})


def place_of(crop: NamedCrop, size: Size, focus: Focus | None) -> Rect:
    """The rectangle that ``crop`` keeps of a picture of ``size`` px."""
    if not crop.follows_focal or crop.ratio is None:
        return Rect(0, 0, size.width, size.height)
    point, zoom = (focus.point, focus.zoom) if focus else (MIDDLE, 1.0)
    return crop_round(size, crop.ratio, point, zoom)


def recipe_for(
    crop: NamedCrop,
    settings: SlotSettings,
    recipe: Recipe,
    size: Size,
    focus: Focus | None,
    day: date,
) -> Recipe:
    """The slot's recipe for one crop of a picture of ``size`` px, uploaded on ``day``."""
    changed: dict[str, object] = {"enlarge": False, "name": _file_name(settings, day)}
    if crop.ratio is not None:
        changed |= {"ratio": crop.ratio, "fit": crop.fit}
    if focus is not None:
        changed |= {"focal": focus.point, "zoom": focus.zoom}
    if crop.widths:
        changed |= {"widths": crop.widths, "densities": (), "shown": None, "steps": None}
    own = recipe.model_copy(update=changed)
    share = settings.largest(size)
    return own if share == 1.0 else _at_most(own, max(1, int(_kept(own, size).width * share)))


def _file_name(settings: SlotSettings, day: date) -> str:
    """The name template with the month of the upload, which stays the same when files are made
    again."""
    month = {"{yyyy}": f"{day:%Y}", "{mm}": f"{day:%m}"}
    name = settings.name if settings.folders is Folders.FLAT else "{yyyy}/{mm}/" + settings.name
    for field_name, text in month.items():
        name = name.replace(field_name, text)
    return name


def _kept(recipe: Recipe, size: Size) -> Size:
    if recipe.fit is not Fit.COVER or recipe.ratio is None:
        return size
    return crop_round(size, recipe.ratio, MIDDLE, recipe.zoom).size


def _at_most(recipe: Recipe, widest: int) -> Recipe:
    """The recipe without widths above ``widest`` px."""
    if max(recipe.all_widths) <= widest:
        return recipe
    steps = recipe.steps
    if steps is not None and steps.narrowest < widest:
        return recipe.model_copy(
            update={"steps": Steps(narrowest=steps.narrowest, widest=widest, apart=steps.apart)}
        )
    widths = tuple(sorted({min(width, widest) for width in recipe.all_widths}))
    return recipe.model_copy(
        update={"widths": widths, "densities": (), "shown": None, "steps": None}
    )


def expand(
    source: Survey,
    settings: SlotSettings,
    recipe: Recipe,
    focus: Focus | None,
    day: date,
    *,
    marks: Mapping[str, str] | None = None,
) -> Expanded:
    """The jobs of a picture by ``settings``; ``recipe`` is the one they name."""
    recipes = {
        crop.name: recipe_for(crop, settings, recipe, source.size, focus, day)
        for crop in settings.crops
    }
    cuts = tuple(CutEntry(part=CANVAS_PATH, name=name, recipe=name) for name in recipes)
    prepared = prepare(source, Plan(recipes=recipes, cuts=cuts), marks=marks)
    found = Expanded(
        jobs=prepared.jobs,
        warnings=list(dict.fromkeys(remark.reason for remark in prepared.warnings)),
        failed=list(dict.fromkeys(remark.reason for remark in prepared.failed)),
    )
    share = settings.largest(source.size)
    if share < 1.0:
        size = source.size
        found.warnings.append(
            f"brought down from {size.width:,} × {size.height:,} px to"
            f" {int(size.width * share):,} × {int(size.height * share):,} px,"
            " the largest that the slot takes"
        )
    for job in found.jobs:
        found.left_out += _left_out(job, settings, recipe, source.size, focus)
    return found


def _left_out(
    job: CutJob, settings: SlotSettings, recipe: Recipe, size: Size, focus: Focus | None
) -> list[LeftOut]:
    crop = settings.crop(job.cut.recipe)
    if crop is None or not job.variants or (job.steps and not crop.widths):
        return []
    kept = place_of(crop, size, focus).size
    widest = max(variant.width for variant in job.variants)
    brought_down = settings.largest(size) < 1.0
    reason = (
        f"{widest:,} px is the largest that the slot takes"
        if brought_down
        else f"the picture has only {kept.width:,} × {kept.height:,} px for it, and Gefa enlarges"
        " nothing"
    )
    wanted = crop.widths or recipe.all_widths
    return [
        LeftOut(crop=crop.name, width=width, reason=reason) for width in wanted if width > widest
    ]


def treatment_of(
    settings: SlotSettings, recipe: Recipe, blob: str, focus: Focus | None, marks: Mapping[str, str]
) -> str:
    """A key for everything that decides which files an upload gets."""
    deciding = settings.model_dump(mode="json", include=DECIDING)
    used = {name: marks[name] for name in sorted(marks)}
    return key_of("upload", deciding, recipe.model_dump_json(), blob, focus, used)


def slot_treatment_of(settings: SlotSettings, recipe: Recipe, marks: Mapping[str, str]) -> str:
    """A key for the slot's part of a treatment, without the file and its focal point: one for all
    uploads of a slot."""
    return treatment_of(settings, recipe, "", None, marks)


DECIDING = {
    "crops", "folders", "name",
    "min_width", "min_height", "min_megapixels", "min_ratio",
    "max_width", "max_height", "max_megapixels", "max_ratio",
}  # fmt: skip
"""settings that decide which files are made: a change of any of them outdates an upload"""

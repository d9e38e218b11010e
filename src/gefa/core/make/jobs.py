"""From plan × source to jobs: what there is to make, without drawing or encoding anything."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from gefa.core.cut.crop import Crop
from gefa.core.cut.cut import Cut, Remark
from gefa.core.cut.glob import covers
from gefa.core.cut.slice_geometry import fingerprint
from gefa.core.deliver.names import NameBook, safe
from gefa.core.geometry import Rect, Size
from gefa.core.plan.gather import gather
from gefa.core.plan.plan import Plan
from gefa.core.read.document import Document, Kind
from gefa.core.read.embedded import EXTENSIONS
from gefa.core.read.survey import OriginalFacts, PartFacts, Survey, outline, survey
from gefa.core.treat.encode import ENCODER, too_large_for
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.recipe import Aim, AlphaPolicy, Fit, Recipe, Steps

USUAL_STEPS = 5
USUAL_FORMATS = (Format.AVIF, Format.WEBP, Format.JPEG)
"""what cuts usually get, where that is chosen while they are made"""
CLASH = "another file has the name"
LARGE_MEGAPIXELS = 40.0
"""above which a person is asked before a run"""


class PlannedVariant(BaseModel):
    """One file to make. ``key`` says everything its bytes depend on; sizes in px. ``moves`` keeps
    all frames of an animation."""

    model_config = ConfigDict(frozen=True)

    key: str
    path: str
    format: Format
    width: int
    height: int
    quality: int | Aim | None
    moves: bool = False

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)


class CutJob(BaseModel):
    """The files of one cut, self-contained: with the source's bytes it is all a worker needs.

    ``extent`` is in canvas px. ``css`` shows the cut without any file. ``mark`` is the SHA-256 of
    the picture that is laid over a corner. ``text`` tells that the design says it has text in it.
    """

    model_config = ConfigDict(frozen=True)

    source: str
    cut: Cut
    recipe: Recipe
    extent: Rect
    fingerprint: str
    variants: tuple[PlannedVariant, ...]
    crop: Crop | None = None
    alt: str = ""
    css: str = ""
    mark: str = ""
    text: bool = False

    @property
    def steps(self) -> Steps | None:
        """By which weights its widths are chosen while it is made, if they are."""
        return self.recipe.steps if self.cut.size is None else None

    @property
    def expected(self) -> list[PlannedVariant]:
        """About as many variants as will be made, where formats or widths are chosen on the way."""
        widths = sorted({variant.width for variant in self.variants})
        if self.steps:
            widths = widths[:: max(1, len(widths) // (USUAL_STEPS - 1))]
        formats = USUAL_FORMATS if self.recipe.auto else self.recipe.candidates
        return [v for v in self.variants if v.width in widths and v.format in formats]

    def key_at(self, size: Size, format: Format, quality: int | None) -> str:
        """The key of a still made at another size or quality number than the recipe's."""
        return treatment_key(
            self.fingerprint, self.cut, self.recipe, self.mark, size, format, quality
        )

    @property
    def megapixels(self) -> float:
        """Of its largest file."""
        return max((variant.size.megapixels for variant in self.variants), default=0.0)


class OriginalJob(BaseModel):
    """A bitmap to be taken out of a design as it is stored, to ``path``."""

    model_config = ConfigDict(frozen=True)

    facts: OriginalFacts
    path: str


@dataclass
class Prepared:
    """What a run will do: jobs, and what it already has to say. ``gaps`` tells, in words, what
    drawn slices leave of the canvas."""

    jobs: list[CutJob] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    failed: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)
    gaps: str = ""
    originals: list[OriginalJob] = field(default_factory=list)

    @property
    def large(self) -> list[CutJob]:
        """Jobs with a file above 40 megapixels."""
        return [job for job in self.jobs if job.megapixels > LARGE_MEGAPIXELS]

    def warn(self, cut: Cut, reason: str) -> None:
        self.warnings.append(Remark(cut=cut.name, part=cut.key, reason=reason))

    def fail(self, cut: Cut, reason: str) -> None:
        self.failed.append(Remark(cut=cut.name, part=cut.key, reason=reason))


@dataclass(frozen=True)
class _Pixels:
    """What a cut shows: where (canvas px), what of, and whether it is drawn at any size."""

    extent: Rect
    fingerprint: str
    scalable: bool
    css: str = ""


def survey_for(document: Document, plan: Plan, *, default: bool = True) -> Survey:
    """The document's tree, measured where the plan makes cuts; all of it if it slices, or shows
    what lies beneath a cut."""
    gathered = gather(outline(document), plan, default=default)
    chosen = {cut.part for cut in gathered.cuts}
    recipes = [plan.recipe(name) for name in {cut.recipe for cut in gathered.cuts}]
    under = any(recipe.alpha is AlphaPolicy.UNDERLAY for recipe in recipes)
    if plan.originals or under or any(cut.rect for cut in gathered.cuts):
        return survey(document)
    return survey(document, lambda part: part.path in chosen)


def prepare(
    source: Survey,
    plan: Plan,
    names: NameBook | None = None,
    *,
    default: bool = True,
    marks: Mapping[str, str] | None = None,
) -> Prepared:
    """Expand plan × source into jobs; draws and encodes nothing.

    A part that could not be measured, or shows nothing, fails alone. ``marks`` gives the SHA-256
    of the pictures that recipes lay over corners, by their names.
    """
    book = names or NameBook()
    gathered = gather(source, plan, default=default)
    prepared = Prepared(left_out=gathered.left_out, warnings=gathered.warnings, gaps=gathered.gaps)
    by_path = {part.path: part for part in source.parts}
    called: dict[str, str] = {}
    for cut in gathered.cuts:
        part = by_path[cut.part]
        recipe = _own(plan.recipe(cut.recipe), cut)
        problem = _nothing_to_cut(source, part, cut, recipe) or _no_mark(recipe, marks or {})
        if problem:
            prepared.fail(cut, problem)
            continue
        named = cut.model_copy(update={"name": book.cut(cut.name)})
        called[cut.part] = named.name
        shown = _pixels(source, part, named, recipe, prepared)
        mark = (marks or {})[recipe.mark.picture] if recipe.mark else ""
        prepared.jobs.append(_job(source, part, shown, named, recipe, mark, book, prepared))
    prepared.warnings += [
        Remark(cut=called.get(notice.part, notice.part), part=notice.part, reason=notice.reason)
        for notice in source.notices
    ]
    prepared.originals = [
        OriginalJob(facts=facts, path=book.path(f"originals/{safe(facts.name)}.{{ext}}", fields))
        for facts in source.originals
        if any(_covers(entry.parts, facts.part) for entry in plan.originals)
        for fields in ({"ext": EXTENSIONS[facts.media_type]},)
    ]
    return prepared


def _covers(glob: str, path: str) -> bool:
    return glob == "*" or covers(glob, path)


def _own(recipe: Recipe, cut: Cut) -> Recipe:
    """The recipe with the quality that a cut has of its own."""
    own = cut.quality
    if isinstance(own, dict):
        usual = {format: recipe.quality_for(format) for format in recipe.candidates}
        own = {format: found for format, found in usual.items() if found is not None} | own
    return recipe if own is None else recipe.model_copy(update={"quality": own})


def _nothing_to_cut(source: Survey, part: PartFacts, cut: Cut, recipe: Recipe) -> str:
    if part.problem or part.extent is None or part.extent.empty:
        return part.problem or f"the part {part.path!r} has no visible pixels"
    if _underlaid(cut, recipe) and part.extent.intersection(_canvas(source)).empty:
        return "it lies outside the canvas, and its recipe shows what lies beneath it there"
    return ""


def _no_mark(recipe: Recipe, marks: Mapping[str, str]) -> str:
    if recipe.mark is None or recipe.mark.picture in marks:
        return ""
    return f"its mark, the picture {recipe.mark.picture!r}, is not there; bring it in, then run"


def _underlaid(cut: Cut, recipe: Recipe) -> bool:
    return recipe.alpha is AlphaPolicy.UNDERLAY and cut.rect is None


def _canvas(source: Survey) -> Rect:
    return Rect(0, 0, source.width, source.height)


def _pixels(
    source: Survey, part: PartFacts, cut: Cut, recipe: Recipe, prepared: Prepared
) -> _Pixels:
    assert part.extent is not None
    if cut.rect is not None:
        return _Pixels(cut.rect, fingerprint(source, cut.rect), source.canvas.scalable)
    if _underlaid(cut, recipe) and source.layered:
        shown = part.extent.intersection(_canvas(source))
        content = f"{part.path} on {fingerprint(source, shown)}"
        return _Pixels(shown, content, part.scalable and source.canvas.scalable)
    if part.blend != "src-over":
        prepared.warn(cut, f"its blend mode {part.blend} against what lies below is dropped")
    if part.strays is not None:
        if not cut.strays:
            return _Pixels(part.strays.rest, part.strays.fingerprint, part.scalable)
        prepared.warn(cut, part.strays.words)
    css = "" if cut.as_file or cut.size else part.css
    return _Pixels(part.extent, part.fingerprint, part.scalable, css)


def _sizes(shown: _Pixels, cut: Cut, recipe: Recipe, prepared: Prepared) -> list[Size]:
    """The sizes to make, in px, by the recipe's widths or by the cut's own size."""
    natural = shown.extent.size
    if cut.size is None:
        return _ladder(natural, shown, cut, recipe, prepared)
    wanted = cut.size.pixels(natural)
    if not shown.scalable and (wanted.width > natural.width or wanted.height > natural.height):
        share = min(natural.width / wanted.width, natural.height / wanted.height)
        made = Size(max(1, int(wanted.width * share)), max(1, int(wanted.height * share)))
        prepared.warn(
            cut,
            f"{wanted.width:,} × {wanted.height:,} px were asked for; there are only"
            f" {natural.width:,} × {natural.height:,}, and nothing is enlarged:"
            f" {made.width:,} × {made.height:,} px are made",
        )
        wanted = made
    if abs(wanted.height - natural.height * wanted.width / natural.width) > 1.0:
        prepared.warn(
            cut,
            f"{wanted.width:,} × {wanted.height:,} px distort it: its own ratio is"
            f" {natural.width:,} : {natural.height:,}",
        )
    return [wanted]


def _crop(recipe: Recipe, cut: Cut) -> Crop | None:
    if cut.size is not None or recipe.fit is not Fit.COVER or recipe.ratio is None:
        return None
    return Crop(ratio=recipe.ratio, focal=recipe.focal, zoom=recipe.zoom)


def _ladder(
    natural: Size, shown: _Pixels, cut: Cut, recipe: Recipe, prepared: Prepared
) -> list[Size]:
    crop = _crop(recipe, cut)
    kept = crop.size(natural) if crop else natural
    ratio = None if crop else recipe.ratio
    stretched = recipe.fit is Fit.FILL
    free = shown.scalable or recipe.enlarge
    sizes = ladder(kept, recipe.all_widths, free, ratio=ratio, stretched=stretched)
    if recipe.enlarge and not shown.scalable:
        larger = [size for size in sizes if size.width > kept.width or size.height > kept.height]
        if larger:
            prepared.warn(
                cut,
                f"enlarged from {kept.width:,} × {kept.height:,} px to"
                f" {larger[-1].width:,} × {larger[-1].height:,}, as its recipe allows",
            )
    if stretched and ratio and abs(ratio * natural.height / natural.width - 1) > 0.01:
        prepared.warn(
            cut,
            f"stretched from its own ratio {natural.width:,} : {natural.height:,} to"
            f" {ratio:.3g} : 1, as its recipe says",
        )
    return sizes


def _job(
    source: Survey,
    part: PartFacts,
    shown: _Pixels,
    cut: Cut,
    recipe: Recipe,
    mark: str,
    book: NameBook,
    prepared: Prepared,
) -> CutJob:
    variants = []
    sizes = [] if shown.css else _sizes(shown, cut, recipe, prepared)
    still = [
        FORMATS[format].label
        for format in recipe.candidates
        if source.frames > 1 and (not FORMATS[format].moves or cut.rect)
    ]
    if source.frames > 1 and mark and sizes:
        prepared.warn(cut, "moves, and the mark is laid on its stills only")
    if still and sizes and not recipe.auto:
        prepared.warn(
            cut, f"has {source.frames} frames; {' and '.join(still)} show the first one only"
        )
    _tell_resolution(cut, recipe, prepared)
    for size in sizes:
        for format in recipe.candidates:
            problem = too_large_for(format, size)
            if problem:
                if not recipe.auto:
                    prepared.fail(cut, problem)
                continue
            moves = source.frames > 1 and FORMATS[format].moves and cut.rect is None
            variants.append(
                _variant(
                    source.name, shown.fingerprint, cut, recipe, mark, size, format, book, moves
                )
            )
    clashes = book.clashes()
    if clashes:
        prepared.warn(cut, f"{CLASH} {clashes[0]} already; see its recipe")
    return CutJob(
        source=source.name,
        cut=cut,
        recipe=recipe,
        extent=shown.extent,
        fingerprint=shown.fingerprint,
        variants=tuple(variants),
        crop=_crop(recipe, cut),
        alt=cut.name if cut.rect else part.display_name,
        css=shown.css,
        mark=mark,
        text=_has_text(source, part, cut),
    )


def _has_text(source: Survey, part: PartFacts, cut: Cut) -> bool:
    """Whether the design says that it is, or holds, text that shows."""
    if cut.rect is not None:
        return False
    inside = "" if part.kind is Kind.CANVAS else f"{part.path}/"
    return part.kind is Kind.TEXT or any(
        other.kind is Kind.TEXT and other.visible and other.path.startswith(inside)
        for other in source.parts
    )


def _tell_resolution(cut: Cut, recipe: Recipe, prepared: Prepared) -> None:
    if cut.size is None or cut.size.resolution is None:
        return
    mute = [FORMATS[f].label for f in recipe.candidates if not FORMATS[f].resolution]
    if mute:
        kept = f"{cut.size.resolution:g} dpi cannot be written into {' and '.join(mute)} files"
        prepared.warn(cut, kept)


def _variant(
    source: str,
    content: str,
    cut: Cut,
    recipe: Recipe,
    mark: str,
    size: Size,
    format: Format,
    book: NameBook,
    moves: bool,
) -> PlannedVariant:
    fields = {
        "cut": cut.name,
        "source": Path(source).stem,
        "width": str(size.width),
        "height": str(size.height),
        "density": recipe.density_of(size.width),
        "yyyy": f"{date.today():%Y}",
        "mm": f"{date.today():%m}",
        "format": format.value,
        "ext": FORMATS[format].extension,
    }
    quality = recipe.quality_for(format)
    key = treatment_key(content, cut, recipe, mark, size, format, quality, moves)
    fields["hash"] = key[:8]
    return PlannedVariant(
        key=key,
        path=book.path(recipe.name, fields),
        format=format,
        width=size.width,
        height=size.height,
        quality=quality,
        moves=moves,
    )


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
    """A name for everything that a variant's bytes depend on."""
    treatment: list[object] = [ENCODER, size.width, size.height, format]
    treatment += [quality, recipe.settings_for(format), recipe.metadata]
    treatment += [recipe.alpha, recipe.matte, _crop(recipe, cut)]
    if moves:
        treatment.append("moves 2")
    if cut.size is not None and cut.size.resolution is not None:
        treatment.append(f"{cut.size.resolution:g} dpi")
    if recipe.tone:
        treatment.append("tone 1")
    if recipe.mark is not None and not moves:
        treatment += [recipe.mark, mark]
    return key_of(content, *treatment)


def key_of(*ingredients: object) -> str:
    """A name for what ``ingredients`` make: equal ones, equal name."""
    text = json.dumps([str(ingredient) for ingredient in ingredients])
    return hashlib.blake2b(text.encode(), digest_size=20).hexdigest()

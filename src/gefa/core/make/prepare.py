"""Expands plan × source into jobs. Draws and encodes nothing."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date

from pydantic import ValidationError

from gefa.core.cut.cut import Cut, Origin, Remark
from gefa.core.cut.glob import covers
from gefa.core.cut.slice_geometry import fingerprint
from gefa.core.errors import PlanError
from gefa.core.geometry import Rect, Size
from gefa.core.make.job import CutJob, OriginalJob, PlannedVariant
from gefa.core.make.keys import crop_of_recipe, treatment_key
from gefa.core.make.naming import name_all
from gefa.core.plan.gather import gather
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import problems_in_words
from gefa.core.read.document import Document, Kind
from gefa.core.read.survey import PartFacts, Survey, outline, survey
from gefa.core.treat.encode import too_large_for
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.ladder import ladder
from gefa.core.treat.recipe import Aim, AlphaPolicy, Fit, OwnQuality, Recipe
from gefa.core.units import listed

LARGE_MEGAPIXELS = 40.0
"""above which a run asks first"""


@dataclass
class Prepared:
    """The jobs of a run, and the remarks known before it starts. ``gaps`` says which area of the
    canvas drawn slices leave; ``unmatched`` are rules and entries that match nothing in this
    source, a warning if they match in no other either."""

    jobs: list[CutJob] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    failed: list[Remark] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)
    unmatched: list[Remark] = field(default_factory=list)
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

    def leave_out(self, cut: Cut, reason: str) -> None:
        self.left_out.append(Remark(cut=cut.name, part=cut.key, reason=reason))

    def rename(self, before: Sequence[CutJob]) -> None:
        """Use the new names in remarks; ``before`` are the jobs under their old names."""
        names = {
            (old.cut.key, old.cut.name): new.cut.name
            for old, new in zip(before, self.jobs, strict=True)
        }
        for kind in ("left_out", "failed", "warnings"):
            remarks = [
                r.model_copy(update={"cut": names.get((r.part, r.cut), r.cut)})
                for r in getattr(self, kind)
            ]
            setattr(self, kind, remarks)

    def of(self, source: str) -> Prepared:
        """The same, with the source's name in every remark."""
        for name in ("left_out", "failed", "warnings", "unmatched"):
            named = [r.model_copy(update={"source": source}) for r in getattr(self, name)]
            setattr(self, name, named)
        return self


@dataclass(frozen=True)
class _Pixels:
    """The pixels of a cut: their region (canvas px), the part, and whether they are drawn at any
    size."""

    extent: Rect
    fingerprint: str
    scalable: bool
    css: str = ""


def survey_for(document: Document, plan: Plan, *, default: bool = True) -> Survey:
    """The document's tree, measured where the plan makes cuts; measured whole if the plan makes
    slices or shows what lies beneath a cut."""
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
    *,
    default: bool = True,
    marks: Mapping[str, str] | None = None,
) -> Prepared:
    """Expand one source and name its cuts and files."""
    prepared = expand(source, plan, default=default, marks=marks)
    give_names([prepared])
    return prepared


def give_names(run: Sequence[Prepared], taken: Collection[str] = ()) -> None:
    """Name the cuts and files of all sources of a run. ``taken`` are paths of sources outside the
    run, made or wanted."""
    jobs = [job for prepared in run for job in prepared.jobs]
    originals = [job for prepared in run for job in prepared.originals]
    named, placed, told = name_all(jobs, originals, taken)
    of_jobs, of_originals = iter(named), iter(placed)
    for prepared in run:
        before = prepared.jobs
        prepared.jobs = [next(of_jobs) for _ in before]
        prepared.originals = [next(of_originals) for _ in prepared.originals]
        prepared.rename(before)
        sources = {job.source for job in prepared.jobs}
        prepared.warnings += [remark for remark in told if remark.source in sources]


def expand(
    source: Survey,
    plan: Plan,
    *,
    default: bool = True,
    marks: Mapping[str, str] | None = None,
    folder: str = "",
    day: date | None = None,
) -> Prepared:
    """Expand plan × source into unnamed jobs; draws and encodes nothing.

    A part that could not be measured, or is empty, fails alone. ``marks`` gives the SHA-256 of the
    pictures that recipes lay over corners, by their names. Files will lie in ``folder``; ``day`` is
    that of their names, today's if None.
    """
    gathered = gather(source, plan, default=default)
    prepared = Prepared(
        left_out=gathered.left_out,
        warnings=gathered.warnings,
        unmatched=gathered.unmatched,
        gaps=gathered.gaps,
    )
    by_path = {part.path: part for part in source.parts}
    called: dict[str, str] = {}
    for cut in gathered.cuts:
        part = by_path[cut.part]
        try:
            recipe = _own(plan.recipe(cut.recipe), cut)
        except PlanError as error:
            prepared.fail(cut, f"its exceptions do not fit the recipe {cut.recipe}: {error}")
            continue
        if _shows_nothing(part) and cut.origin in _CHOSEN_BY_MANY:
            prepared.leave_out(cut, "it has no visible pixels")
            continue
        problem = _nothing_to_cut(source, part, cut, recipe) or _no_mark(recipe, marks or {})
        if problem:
            prepared.fail(cut, problem)
            continue
        placed = cut.model_copy(update={"folder": folder})
        called[cut.part] = placed.name
        shown = _pixels(source, part, placed, recipe, prepared)
        mark = (marks or {})[recipe.mark.picture] if recipe.mark else ""
        job = _job(source, part, shown, placed, recipe, mark, prepared)
        prepared.jobs.append(job.model_copy(update={"day": day}))
    prepared.warnings += [
        Remark(cut=called.get(notice.part, notice.part), part=notice.part, reason=notice.reason)
        for notice in source.notices
    ]
    prepared.originals = [
        OriginalJob(source=source.name, stem=source.called_after, folder=folder, facts=facts)
        for facts in source.originals
        if any(_covers(entry.parts, facts.part) for entry in plan.originals)
    ]
    return prepared.of(source.name)


_CHOSEN_BY_MANY = frozenset({Origin.RULE, Origin.DEFAULT})
"""origins of cuts that were not chosen one by one: an empty layer among them is no mistake"""


def _shows_nothing(part: PartFacts) -> bool:
    return not part.problem and part.extent is not None and part.extent.empty


def _covers(glob: str, path: str) -> bool:
    return glob == "*" or covers(glob, path)


def _own(recipe: Recipe, cut: Cut) -> Recipe:
    """The recipe with the cut's own quality, widths and formats. PlanError if they contradict each
    other."""
    own: dict[str, object] = {}
    if cut.formats is not None:
        own["formats"] = cut.formats
    if cut.widths is not None:
        own |= {"widths": cut.widths, "densities": (), "shown": None, "steps": None}
    if cut.quality is not None:
        own["quality"] = recipe.quality_with(cut.quality)
        if recipe.auto and cut.formats in (None, "auto") and not _is_look(cut.quality):
            own["formats"] = recipe.usual_formats
    if not own:
        return recipe
    try:
        return Recipe.model_validate({**recipe.model_dump(), **own})
    except ValidationError as error:
        raise PlanError(problems_in_words(error)[0].removeprefix(": ")) from error


def _is_look(quality: OwnQuality) -> bool:
    return isinstance(quality, Aim) and quality.look is not None


def _nothing_to_cut(source: Survey, part: PartFacts, cut: Cut, recipe: Recipe) -> str:
    if part.problem or part.extent is None or part.extent.empty:
        return part.problem or "it has no visible pixels"
    if _underlaid(cut, recipe) and part.extent.intersection(_canvas(source)).empty:
        return "it lies outside the canvas, where there is no design to show beneath it"
    return ""


def _no_mark(recipe: Recipe, marks: Mapping[str, str]) -> str:
    if recipe.mark is None or recipe.mark.picture in marks:
        return ""
    return f"its mark, the picture {recipe.mark.picture!r}, is missing; bring it in, then run again"


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
    """The sizes to make, in px, from the recipe's widths or the cut's own size."""
    natural = shown.extent.size
    if cut.size is None:
        return _ladder(natural, shown, cut, recipe, prepared)
    wanted = cut.size.pixels(natural)
    if not shown.scalable and (wanted.width > natural.width or wanted.height > natural.height):
        share = min(natural.width / wanted.width, natural.height / wanted.height)
        made = Size(max(1, int(wanted.width * share)), max(1, int(wanted.height * share)))
        prepared.warn(
            cut,
            f"{wanted.width:,} × {wanted.height:,} px were asked for; the cut has only"
            f" {natural.width:,} × {natural.height:,}, and Gefa enlarges nothing:"
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


def _ladder(
    natural: Size, shown: _Pixels, cut: Cut, recipe: Recipe, prepared: Prepared
) -> list[Size]:
    crop = crop_of_recipe(recipe, cut)
    kept = crop.size(natural) if crop else natural
    ratio = None if crop else recipe.ratio
    stretched = recipe.fit is Fit.FILL
    free = shown.scalable or recipe.enlarge
    apart = recipe.apart.width if recipe.widths and ratio is None else 0.0
    sizes = ladder(kept, recipe.all_widths, free, ratio=ratio, stretched=stretched, apart=apart)
    if apart and not free:
        _tell_near(kept, recipe, cut, prepared)
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


def _tell_near(natural: Size, recipe: Recipe, cut: Cut, prepared: Prepared) -> None:
    """Report widths that became the natural width although they are smaller."""
    nearest = (1 - recipe.apart.width) * natural.width
    near = [f"{width:,}" for width in recipe.widths if nearest < width < natural.width]
    if near:
        prepared.leave_out(
            cut,
            f"{listed(near)} px left out: less than {100 * recipe.apart.width:g} % below the"
            f" natural width, {natural.width:,} px",
        )


def _job(
    source: Survey,
    part: PartFacts,
    shown: _Pixels,
    cut: Cut,
    recipe: Recipe,
    mark: str,
    prepared: Prepared,
) -> CutJob:
    variants = []
    sizes = [] if shown.css else _sizes(shown, cut, recipe, prepared)
    still = [
        FORMATS[format].label
        for format in recipe.rasters
        if source.frames > 1 and (not FORMATS[format].moves or cut.rect)
    ]
    if source.frames > 1 and mark and sizes:
        prepared.warn(cut, "is animated; only its still files get the mark")
    if still and sizes and not recipe.auto:
        prepared.warn(cut, f"has {source.frames} frames; {' and '.join(still)} show only the first")
    _tell_resolution(cut, recipe, prepared)
    if sizes and _is_drawn(source, part, cut, recipe, mark, prepared):
        widest = max(sizes, key=lambda size: size.width)
        variants.append(
            _variant(shown.fingerprint, cut, recipe, mark, widest, Format.SVG, moves=False)
        )
    for size in sizes:
        for format in recipe.rasters:
            problem = too_large_for(format, size)
            if problem:
                if not recipe.auto:
                    prepared.fail(cut, problem)
                continue
            moves = source.frames > 1 and FORMATS[format].moves and cut.rect is None
            variants.append(_variant(shown.fingerprint, cut, recipe, mark, size, format, moves))
    return CutJob(
        source=source.name,
        cut=cut,
        recipe=recipe,
        extent=shown.extent,
        fingerprint=shown.fingerprint,
        variants=tuple(variants),
        crop=crop_of_recipe(recipe, cut),
        css=shown.css,
        mark=mark,
        text=_has_text(source, part, cut),
        stem=source.called_after,
    )


def _is_drawn(
    source: Survey, part: PartFacts, cut: Cut, recipe: Recipe, mark: str, prepared: Prepared
) -> bool:
    """Whether the cut may be an SVG file; reports why not if its recipe names that format."""
    if Format.SVG not in recipe.candidates:
        return False
    reason = ""
    if source.format != "svg":
        reason = "it is made of pixels"
    elif cut.rect is not None:
        reason = "a slice is made of pixels"
    elif _underlaid(cut, recipe):
        reason = "its recipe shows the design beneath it"
    elif mark or recipe.tone:
        reason = "its recipe changes pixels"
    if reason and not recipe.rasters:
        prepared.fail(cut, f"SVG is the only format of its recipe, and {reason}")
    elif reason and not recipe.auto:
        prepared.leave_out(cut, f"SVG is left out: {reason}")
    return not reason


def _has_text(source: Survey, part: PartFacts, cut: Cut) -> bool:
    """Whether the design says that the part is, or contains, visible text."""
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
    mute = [FORMATS[f].label for f in recipe.rasters if not FORMATS[f].resolution]
    if mute:
        kept = f"{cut.size.resolution:g} dpi cannot be written into {' and '.join(mute)} files"
        prepared.warn(cut, kept)


def _variant(
    content: str,
    cut: Cut,
    recipe: Recipe,
    mark: str,
    size: Size,
    format: Format,
    moves: bool,
) -> PlannedVariant:
    quality = recipe.quality_for(format)
    return PlannedVariant(
        key=treatment_key(content, cut, recipe, mark, size, format, quality, moves),
        format=format,
        width=size.width,
        height=size.height,
        quality=quality,
        moves=moves,
    )

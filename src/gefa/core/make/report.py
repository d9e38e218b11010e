"""The report of one cut: its files, what was left out and why, warnings."""

from __future__ import annotations

from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import CutMemory, CutRecord, File
from gefa.core.deliver.markup import Offer, picture, plain_box
from gefa.core.geometry import Rect, Size, height_for
from gefa.core.make.job import CutJob
from gefa.core.treat.formats import FORMATS
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.recipe import Fit


class JobReport(BaseModel):
    """The outcome of a job. ``keys`` gives the key of each file's path; ``made`` is everything now
    known of variants, by key, and ``facts`` what was measured, by key."""

    record: CutRecord
    files: list[File] = []
    keys: dict[str, str] = {}
    made: dict[str, MadeVariant] = {}
    facts: dict[str, CutFacts] = {}
    failed: list[Remark] = []
    warnings: list[Remark] = []
    left_out: list[Remark] = []

    @property
    def memory(self) -> CutMemory:
        """What the manifest keeps of the cut for the next export."""
        facts_key, facts = next(iter(self.facts.items()), ("", None))
        kept = set(self.keys.values())
        tried = {key: made for key, made in self.made.items() if key not in kept}
        record = self.record
        return CutMemory(
            source=record.source, cut=record.name, facts_key=facts_key, facts=facts, tried=tried
        )

    def without_notes(self) -> JobReport:
        """Without the records that the ledger keeps."""
        return self.model_copy(update={"made": {}, "facts": {}})


def remark_about(job: CutJob, reason: str) -> Remark:
    """A remark about a job's cut."""
    return Remark(cut=job.cut.name, part=job.cut.key, source=job.source, reason=reason)


def failed_report(job: CutJob, reason: str) -> JobReport:
    """The report of a job that failed as a whole."""
    return JobReport(
        record=record_of(job, job.extent, None, []), failed=[remark_about(job, reason)]
    )


def region_of(job: CutJob, crop: Rect | None) -> Rect:
    """The region that is shown, in canvas px."""
    return job.extent if crop is None else crop.moved(job.extent.x, job.extent.y)


def record_of(
    job: CutJob, shown: Rect, facts: CutFacts | None, files: list[File], why: str = ""
) -> CutRecord:
    """The manifest's record of a cut; ``shown`` is in canvas px."""
    offers = [Offer(f.path, f.format, f.width, f.height, f.moves) for f in files]
    size = job.extent.size if job.css else _shown_size(job, shown, files)
    return CutRecord(
        name=job.cut.name,
        source=job.source,
        part=job.cut.part,
        recipe=job.cut.recipe,
        origin=job.cut.origin,
        x=shown.x,
        y=shown.y,
        width=shown.width,
        height=shown.height,
        alpha=facts.alpha if facts else None,
        baseline_bytes=facts.baseline_bytes if facts else None,
        css=job.css or None,
        why=why,
        sprite=job.recipe.sprite,
        shown=size,
        by_density=_by_density(job),
        picture=job.cut.picture,
        media=job.cut.media,
        markup=plain_box(job.css, job.extent.size)
        if job.css
        else picture(offers, size, None, densities=_by_density(job)),
    )


def _by_density(job: CutJob) -> bool:
    return job.recipe.shown is not None and job.cut.size is None


def _shown_size(job: CutJob, shown: Rect, files: list[File]) -> Size:
    """The size in the markup, px: that of the widest file, so that no browser enlarges it; of what
    is drawn, at most the natural size. With densities, the size the cut is shown at."""
    if not job.variants:
        return shown.size
    if _by_density(job):
        first = job.variants[0].size
        width = job.recipe.shown or first.width
        return Size(width, height_for(first, width))
    if job.recipe.fit is Fit.FILL and job.recipe.ratio and job.cut.size is None:
        return job.widest
    widest = max(files, key=lambda file: file.width, default=None)
    if widest is None or FORMATS[widest.format].drawn or widest.width >= shown.width:
        return shown.size
    return Size(widest.width, widest.height)

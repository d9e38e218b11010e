"""What the Proof screen shows: a file of a cut beside the picture it was made from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlencode

from sqlmodel import Session, select

from gefa.core.deliver.manifest import CutRecord, File
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.geometry import Size
from gefa.core.look.proof import curve_formats
from gefa.core.make.job import CutJob
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.treat.curves import PERFECT
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.treat.made import MadeVariant
from gefa.core.treat.recipe import Aim, OwnQuality
from gefa.core.treat.recipe_sentence import aim_words
from gefa.core.units import listed
from gefa.store import ledger
from gefa.store.contracts import CurveBody, CutBody, ProofBody, ScoreBody
from gefa.store.models import Run, Source, Task, TaskState
from gefa.store.on_demand_jobs import request_task, task_on
from gefa.store.plans import whole_plan
from gefa.store.run_manifest import jobs_of, with_looks
from gefa.store.task_kinds import TaskKind
from gefa.web.pages.curve import CurveView, Point, curve_of

LARGEST = 4096
"""px of the longer side at which a proof opens by default"""


@dataclass
class StripItem:
    """A cut of the run in the filmstrip; ``score`` is that of its lightest largest file."""

    cut: str
    href: str
    small: File
    score: float | None
    here: bool = False


@dataclass
class ProofView:
    """A file of a cut, and its reference. ``blob`` is the content of its source."""

    run: Run
    source: Source
    record: CutRecord
    cut_job: CutJob
    blob: str
    files: list[File]
    size: Size
    format: Format
    quality: int | None
    chosen: Point | None
    path: str
    own_quality: str
    topic: str
    strip: list[StripItem] = field(default_factory=list)

    @property
    def url(self) -> str:
        return f"/runs/{self.run.id}/proof/{quote(self.record.name)}"

    @property
    def sizes(self) -> list[Size]:
        return sorted({Size(f.width, f.height) for f in self.files}, key=lambda size: size.width)

    @property
    def formats(self) -> list[Format]:
        at = {f.format for f in self.files if f.width == self.size.width}
        return [format for format in Format if format in at]

    @property
    def file(self) -> File | None:
        """The run's file of this width and format."""
        here = (f for f in self.files if f.width == self.size.width and f.format is self.format)
        return next(here, None)

    @property
    def quality_words(self) -> str:
        """The encoder's number, or its replacement in words."""
        if FORMATS[self.format].drawn:
            return "a drawing"
        if self.quality is not None:
            return str(self.quality)
        if self.file is not None and self.file.untouched:
            return "its own file"
        if self.file is not None and self.file.score != PERFECT:
            return "fewer colours" if self.format is Format.PNG else "nearly no loss"
        return "no loss"

    def link(self, width: int | None = None, format: Format | None = None, **more: Any) -> str:
        """The address of another file of this cut."""
        asked = {"width": width or self.size.width, "format": (format or self.format).value}
        return f"{self.url}?{urlencode(asked | more)}"

    @property
    def reference(self) -> str:
        return f"{self.url}/reference?{urlencode({'width': self.size.width})}"

    @property
    def shown(self) -> str:
        """The address of the file itself."""
        if self.path:
            return f"/runs/{self.run.id}/files/{quote(self.path)}"
        asked = {"width": self.size.width, "format": self.format.value, "quality": self.quality}
        return f"{self.url}/made?{urlencode(asked)}"

    @property
    def before(self) -> StripItem | None:
        index = self._here
        return self.strip[index - 1] if index > 0 else None

    @property
    def after(self) -> StripItem | None:
        index = self._here
        return self.strip[index + 1] if index + 1 < len(self.strip) else None

    @property
    def _here(self) -> int:
        return next(i for i, item in enumerate(self.strip) if item.here)


def cut_of(session: Session, run: Run, cut: str) -> tuple[Task, JobReport] | None:
    """The job of a cut in a run, and its report; None if there is none."""
    jobs = session.exec(
        select(Task).where(Task.run_id == run.id, Task.kind == TaskKind.CUT, Task.name == cut)
    ).all()
    for job in jobs:
        if job.state is TaskState.DONE and job.report:
            (report,) = with_looks(session, [JobReport.model_validate(job.report)])
            return job, report
    return None


def proof_of(
    session: Session,
    run: Run,
    cut: str,
    width: int | None,
    format: str,
    quality: int | None,
) -> ProofView | None:
    """The proof of a cut at a width, in a format, of the made file or at another quality; None if
    the run made no file of that cut."""
    found = cut_of(session, run, cut)
    if found is None or not found[1].files:
        return None
    task, report = found
    body = CutBody.model_validate(task.task)
    cut_job = body.job
    source = session.get_one(Source, task.source_id)
    size = _size(report.files, width)
    at_size = [file for file in report.files if file.width == size.width]
    known = {known.value for known in curve_formats(cut_job)} | {f.format.value for f in at_size}
    lightest = min(at_size, key=lambda file: file.bytes)
    chosen_format = Format(format) if format in known else lightest.format
    file = next((file for file in at_size if file.format is chosen_format), None)
    path = file.path if file and quality is None else ""
    if quality is None and file is not None:
        quality = file.quality
    return ProofView(
        run=run,
        source=source,
        record=report.record,
        cut_job=cut_job,
        blob=body.blob,
        files=report.files,
        size=size,
        format=chosen_format,
        quality=quality,
        chosen=_chosen(session, cut_job, size, chosen_format, quality, file),
        path=path,
        own_quality=own_quality(whole_plan(session, source), cut_job),
        topic=f"proof {cut_job.key_at(size, Format.PNG, None)}",
    )


def _size(files: Sequence[File], width: int | None) -> Size:
    sizes = {Size(file.width, file.height) for file in files}
    wanted = [size for size in sizes if size.width == width]
    fitting = [size for size in sizes if max(size.width, size.height) <= LARGEST]
    return max(wanted or fitting or sizes, key=lambda size: size.width)


def _chosen(
    session: Session,
    cut_job: CutJob,
    size: Size,
    format: Format,
    quality: int | None,
    file: File | None,
) -> Point | None:
    if file is not None and file.quality == quality:
        return Point(format, quality, file.bytes, -1 if file.score is None else file.score)
    entry = entry_at(session, cut_job, size, format, quality)
    if entry is None or entry.score is None:
        return None
    return Point(format, quality, entry.bytes, entry.score)


def entry_at(
    session: Session, cut_job: CutJob, size: Size, format: Format, quality: int | None
) -> MadeVariant | None:
    """The record of a cut's file at a quality, if it was made."""
    key = cut_job.key_at(size, format, quality)
    return ledger.known(session, [key]).get(key)


def made_points(report: JobReport, size: Size) -> list[Point]:
    """The files of a cut at a size that have a score."""
    return [
        Point(file.format, file.quality, file.bytes, file.score, made=True)
        for file in report.files
        if file.width == size.width and file.score is not None
    ]


def _reports(session: Session, run: Run) -> list[tuple[Task, JobReport]]:
    """The cuts of a run with files, each with its report."""
    tasks = [
        task
        for task in jobs_of(session, run.id)
        if task.kind is TaskKind.CUT and task.state is TaskState.DONE and task.report
    ]
    reports = with_looks(session, [JobReport.model_validate(task.report) for task in tasks])
    return [(task, report) for task, report in zip(tasks, reports, strict=True) if report.files]


def strip_of(session: Session, run: Run, here: str) -> list[StripItem]:
    """The cuts of a run with files, lowest score first."""
    items = []
    for job, report in _reports(session, run):
        small = min(report.files, key=lambda file: (file.width, file.bytes))
        href = f"/runs/{run.id}/proof/{quote(job.name)}"
        sent = sent_to_large_screens(report.files)
        score = sent.score if sent else None
        items.append(StripItem(job.name, href, small, score, job.name == here))
    return sorted(items, key=lambda item: (item.score is None, item.score or 0.0))


def ask_for_scores(session: Session, run: Run) -> int:
    """Have the files scored that represent their cuts and have no score; returns how
    many are left."""
    open_ones = 0
    for job, report in _reports(session, run):
        file = sent_to_large_screens(report.files)
        if file is None or file.moves or file.score is not None:
            continue
        key = report.keys[file.path]
        body = ScoreBody(
            **CutBody.model_validate(job.task).model_dump(),
            width=file.width,
            height=file.height,
            key=key,
            format=file.format,
        )
        score = request_task(session, f"score {key}", body, name=run.id)
        open_ones += score.state is TaskState.QUEUED
    return open_ones


def ask_for_reference(session: Session, view: ProofView) -> Task:
    """The job that draws the reference, queued the first time."""
    return request_task(session, view.topic, ProofBody(**_asked(view)))


def reference_task(session: Session, view: ProofView) -> Task | None:
    """The job that draws the reference, if there is one."""
    return task_on(session, TaskKind.PROOF, view.topic)


def curves(session: Session, view: ProofView) -> CurveView:
    """The curves of the cut at this size as far as they are measured; the rest is queued."""
    found = cut_of(session, view.run, view.record.name)
    assert found is not None
    curve = curve_of(
        session,
        view.cut_job,
        view.size,
        made_points(found[1], view.size),
        (view.format, view.quality),
        lambda format, quality: view.link(format=format, quality=quality),
    )
    for line in curve.lines:
        if line.waits:
            body = CurveBody(**_asked(view), format=line.format)
            job = request_task(session, f"curve {line.format} {view.topic}", body)
            line.waits = job.state is TaskState.QUEUED
    return curve


def _asked(view: ProofView) -> dict[str, Any]:
    """The common fields of tasks about a file at a size."""
    return {
        "blob": view.blob,
        "name": view.source.name,
        "job": view.cut_job,
        "width": view.size.width,
        "height": view.size.height,
    }


def own_quality(plan: Plan, cut_job: CutJob) -> str:
    """The quality that the plan gives this cut alone, in words; empty if none."""
    cut = cut_job.cut
    if cut.rect is None:
        found = [e.quality for e in plan.cuts if e.part == cut.part and e.quality is not None]
        return quality_words(found[0]) if found else ""
    number, _, cell = cut.slice.partition(" ")
    entry = next((entry for entry in plan.slices if entry.id == number), None)
    if entry is None:
        return ""
    own = (entry.cells[cell].quality if cell in entry.cells else None) or entry.quality
    return quality_words(own) if own is not None else ""


def quality_words(quality: OwnQuality) -> str:
    """``look 80``, or ``AVIF 47 and JPEG 70``."""
    if isinstance(quality, Aim):
        return quality.words
    return listed([f"{FORMATS[f].label} {aim_words(aim)}" for f, aim in quality.items()])

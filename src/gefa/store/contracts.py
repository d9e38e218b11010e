"""The contract of each kind of task: its body and its report.

Workers import this module, which therefore knows nothing of the database: its libraries would take
0.4 s and 23 MB of each process. How each kind is done is in ``gefa.work.perform``, how it is
settled in ``gefa.work.settlers``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import BaseModel

from gefa.core.deliver.manifest import OriginalFile
from gefa.core.geometry import Rect, Size
from gefa.core.make.estimate import Estimate
from gefa.core.make.job import CutJob, OriginalJob
from gefa.core.make.report import JobReport
from gefa.core.read.survey import Survey
from gefa.core.slots.settings import SlotSettings
from gefa.core.slots.upload import CropPlace, Focus, LeftOut
from gefa.core.treat.formats import Format
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.core.treat.recipe import Recipe
from gefa.store.task_kinds import TaskKind


class SourceBody(BaseModel):
    """``blob`` is a source's content, ``name`` what people call it."""

    blob: str
    name: str


class ReadBody(SourceBody):
    """Read a source."""


class ReadReport(BaseModel):
    survey: Survey


class ChangedPart(BaseModel):
    """The paths of a changed part in the older and the newer revision."""

    before: str
    after: str


class ShowBody(SourceBody):
    """Draw the pictures of a source for the screens; ``older`` is the previous content, if any."""

    older: str = ""
    pairs: list[ChangedPart] = []


class Preview(BaseModel):
    """Names of blobs. ``pick`` is a PNG as large as ``picture`` whose colour is the number of the
    topmost part at each pixel: 1 + its place in the survey, as 24 bits red to blue; 0 is none.

    ``tiles`` is a zip of tiles at all sizes up to the natural one, empty where the picture itself
    is as large. ``objects`` are the separate objects of a sheet (canvas px). ``before_after`` has
    two pictures of each changed part, by its path; empty where one could not be drawn.
    """

    picture: str = ""
    small: str = ""
    pick: str = ""
    width: int = 0
    height: int = 0
    tiles: str = ""
    objects: list[Rect] = []
    before_after: dict[str, list[str]] = {}
    problem: str = ""


class TakeBody(SourceBody):
    """Export bitmaps of a design as stored."""

    jobs: list[OriginalJob]


class TakeReport(BaseModel):
    originals: list[OriginalFile]


class PdfSource(SourceBody):
    """The cuts of one source."""

    jobs: list[CutJob]


class PdfBody(BaseModel):
    """Write a PDF with a page for each cut of some sources. ``name`` is what people call it."""

    name: str
    sources: list[PdfSource]


class PdfReport(BaseModel):
    """The blob of a PDF."""

    blob: str


class CutBody(SourceBody):
    """Make the files of one cut."""

    job: CutJob


class EstimateBody(SourceBody):
    """Estimate the weight of some cuts' files."""

    jobs: list[CutJob]


class EstimateReport(BaseModel):
    """Estimates by key, and what was made and measured on the way, by key."""

    estimates: dict[str, Estimate] = {}
    made: dict[str, MadeVariant] = {}
    facts: dict[str, CutFacts] = {}


class TryBody(CutBody):
    """Try a recipe on one cut. ``topic`` identifies the trial: only the latest of a recipe needs to
    be made."""

    recipe: str
    topic: str


class TryReport(BaseModel):
    """``report`` is None if a later trial replaced this one."""

    report: JobReport | None = None


class ProofBody(CutBody):
    """Draw the reference for a cut's variants, at a size in px."""

    width: int
    height: int

    @property
    def size(self) -> Size:
        return Size(self.width, self.height)


class ProofReport(BaseModel):
    """The blob of a PNG."""

    reference: str


class CurveBody(ProofBody):
    """Measure weight and score of a cut by quality, in one format."""

    format: Format


class ScoreBody(ProofBody):
    """Measure the score of one file of a cut."""

    key: str
    format: Format


class MadeReport(BaseModel):
    """Variants that were made or measured, by key."""

    made: dict[str, MadeVariant] = {}


class UploadBody(SourceBody):
    """Treat an uploaded picture. ``day`` is the day of the upload; without a ``focus``, one is
    searched for. ``treatment`` is the key of all that, ``slot_treatment`` of the slot's part of it.
    In the ``background`` it waits for what
    people and visitors wait for."""

    day: date
    settings: SlotSettings
    recipe: Recipe
    marks: dict[str, str] = {}
    focus: Focus | None = None
    treatment: str = ""
    slot_treatment: str = ""
    background: bool = False


class TrialBody(UploadBody):
    """The same for a picture that a slot is tried on."""


class UploadReport(BaseModel):
    """Sizes in px. ``preview`` is a blob, ``tiny`` a data URI, ``suggested`` the focal point until
    somebody chooses one; ``crops`` are the rectangles of the crops, ``made`` the results."""

    width: int
    height: int
    format: str
    placeholder: str
    tiny: str
    preview: str
    suggested: Focus
    crops: list[CropPlace]
    made: list[JobReport]
    left_out: list[LeftOut]
    warnings: list[str]
    failed: list[str]


@dataclass(frozen=True)
class Contract:
    """``priority``: higher comes first. Visitors wait for an upload, people at a screen for a
    reading; a batch can wait."""

    kind: TaskKind
    body: type[BaseModel]
    report: type[BaseModel]
    priority: int


CONTRACTS: dict[TaskKind, Contract] = {
    contract.kind: contract
    for contract in (
        Contract(TaskKind.UPLOAD, UploadBody, UploadReport, 30),
        Contract(TaskKind.PROOF, ProofBody, ProofReport, 25),
        Contract(TaskKind.READ, ReadBody, ReadReport, 20),
        Contract(TaskKind.SHOW, ShowBody, Preview, 15),
        Contract(TaskKind.TRY, TryBody, TryReport, 12),
        Contract(TaskKind.TRIAL, TrialBody, UploadReport, 12),
        Contract(TaskKind.CURVE, CurveBody, MadeReport, 8),
        Contract(TaskKind.PDF, PdfBody, PdfReport, 5),
        Contract(TaskKind.SCORE, ScoreBody, MadeReport, 2),
        Contract(TaskKind.TAKE, TakeBody, TakeReport, 1),
        Contract(TaskKind.CUT, CutBody, JobReport, 1),
        Contract(TaskKind.ESTIMATE, EstimateBody, EstimateReport, 0),
    )
}
BATCH = CONTRACTS[TaskKind.CUT].priority
ANY = (0, 99)
"""priorities of all tasks"""
UPLOADS = (CONTRACTS[TaskKind.UPLOAD].priority, 99)
BY_PEOPLE = (CONTRACTS[TaskKind.TRIAL].priority, UPLOADS[0] - 1)
"""of tasks that people at a screen wait for"""
BELOW_UPLOADS = (0, UPLOADS[0] - 1)
_KIND_OF = {contract.body: contract.kind for contract in CONTRACTS.values()}


def priority_of(kind: TaskKind, body: Mapping[str, Any]) -> int:
    """The priority of a task with this body, as JSON has it."""
    return BATCH if body.get("background") else CONTRACTS[kind].priority


def kind_of(body: BaseModel) -> TaskKind:
    """The kind of task for ``body``."""
    return _KIND_OF[type(body)]

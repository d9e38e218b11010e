"""Trying a slot with a picture: what would be made, with nothing saved."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlencode

from sqlmodel import Session

from gefa.core.make.keys import key_of
from gefa.core.slots.settings import Mask, SlotSettings
from gefa.core.slots.upload import LeftOut
from gefa.store.contracts import TrialBody, UploadReport
from gefa.store.models import Slot, TaskState, now
from gefa.store.on_demand_jobs import request_task
from gefa.store.uploads import treatment_by
from gefa.web.pages.crop_view import Crops
from gefa.web.services import Services

TESTS = Path("samples") / "tests"
_BLOB = re.compile(r"[0-9a-f]{64}")


@dataclass(frozen=True)
class SlotTrial:
    """A picture to try a slot on: its blob, and its name."""

    slot: str
    blob: str
    called: str

    @property
    def query(self) -> str:
        return urlencode({"trial": self.blob, "called": self.called}) if self.there else ""

    @property
    def there(self) -> bool:
        return bool(_BLOB.fullmatch(self.blob))


@dataclass(frozen=True)
class TestPicture:
    """A numbered picture that makes crops visible."""

    number: int
    name: str
    file: Path

    @property
    def ratio(self) -> str:
        """The ratio in its name, ``3x2`` for 3:2."""
        return self.name.split("-")[2].replace("x", ":")


def test_pictures(folder: Path) -> list[TestPicture]:
    """The test pictures of the sample world, if they are there."""
    files = sorted((folder / TESTS).glob("test-*.png"))
    return [TestPicture(number, file.stem, file) for number, file in enumerate(files, 1)]


@dataclass
class TrialEffect:
    """The files that a slot would make of a picture, or their progress, or why there are none."""

    settings: SlotSettings
    job_id: str = ""
    waits: bool = False
    made: int = 0
    problem: str = ""
    report: UploadReport | None = None
    bytes: int = 0

    @property
    def crops(self) -> Crops:
        if self.report is None:
            return Crops()
        rects = {place.name: place.rect for place in self.report.crops}
        places = [(crop, rects[crop.name]) for crop in self.settings.crops if crop.name in rects]
        return Crops.of(places, [file for made in self.report.made for file in made.files])

    @property
    def left_out(self) -> list[LeftOut]:
        return self.report.left_out if self.report else []

    @property
    def mask(self) -> Mask:
        return self.settings.mask


def tried_with(
    session: Session, given: Services, slot: Slot, tried: SlotTrial
) -> TrialEffect | None:
    """The effect of the slot's settings on the picture as far as it is known; requests the rest.
    None without a picture."""
    if not tried.there:
        return None
    by = treatment_by(session, slot)
    if not given.store.blobs.touch(tried.blob):
        return TrialEffect(
            by.settings, problem="The picture was deleted to save space. Drop it again."
        )
    weight = given.store.blobs.path(tried.blob).stat().st_size
    body = TrialBody(
        blob=tried.blob,
        name=tried.called or "picture",
        day=now().date(),
        settings=by.settings,
        recipe=by.recipe,
        marks=by.marks,
    )
    topic = f"trial {key_of(body.model_dump_json())}"
    job = request_task(session, topic, body, name=slot.name)
    effect = TrialEffect(by.settings, job.id, bytes=weight)
    if job.state is TaskState.FAILED:
        effect.problem = job.problem
    elif job.state is TaskState.QUEUED:
        effect.waits, effect.made = True, given.queue.progress(job.id)
    else:
        effect.report = UploadReport.model_validate(job.report)
    return effect

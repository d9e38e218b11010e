"""Trying a slot with a picture: what would be made, with nothing saved."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlencode

from sqlmodel import Session

from gefa.core.deliver.manifest import File
from gefa.core.geometry import Rect
from gefa.core.jobs import key_of
from gefa.core.slot import Mask, SlotSettings
from gefa.core.treat.formats import Format
from gefa.core.upload import LeftOut
from gefa.store.asked import ask
from gefa.store.models import JobKind, JobState, Slot, now
from gefa.store.uploads import treatment_by
from gefa.web.services import Services
from gefa.work.upload import UploadReport

TESTS = Path("samples") / "tests"
_BLOB = re.compile(r"[0-9a-f]{64}")


@dataclass(frozen=True)
class Tried:
    """A picture that a slot is tried with: its blob, and what it is called."""

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
    """A numbered picture that shows what crops do."""

    number: int
    name: str
    file: Path

    @property
    def ratio(self) -> str:
        """As its name says, ``3x2`` for 3:2."""
        return self.name.split("-")[2].replace("x", ":")


def test_pictures(folder: Path) -> list[TestPicture]:
    """The test pictures of the sample world, if it is there."""
    files = sorted((folder / TESTS).glob("test-*.png"))
    return [TestPicture(number, file.stem, file) for number, file in enumerate(files, 1)]


@dataclass
class CropEffect:
    """What would be made of one crop; ``rect`` in px of the picture."""

    name: str
    rect: Rect
    files: list[File] = field(default_factory=list)

    @property
    def widths(self) -> list[int]:
        return sorted({file.width for file in self.files})

    def at(self, width: int, format: Format) -> File | None:
        return next((f for f in self.files if f.width == width and f.format is format), None)

    @property
    def shown(self) -> File:
        """The file to look at: the lightest of the widest."""
        return min(self.files, key=lambda file: (-file.width, file.bytes))


@dataclass
class TrialEffect:
    """What a slot would make of a picture, or how far that is, or why nothing."""

    settings: SlotSettings
    job_id: str = ""
    waits: bool = False
    made: int = 0
    problem: str = ""
    report: UploadReport | None = None
    bytes: int = 0

    @property
    def crops(self) -> list[CropEffect]:
        if self.report is None:
            return []
        files = [file for made in self.report.made for file in made.files]
        return [
            CropEffect(place.name, place.rect, [f for f in files if f.cut == place.name])
            for place in self.report.crops
        ]

    @property
    def formats(self) -> list[Format]:
        made = {file.format for crop in self.crops for file in crop.files}
        return [format for format in Format if format in made]

    @property
    def heaviest(self) -> int:
        return max((file.bytes for crop in self.crops for file in crop.files), default=1)

    @property
    def files(self) -> list[File]:
        return [file for crop in self.crops for file in crop.files]

    @property
    def left_out(self) -> list[LeftOut]:
        return self.report.left_out if self.report else []

    @property
    def drawn(self) -> list[tuple[str, Rect, bool]]:
        """Each crop, and whether it is drawn on the picture."""
        return [(crop.name, crop.rect, crop.name in self.named) for crop in self.crops]

    @property
    def named(self) -> list[str]:
        """Crops that keep a part of the picture only."""
        return [crop.name for crop in self.settings.crops if crop.follows_focal]

    @property
    def mask(self) -> Mask:
        return self.settings.mask


def tried_with(session: Session, given: Services, slot: Slot, tried: Tried) -> TrialEffect | None:
    """The effect of the slot's settings on the picture as far as it is known; has it made if it is
    not. None without a picture."""
    if not tried.there:
        return None
    by = treatment_by(session, slot)
    if not given.store.blobs.touch(tried.blob):
        return TrialEffect(by.settings, problem="The picture was cleared away. Drop it again.")
    weight = given.store.blobs.path(tried.blob).stat().st_size
    task = {
        "blob": tried.blob,
        "name": tried.called or "picture",
        "day": now().date().isoformat(),
        "settings": by.settings.model_dump(mode="json"),
        "recipe": by.recipe.model_dump(mode="json"),
        "marks": by.marks,
    }
    topic = f"trial {key_of(*(f'{key}={task[key]}' for key in sorted(task)))}"
    job = ask(session, JobKind.TRIAL, topic, task, name=slot.name)
    effect = TrialEffect(by.settings, job.id, bytes=weight)
    if job.state is JobState.FAILED:
        effect.problem = job.problem
    elif job.state is JobState.QUEUED:
        effect.waits, effect.made = True, given.queue.progress(job.id)
    else:
        effect.report = UploadReport.model_validate(job.report)
    return effect

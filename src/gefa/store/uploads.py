"""Uploads: accept, describe, review, make again, remove."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from pydantic import BaseModel, Field, field_validator
from sqlmodel import Session, col, func, select

from gefa.core.errors import GefaError
from gefa.core.slots.settings import SlotSettings
from gefa.core.slots.upload import (
    MAX_ZOOM,
    Focus,
    cropped_by,
    slot_treatment_of,
    treatment_of,
)
from gefa.core.treat.recipe import Recipe
from gefa.store.actor import actor
from gefa.store.blobs import Blob
from gefa.store.contracts import UploadBody
from gefa.store.models import Slot, Task, TaskState, Upload, UploadState, now
from gefa.store.notices import notify
from gefa.store.replacement import forget_earlier, keep_earlier, take_back
from gefa.store.slots import marks_of, recipe_of, settings_of
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue
from gefa.store.trail import Deed, note
from gefa.store.variants import (
    drop_waiting,
    newest_revision,
    release,
    variants_of_upload,
    withhold,
)

OTHER_TREATMENT = "other"
"""the slot's part of a treatment that is not the present one, and is not known otherwise"""
MAX_ALT = 2_000
"""characters: some minutes of reading aloud"""
MAX_TAGS = 30
"""of an upload: the feed shows them in one line"""
MAX_TAG = 60
"""characters"""


class Described(BaseModel):
    """Texts and focal point of an upload. A focal point is 0..1 each way, and both or none; None
    leaves a field as it is."""

    alt: str | None = Field(default=None, max_length=MAX_ALT)
    decorative: bool | None = None
    tags: list[str] | None = Field(default=None, max_length=MAX_TAGS)
    focal_x: float | None = Field(default=None, ge=0, le=1)
    focal_y: float | None = Field(default=None, ge=0, le=1)
    zoom: float | None = Field(default=None, ge=1, le=MAX_ZOOM)

    @field_validator("alt", "tags")
    @classmethod
    def _writable(cls, said: str | list[str] | None) -> str | list[str] | None:
        for text in [said] if isinstance(said, str) else said or []:
            if any("\ud800" <= character <= "\udfff" for character in text):
                raise ValueError("it contains half a character (a lone surrogate)")
        return said

    @field_validator("tags")
    @classmethod
    def _plain(cls, tags: list[str] | None) -> list[str] | None:
        if tags is None:
            return None
        plain = (" ".join(tag.split())[:MAX_TAG] for tag in tags)
        return list(dict.fromkeys(tag for tag in plain if tag))


@dataclass(frozen=True)
class Sent:
    """A received file: its name, its blob and its kind."""

    name: str
    blob: Blob
    format: str


def accept(
    session: Session,
    slot: Slot,
    sent: Sent,
    described: Described | None = None,
    *,
    request: str | None = None,
    background: bool = False,
) -> Upload:
    """Record an upload by the actor and queue its treatment, with the slot's current settings; in
    the ``background`` if nobody waits for it."""
    upload = Upload(
        slot_id=slot.id,
        who=actor().name,
        name=sent.name,
        blob=sent.blob.sha256,
        bytes=sent.blob.bytes,
        format=sent.format,
        state=UploadState.PROCESSING,
        request=request,
        fingerprint=fingerprint(sent),
    )
    _describe(upload, described or Described())
    session.add(upload)
    session.flush()
    treat(session, upload, slot, background=background)
    note(session, Deed.UPLOAD_SENT, upload.name, f"to {slot.name}")
    return upload


def fingerprint(sent: Sent) -> str:
    """Distinguishes two files sent under the same request."""
    return sent.blob.sha256[:40]


def held_by(session: Session, slot: Slot) -> tuple[int, int]:
    """The number of a slot's uploads, and the weight of their originals (bytes)."""
    count, held = session.exec(
        select(func.count(), func.coalesce(func.sum(Upload.bytes), 0)).where(
            Upload.slot_id == slot.id, col(Upload.removed).is_(None)
        )
    ).one()
    return int(count), int(held)


def sent_before(session: Session, request: str) -> Upload | None:
    """The upload of a request that was sent before."""
    return session.exec(select(Upload).where(Upload.request == request)).first()


def focus_of(upload: Upload) -> Focus | None:
    """The focal point that somebody chose; None if nobody did."""
    if upload.focal_x is None or upload.focal_y is None:
        return None
    return Focus(x=upload.focal_x, y=upload.focal_y, zoom=upload.zoom)


def seen_focus(upload: Upload) -> Focus | None:
    """The focal point in use: the chosen one, or the suggested one."""
    chosen = focus_of(upload)
    if chosen is not None or upload.suggested_x is None or upload.suggested_y is None:
        return chosen
    return Focus(x=upload.suggested_x, y=upload.suggested_y, zoom=upload.zoom)


@dataclass(frozen=True)
class Treatment:
    """The current way a slot treats an upload."""

    settings: SlotSettings
    recipe: Recipe
    marks: dict[str, str]

    def of(self, upload: Upload) -> str:
        """A key of what it makes of ``upload``."""
        focus = focus_of(upload)
        return treatment_of(self.settings, self.recipe, upload.blob, focus, self.marks)

    @cached_property
    def of_slot(self) -> str:
        """A key of the slot's part of it."""
        return slot_treatment_of(self.settings, self.recipe, self.marks)


def treatment_by(session: Session, slot: Slot) -> Treatment:
    """PlanError if the slot's recipe is gone."""
    settings = settings_of(session, slot)
    recipe = recipe_of(session, settings)
    marks = marks_of(session, settings, recipe)
    return Treatment(cropped_by(settings, recipe), recipe, marks)


def shown_settings(session: Session, slot: Slot) -> SlotSettings:
    """The slot's settings with the crops as they are cut; unchanged if its recipe is gone."""
    try:
        return treatment_by(session, slot).settings
    except GefaError:
        return settings_of(session, slot)


def treat(session: Session, upload: Upload, slot: Slot, *, background: bool = False) -> None:
    """Queue the making of an upload's files with the slot's current settings and recipe; in the
    ``background`` if nobody waits for it. Earlier queued tasks for it no longer count."""
    if upload.original_gone:
        raise GefaError(
            "its original was removed, so its files cannot be made again.",
            advice="Replace the file.",
        )
    by = treatment_by(session, slot)
    body = UploadBody(
        blob=upload.blob,
        name=upload.name,
        day=upload.created.date(),
        settings=by.settings,
        recipe=by.recipe,
        marks=by.marks,
        focus=focus_of(upload),
        treatment=by.of(upload),
        slot_treatment=by.of_slot,
        background=background,
    )
    enqueue(session, body, upload_id=upload.id, name=upload.name)
    session.flush()


def describe(session: Session, upload: Upload, slot: Slot, described: Described) -> bool:
    """Change an upload's texts or focal point; files that depend on a new focal point are made
    again. True if so."""
    before = focus_of(upload)
    _describe(upload, described)
    session.add(upload)
    changed = ", ".join(described.model_dump(exclude_none=True))
    if changed:
        note(session, Deed.UPLOAD_DESCRIBED, upload.name, changed)
    if focus_of(upload) == before:
        return False  # asked first: words may be changed though the slot's recipe is gone
    if not any(crop.follows_focal for crop in treatment_by(session, slot).settings.crops):
        return False
    treat(session, upload, slot)
    return True


def forget_focus(session: Session, upload: Upload, slot: Slot) -> None:
    """Return to the suggested focal point."""
    if focus_of(upload) is None:
        return
    upload.focal_x = upload.focal_y = None
    upload.zoom = 1.0
    session.add(upload)
    note(session, Deed.UPLOAD_DESCRIBED, upload.name, "suggested focal point")
    treat(session, upload, slot)


def _describe(upload: Upload, described: Described) -> None:
    if described.alt is not None:
        upload.alt = described.alt.strip()
    if described.decorative is not None:
        upload.decorative = described.decorative
    if described.tags is not None:
        upload.tags = described.tags
    if described.focal_x is not None and described.focal_y is not None:
        upload.focal_x, upload.focal_y = described.focal_x, described.focal_y
    if described.zoom is not None:
        upload.zoom = described.zoom
        seen = seen_focus(upload)
        if seen is None:
            raise GefaError(
                "there is no focal point to zoom round yet.", advice="Give one with the zoom."
            )
        if upload.focal_x is None:
            upload.focal_x, upload.focal_y = seen.point


def replace(session: Session, upload: Upload, slot: Slot, sent: Sent) -> None:
    """Replace the file under the same identity. The earlier file is served until the new one is
    ready, and approved if the slot has review."""
    note(session, Deed.UPLOAD_REPLACED, upload.name, f"by {sent.name}")
    drop_waiting(session, upload.id)  # nobody can approve what this file takes the place of
    served = bool(variants_of_upload(session, upload.id))
    if served:
        keep_earlier(upload)
    upload.name, upload.format = sent.name, sent.format
    upload.blob, upload.bytes = sent.blob.sha256, sent.blob.bytes
    upload.focal_x = upload.focal_y = upload.suggested_x = upload.suggested_y = None
    upload.zoom, upload.reason, upload.problem = 1.0, "", ""
    upload.width, upload.height, upload.preview = None, None, ""
    upload.approved = upload.original_gone = False
    upload.state = UploadState.LIVE if served else UploadState.PROCESSING
    session.add(upload)
    treat(session, upload, slot)


class ChangedMeanwhile(GefaError):
    """A decision about a picture that is not the one in its place any more."""


def _looked_at(session: Session, upload: Upload, seen: str) -> None:
    """Make sure that a decision is about the files that the reviewer saw, named by their
    revision. ChangedMeanwhile if there are others now, GefaError if there are none to look at."""
    replacing = bool(upload.earlier) and upload.state is UploadState.LIVE
    if replacing or upload.state in (UploadState.RECEIVED, UploadState.PROCESSING):
        raise GefaError(
            f"the files of {upload.name} are still being made.", advice="Look at them first."
        )
    revision = newest_revision(session, upload.id)
    if revision is None:
        raise GefaError("it has no files, so there is nothing to decide on.")
    if seen != revision:
        raise ChangedMeanwhile(
            f"these are not the files that were looked at: now it is {upload.name}, revision"
            f" {revision}.",
            advice="Load the page again, look at the picture, and decide again.",
        )


def approve(session: Session, upload: Upload, slot: Slot, seen: str) -> None:
    """Approve the revision that was ``seen``, which makes it live. ChangedMeanwhile if there is
    another now, GefaError if it has no files."""
    _looked_at(session, upload, seen)
    was_live = upload.state is UploadState.LIVE
    release(session, upload.id)
    note(session, Deed.UPLOAD_APPROVED, upload.name, f"in {slot.name}")
    upload.state, upload.approved, upload.reason = UploadState.LIVE, True, ""
    forget_earlier(upload)
    session.add(upload)
    if not was_live:
        went_live(session, upload, slot)


def reject(session: Session, upload: Upload, reason: str, seen: str) -> None:
    """Reject the revision that was ``seen``; if it waits to replace a served one, that stays.
    Errors as for ``approve``, and GefaError without a reason."""
    _looked_at(session, upload, seen)
    reason = reason.strip()[:MAX_ALT]
    if not reason:
        raise GefaError(
            "give a reason for the rejection.", advice="The person who uploaded it sees the reason."
        )
    note(session, Deed.UPLOAD_REJECTED, upload.name, reason)
    if upload.earlier:
        take_back(session, upload, f"{upload.name} was rejected: {reason.rstrip('.')}.")
    else:
        withhold(session, upload.id)
        upload.state, upload.approved, upload.reason = UploadState.REJECTED, False, reason
        forget_earlier(upload)
    session.add(upload)


def went_live(session: Session, upload: Upload, slot: Slot) -> None:
    """After an upload went live: send webhook notices, and remove the original if the slot does not
    keep it."""
    settings = settings_of(session, slot)
    notify(session, slot, upload, settings.notify, "upload.live")
    if not settings.keeps_original(upload.bytes):
        upload.original_gone = True
        session.add(upload)


def remove(session: Session, upload: Upload) -> None:
    """Stop serving it. It can be restored for a while."""
    if upload.removed is None:
        upload.removed = now()
        session.add(upload)
        note(session, Deed.UPLOAD_REMOVED, upload.name)


def restore(session: Session, upload: Upload) -> None:
    """Restore a removed upload; one that is live again is told of, as when it went live."""
    if upload.removed is not None:
        upload.removed = None
        session.add(upload)
        note(session, Deed.UPLOAD_RESTORED, upload.name)
        if upload.state is UploadState.LIVE:
            slot = session.get_one(Slot, upload.slot_id)
            notify(session, slot, upload, settings_of(session, slot).notify, "upload.live")


def outdated(session: Session, slot: Slot) -> Sequence[Upload]:
    """Uploads that the slot would treat differently now."""
    return session.exec(select(Upload).where(*_outdated(session, slot))).all()


def count_outdated(session: Session, slot: Slot) -> int:
    """How many uploads the slot would treat differently now."""
    return session.exec(
        select(func.count()).select_from(Upload).where(*_outdated(session, slot))
    ).one()


def _outdated(session: Session, slot: Slot) -> tuple[Any, ...]:
    """Another file or focal point of an upload queues it at once, so only the slot's part of a
    treatment can be another one."""
    busy = select(Task.upload_id).where(
        Task.kind == TaskKind.UPLOAD,
        Task.state == TaskState.QUEUED,
        col(Task.upload_id).is_not(None),
    )
    return (
        Upload.slot_id == slot.id,
        col(Upload.removed).is_(None),
        col(Upload.original_gone).is_(False),
        col(Upload.slot_treatment).not_in(("", treatment_by(session, slot).of_slot)),
        col(Upload.id).not_in(busy),
    )


def note_slot_treatments(session: Session, at_once: int) -> int:
    """Work out the slot's part of the treatment for uploads of which only the whole is known, from
    before there was such a column; returns how many."""
    unknown = session.exec(
        select(Upload).where(Upload.slot_treatment == "", Upload.treatment != "").limit(at_once)
    ).all()
    by: dict[str, Treatment | None] = {}
    for upload in unknown:
        if upload.slot_id not in by:
            try:
                by[upload.slot_id] = treatment_by(session, session.get_one(Slot, upload.slot_id))
            except GefaError:
                by[upload.slot_id] = None
        now = by[upload.slot_id]
        same = now is not None and upload.treatment == now.of(upload)
        upload.slot_treatment = now.of_slot if now is not None and same else OTHER_TREATMENT
        session.add(upload)
    return len(unknown)


def busy_uploads(session: Session) -> set[str]:
    """Ids of uploads whose files are being made."""
    found = session.exec(
        select(Task.upload_id).where(Task.kind == TaskKind.UPLOAD, Task.state == TaskState.QUEUED)
    ).all()
    return {upload_id for upload_id in found if upload_id}


def is_busy(session: Session, upload_id: str) -> bool:
    """Whether an upload's files are being made."""
    return upload_id in busy_among(session, [upload_id])


def busy_among(session: Session, upload_ids: Sequence[str]) -> set[str]:
    """Those of the uploads whose newest treatment is not finished."""
    tasks = (
        select(Task.upload_id, Task.state)
        .where(col(Task.upload_id).in_(upload_ids), Task.kind == TaskKind.UPLOAD)
        .order_by(col(Task.id))
    )
    newest = dict(session.exec(tasks).all())
    return {id for id, state in newest.items() if id and state is TaskState.QUEUED}


def make_all_again(session: Session, slot: Slot) -> int:
    """Queue all outdated uploads; returns how many. Files that stay the same are found,
    not made."""
    uploads = outdated(session, slot)
    for upload in uploads:
        treat(session, upload, slot, background=True)
    if uploads:
        note(session, Deed.UPLOADS_REMADE, slot.name, f"{len(uploads)} uploads")
    return len(uploads)


def latest_job(session: Session, upload_id: str) -> Task | None:
    """The newest treatment of an upload, finished or not."""
    return session.exec(
        select(Task)
        .where(Task.upload_id == upload_id, Task.kind == TaskKind.UPLOAD)
        .order_by(col(Task.id).desc())
        .limit(1)
    ).first()

"""Settles an upload."""

from __future__ import annotations

from sqlmodel import Session

from gefa.core.slots.upload import CropPlace
from gefa.store.contracts import UploadReport
from gefa.store.models import Slot, Task, Upload, UploadState
from gefa.store.replacement import forget_earlier, take_back
from gefa.store.slots import settings_of
from gefa.store.uploads import focus_of, latest_job, went_live
from gefa.store.variants import exchange, variants_of_upload
from gefa.work.queue import Outcome
from gefa.work.settle import keep_report


def settle_upload(session: Session, job: Task, outcome: Outcome) -> None:
    """Process the result of an upload. The caller commits."""
    keep_report(session, job, outcome)
    upload = session.get_one(Upload, job.upload_id)
    latest = latest_job(session, upload.id)
    treatment, blob = str(job.task.get("treatment", "")), job.task.get("blob")
    slot_treatment = str(job.task.get("slot_treatment", ""))
    # What it needed is known from the upload itself; its blob may have to go.
    job.task, job.report = {}, {}
    if latest is not None and latest.id != job.id:
        return
    if upload.blob and upload.blob != blob:
        return  # of a file that was rejected meanwhile
    if outcome.report is None:
        _failed(session, upload, outcome.problem, refused=outcome.refused)
        return
    report = UploadReport.model_validate(outcome.report)
    _note(upload, report)
    files = [file for made in report.made for file in made.files]
    if not files:
        _failed(session, upload, " ".join(report.failed), refused=False)
        return
    slot = session.get_one(Slot, upload.slot_id)
    waiting = _must_wait(session, upload, slot)
    changed = exchange(session, upload.id, job.id, files, waiting=waiting)
    upload.problem = " ".join(report.failed)
    upload.treatment, upload.slot_treatment = treatment, slot_treatment
    before = upload.state
    if not waiting:
        upload.state = UploadState.LIVE
        forget_earlier(upload)
    elif not upload.reason:
        upload.state = UploadState.HELD
    session.add(upload)
    if upload.state is UploadState.LIVE and (changed or before is not UploadState.LIVE):
        went_live(session, upload, slot)


def _must_wait(session: Session, upload: Upload, slot: Slot) -> bool:
    """Whether it waits for a decision before it is served: a reviewer's no stays a no."""
    if upload.reason:
        return True
    return settings_of(session, slot).review and not upload.approved


def _note(upload: Upload, report: UploadReport) -> None:
    upload.width, upload.height = report.width, report.height
    upload.format, upload.placeholder = report.format, report.placeholder
    upload.tiny, upload.preview = report.tiny, report.preview
    upload.suggested_x, upload.suggested_y = report.suggested.point
    if focus_of(upload) is None:
        upload.zoom = report.suggested.zoom
    upload.said = {
        "crops": [_place(crop) for crop in report.crops],
        "left_out": [one.model_dump() for one in report.left_out],
        "warnings": report.warnings,
    }


def _place(crop: CropPlace) -> dict[str, object]:
    return crop.model_dump(mode="json")


def _failed(session: Session, upload: Upload, problem: str, *, refused: bool) -> None:
    """Making failed. The served files stay served."""
    upload.problem = problem
    if upload.earlier:
        take_back(session, upload, problem)
    elif not variants_of_upload(session, upload.id):
        upload.state = UploadState.REJECTED if refused else UploadState.FAILED
    session.add(upload)

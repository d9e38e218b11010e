"""``/api/v1``: alternative text, focal point and review of an upload."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

import anyio.to_thread
from fastapi import Header, Request, Response
from pydantic import BaseModel, Field
from sqlmodel import Session

from gefa.core.errors import GefaError
from gefa.store.keys import Right
from gefa.store.models import Slot, Upload
from gefa.store.uploads import (
    MAX_ALT,
    ChangedMeanwhile,
    Described,
    approve,
    describe,
    forget_focus,
    reject,
    remove,
    replace,
    restore,
)
from gefa.web.api.access import Access, seen_by, upload_opened
from gefa.web.api.answers import UploadAnswer, described
from gefa.web.api.slot_intake import SlotIntake, as_sent
from gefa.web.api.uploads import checked_description, problems
from gefa.web.file_form import receive_form
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, with_key

router = guarded_router(prefix="/api/v1/uploads/{upload_id}", tags=["uploads"])

Authorization = Annotated[str, Header()]
WHO_SENDS = (Right.UPLOAD, Right.REVIEW)


class Approval(BaseModel):
    """Which files are approved: the ``revision`` of the upload that was looked at."""

    revision: str


class Rejection(Approval):
    """Which files are rejected, and why."""

    reason: str = Field(min_length=1, max_length=MAX_ALT)


def _done(
    given: Services,
    upload_id: str,
    authorization: str,
    rights: tuple[Right, ...],
    do: Callable[[Session, Upload, Slot], object],
) -> UploadAnswer:
    """Change an upload, if the key may; returns its new state."""
    with given.store.changing() as session:
        upload, access = upload_opened(session, upload_id, authorization, *rights)
        try:
            do(session, upload, access.slot)
        except ChangedMeanwhile as error:
            raise Problem(409, "Changed meanwhile", str(error)) from error
        except GefaError as error:
            raise Problem(409, "Not in this state", str(error)) from error
        session.flush()
        answer = described(
            session, seen_by(access, upload), access.slot, held=access.may(Right.REVIEW)
        )
    given.foreman.wake()
    return answer


@router.patch("", response_model=UploadAnswer, responses=problems(401, 403, 404, 409, 422))
@with_key
def change(
    upload_id: str, said: dict[str, Any], given: ServicesOf, authorization: Authorization = ""
) -> Any:
    """Change alt, decorative, tags, focal_x with focal_y, or zoom. Fields that are not sent stay; a
    focal point of null returns to the suggested one. Only crops that depend on the focal point are
    made again; the earlier files are served meanwhile."""
    forgets = "focal_x" in said and said["focal_x"] is None and said.get("focal_y") is None
    wanted = {name: value for name, value in said.items() if value is not None}
    unknown = sorted(set(said) - set(Described.model_fields))
    if unknown:
        raise Problem(422, "No such field", f"Uploads have no field {', '.join(unknown)}.")
    checked = checked_description(wanted)

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        if forgets:
            forget_focus(session, upload, slot)
        describe(session, upload, slot, checked)

    return _done(given, upload_id, authorization, WHO_SENDS, do)


@router.put("/file", response_model=UploadAnswer, responses=problems(400, 401, 403, 404, 413, 415))
@with_key
async def replace_file(
    request: Request, upload_id: str, given: ServicesOf, authorization: Authorization = ""
) -> Any:
    """Replace the file: a multipart form with ``file``. The upload keeps its id; the earlier files
    are served until the new ones are ready, and approved if the slot has review."""

    def opened() -> Access:
        with given.store.session() as session:
            return upload_opened(session, upload_id, authorization, Right.UPLOAD)[1]

    access = await anyio.to_thread.run_sync(opened)
    form = await receive_form(request, given, SlotIntake(access.settings))
    if len(form.files) > 1:
        raise Problem(422, "One file only", "An upload is one file. Send the others separately.")
    put = as_sent(form.files[0])

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        replace(session, upload, slot, put)

    return await anyio.to_thread.run_sync(
        _done, given, upload_id, authorization, (Right.UPLOAD,), do
    )


@router.post("/approve", response_model=UploadAnswer, responses=problems(401, 403, 404, 409))
@with_key
def approve_it(
    upload_id: str, said: Approval, given: ServicesOf, authorization: Authorization = ""
) -> Any:
    """Approve the files that were looked at, which makes them live; 409 if there are others
    now. The key needs the right to review."""

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        approve(session, upload, slot, said.revision)

    return _done(given, upload_id, authorization, (Right.REVIEW,), do)


@router.post("/reject", response_model=UploadAnswer, responses=problems(401, 403, 404, 409, 422))
@with_key
def reject_it(
    upload_id: str, said: Rejection, given: ServicesOf, authorization: Authorization = ""
) -> Any:
    """Reject the files that were looked at, with a reason; 409 if there are others now. The key
    needs the right to review."""

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        reject(session, upload, said.reason, said.revision)

    return _done(given, upload_id, authorization, (Right.REVIEW,), do)


@router.delete("", status_code=204, responses=problems(401, 403, 404))
@with_key
def remove_it(upload_id: str, given: ServicesOf, authorization: Authorization = "") -> Response:
    """Stop serving an upload. It can be restored for 30 days."""
    _done(given, upload_id, authorization, WHO_SENDS, lambda session, up, _: remove(session, up))
    return Response(status_code=204)


@router.post("/restore", response_model=UploadAnswer, responses=problems(401, 403, 404))
@with_key
def restore_it(upload_id: str, given: ServicesOf, authorization: Authorization = "") -> Any:
    """Restore a removed upload."""
    return _done(
        given, upload_id, authorization, WHO_SENDS, lambda session, up, _: restore(session, up)
    )

"""The feed of uploads, and one upload: its focal point, its words, its files, its state."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urlencode

import anyio.to_thread
from fastapi import APIRouter, Form, HTTPException, Query, Request, Response
from fastapi.responses import RedirectResponse
from pydantic import BaseModel
from sqlmodel import Session

from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.errors import GefaError
from gefa.core.geometry import Size
from gefa.core.slots.settings import SlotSettings
from gefa.core.slots.upload import Focus, LeftOut, place_of
from gefa.store.feed import FeedQuery, all_tags, feed
from gefa.store.models import Slot, Upload, Variant
from gefa.store.slots import all_slots
from gefa.store.uploads import (
    approve,
    busy_uploads,
    describe,
    focus_of,
    forget_focus,
    is_busy,
    reject,
    remove,
    replace,
    restore,
    seen_focus,
    shown_settings,
    treat,
)
from gefa.store.variants import newest_variants, variants_of_upload
from gefa.web.api.markup import Placeholder, markup_of
from gefa.web.api.slot_intake import SlotIntake, as_sent
from gefa.web.api.uploads import described_by
from gefa.web.fields import FormOf
from gefa.web.file_form import receive_form
from gefa.web.pages.crop_view import Crops
from gefa.web.problems import Problem
from gefa.web.sending import send_blob, send_made
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page

router = APIRouter(prefix="/uploads")

SHOWN = 50
"""uploads on a page of the feed"""
STATES = [
    ("", "in any state"),
    ("live", "live"),
    ("held", "held for review"),
    ("processing", "being made"),
    ("rejected", "rejected"),
    ("failed", "failed"),
    ("untold", "without alternative text"),
    ("removed", "removed"),
]


class AskedMarkup(BaseModel):
    """What the form for markup says."""

    crop: str = ""
    sizes: str = ""
    loading: Literal["lazy", "eager"] = "lazy"
    placeholder: Placeholder = Placeholder.COLOUR
    art_crop: str = ""
    art_media: str = ""


@dataclass
class UploadRow:
    """An upload in the feed. ``heaviest`` is the file at the largest width, its lightest format:
    what a visitor with a large screen is sent, in bytes."""

    upload: Upload
    slot: str
    making: bool
    heaviest: int | None

    @property
    def saved(self) -> float | None:
        """The share of the uploaded bytes that such a visitor is spared."""
        if self.heaviest is None or not self.upload.bytes:
            return None
        return 1 - self.heaviest / self.upload.bytes


def _row(session: Session, upload: Upload, slots: dict[str, str], busy: set[str]) -> UploadRow:
    variants = list(newest_variants(session, upload.id))
    sent = sent_to_large_screens(variants)
    return UploadRow(upload, slots[upload.slot_id], upload.id in busy, sent.bytes if sent else None)


@router.get("")
def index(request: Request, given: ServicesOf, wanted: Annotated[FeedQuery, Query()]) -> Response:
    """Uploads, newest first, searched and filtered; those that are held are the review queue."""
    with given.store.reading() as session:
        found = feed(session, wanted, SHOWN)
        slots = {slot.id: slot.name for slot in all_slots(session)}
        busy = busy_uploads(session)
        rows = [_row(session, upload, slots, busy) for upload in found.uploads]
        tags = all_tags(session)
    more = urlencode({**wanted.filters, "after": found.next}) if found.next else ""
    return page(
        request,
        "uploads/list.html",
        rows=rows,
        total=found.total,
        wanted=wanted,
        query=urlencode(wanted.filters),
        more=more,
        slots=sorted(slots.values()),
        tags=tags,
        states=STATES,
        moving=len(busy),
    )


@dataclass
class UploadView:
    """One upload on its screen. ``pending`` tells that its newest files are not served yet."""

    upload: Upload
    slot: Slot
    settings: SlotSettings
    focus: Focus | None
    chosen: bool
    making: bool
    crops: Crops
    left_out: list[LeftOut]
    warnings: list[str]
    pending: bool
    live: bool


def _view(session: Session, upload_id: str) -> UploadView:
    upload = session.get(Upload, upload_id)
    if upload is None:
        raise HTTPException(404, "There is no such upload any more.")
    slot = session.get_one(Slot, upload.slot_id)
    settings = shown_settings(session, slot)
    variants = list(newest_variants(session, upload.id))
    focus = seen_focus(upload)
    size = Size(upload.width or 1, upload.height or 1)
    return UploadView(
        upload,
        slot,
        settings,
        focus,
        focus_of(upload) is not None,
        is_busy(session, upload.id),
        Crops.of([(crop, place_of(crop, size, focus)) for crop in settings.crops], variants),
        [LeftOut.model_validate(one) for one in upload.said.get("left_out", [])],
        upload.said.get("warnings", []),
        any(variant.waiting for variant in variants),
        bool(variants_of_upload(session, upload.id)) and upload.removed is None,
    )


@router.get("/{upload_id}")
def show(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """One upload: the picture with its crops, and what came out of it."""
    with given.store.reading() as session:
        view = _view(session, upload_id)
    return page(request, "uploads/index.html", view=view)


@router.get("/{upload_id}/files")
def files(request: Request, upload_id: str, given: ServicesOf, seen: str | None = None) -> Response:
    """What came out of it, as it is now; the page anew where it waited and ``seen``, the beginning
    of its preview's digest, is not that of the picture that is there now."""
    with given.store.reading() as session:
        view = _view(session, upload_id)
    if seen is not None and not view.making and not (seen and view.upload.preview.startswith(seen)):
        return Response(headers={"HX-Refresh": "true"})
    answer = page(request, "uploads/_answer.html", view=view)
    if not view.making:
        # The markup asks anew when it hears of it.
        answer.headers["HX-Trigger-After-Swap"] = "remade"
    return answer


@router.get("/{upload_id}/markup")
def markup(
    request: Request, upload_id: str, given: ServicesOf, asked: Annotated[AskedMarkup, Query()]
) -> Response:
    """Markup as the form asks for it, in all forms."""
    with given.store.reading() as session:
        view = _view(session, upload_id)
    art = [f"{asked.art_crop}; {asked.art_media}"] if asked.art_crop and asked.art_media else []
    answer = None
    if view.live:
        answer = markup_of(
            upload_id,
            given,
            crop=asked.crop,
            sizes=asked.sizes,
            art=art,
            lazy=asked.loading == "lazy",
            placeholder=asked.placeholder,
        )
    told = json.dumps(answer.data, indent=1) if answer else ""
    return page(request, "uploads/_markup.html", view=view, asked=asked, answer=answer, data=told)


@router.get("/{upload_id}/preview")
def preview(upload_id: str, given: ServicesOf) -> Response:
    """The picture at a size to look at, whatever its state."""
    with given.store.reading() as session:
        upload = session.get(Upload, upload_id)
    if upload is None or not upload.preview:
        raise HTTPException(404)
    return send_blob(given.store.blobs, upload.preview, "image/webp", "private, no-cache")


@router.get("/{upload_id}/file/{variant_id}")
def file(upload_id: str, variant_id: str, given: ServicesOf) -> Response:
    """One of its files, also while it is held."""
    with given.store.reading() as session:
        variant = session.get(Variant, variant_id)
    if variant is None or variant.upload_id != upload_id:
        raise HTTPException(404)
    return send_made(given.store.blobs, variant.sha256, variant.format, "private")


# -- changing it ------------------------------------------------------------------------------


def _do(given: Services, upload_id: str, do: Callable[[Session, Upload, Slot], object]) -> None:
    with given.store.changing() as session:
        upload = session.get(Upload, upload_id)
        if upload is None:
            raise HTTPException(404, "There is no such upload any more.")
        try:
            do(session, upload, session.get_one(Slot, upload.slot_id))
        except GefaError as error:
            raise Problem(422, "That cannot be", str(error)) from error
    given.foreman.wake()


def _done(request: Request, given: Services, upload_id: str, back: str) -> Response:
    """The upload's files, or the page that the form was on."""
    if not request.headers.get("HX-Request"):
        # Only to a page of the feed: never to wherever a form says.
        query = back if back.startswith("?") else ""
        return RedirectResponse(f"/uploads{query}" if query else f"/uploads/{upload_id}", 303)
    return files(request, upload_id, given)


Back = Annotated[str, Form()]


@router.post("/{upload_id}/describe")
def describe_it(
    request: Request,
    upload_id: str,
    given: ServicesOf,
    form: FormOf,
) -> Response:
    """Say something of it: its alternative text, its tags, its focal point and zoom."""
    fields: dict[str, Any] = {name: value for name, value in form.items() if isinstance(value, str)}
    said = described_by(fields)
    if "alt" in fields:
        # The form as a whole says how it is: what is empty or not ticked, too.
        tags = [tag for tag in fields.get("tags", "").split(",") if tag.strip()]
        update = {"alt": fields["alt"], "tags": tags, "decorative": "decorative" in fields}
        said = said.model_validate({**said.model_dump(), **update})
    _do(given, upload_id, lambda session, upload, slot: describe(session, upload, slot, said))
    return _done(request, given, upload_id, "")


@router.post("/{upload_id}/suggest")
def suggest(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """Leave the focal point to the picture again."""
    _do(given, upload_id, forget_focus)
    return _done(request, given, upload_id, "")


@router.post("/{upload_id}/approve")
def approve_it(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Let everybody see it."""
    _do(given, upload_id, approve)
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/reject")
def reject_it(
    request: Request,
    upload_id: str,
    given: ServicesOf,
    reason: Annotated[str, Form()] = "",
    back: Back = "",
) -> Response:
    """Let nobody see it, and say why."""
    _do(given, upload_id, lambda session, upload, _: reject(session, upload, reason))
    if request.headers.get("HX-Request"):
        return Response(headers={"HX-Refresh": "true"})  # another picture may be in its place again
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/remove")
def remove_it(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Serve it no more; it can be had back."""
    _do(given, upload_id, lambda session, upload, _: remove(session, upload))
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/restore")
def restore_it(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Have it back."""
    _do(given, upload_id, lambda session, upload, _: restore(session, upload))
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/again")
def again(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Make its files again, by the slot as it is now."""
    _do(given, upload_id, treat)
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/replace")
async def replace_it(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """Put another file in its place."""

    def taken() -> SlotSettings:
        with given.store.reading() as session:
            return _view(session, upload_id).settings

    settings = await anyio.to_thread.run_sync(taken)
    (received, *_) = (await receive_form(request, given, SlotIntake(settings))).files
    put = as_sent(received)

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        replace(session, upload, slot, put)

    await anyio.to_thread.run_sync(_do, given, upload_id, do)
    if request.headers.get("HX-Request"):
        return Response(status_code=204, headers={"HX-Redirect": f"/uploads/{upload_id}"})
    return RedirectResponse(f"/uploads/{upload_id}", 303)

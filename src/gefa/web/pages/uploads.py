"""*Uploads*: the feed, and one upload with its focal point, text, files and state."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urlencode

import anyio.to_thread
from fastapi import Form, HTTPException, Query, Request, Response
from fastapi.responses import RedirectResponse
from pydantic import BaseModel
from sqlmodel import Session

from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.errors import GefaError
from gefa.core.geometry import Size
from gefa.core.slots.settings import SlotSettings
from gefa.core.slots.upload import Focus, LeftOut, place_of
from gefa.store.feed import FeedQuery, all_tags, feed
from gefa.store.models import Slot, Upload, UploadState, Variant
from gefa.store.replacement import public_view
from gefa.store.roles import Permission
from gefa.store.slots import all_slots, settings_of, slot_named
from gefa.store.uploads import (
    ChangedMeanwhile,
    Described,
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
from gefa.store.variants import (
    newest_revision,
    newest_variants,
    variants_of_upload,
    variants_of_uploads,
)
from gefa.web.api.access import OpenSlot
from gefa.web.api.markup import Placeholder, markup_of
from gefa.web.api.slot_intake import SlotIntake, as_sent
from gefa.web.api.uploads import described_by, take_in
from gefa.web.fields import FormOf
from gefa.web.file_form import Received, receive_form
from gefa.web.pages.crop_view import Crops
from gefa.web.problems import Problem
from gefa.web.sending import send_blob, send_made
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import Visitor, guarded_router, needs

router = guarded_router(prefix="/uploads")

SHOWN = 50
"""uploads on a page of the feed"""
STATES_FOR_ALL = [("", "any"), ("missing-alt", "no alt text")]
"""for people who see no other states"""
STATES = [
    ("", "any"),
    ("live", "live"),
    ("held", "held for review"),
    ("processing", "processing"),
    ("rejected", "rejected"),
    ("failed", "failed"),
    ("missing-alt", "no alt text"),
    ("removed", "removed"),
]


class AskedMarkup(BaseModel):
    """The options in the form for markup."""

    crop: str = ""
    sizes: str = ""
    loading: Literal["lazy", "eager"] = "lazy"
    placeholder: Placeholder = Placeholder.COLOUR
    art_crop: str = ""
    art_media: str = ""


@dataclass
class UploadRow:
    """An upload in the feed. ``heaviest`` is the lightest file at the largest width, which large
    screens load, in bytes."""

    upload: Upload
    slot: str
    making: bool
    heaviest: int | None
    revision: str = ""

    @property
    def saved(self) -> float | None:
        """The share of the uploaded bytes that such a visitor saves."""
        if self.heaviest is None or not self.upload.bytes:
            return None
        return 1 - self.heaviest / self.upload.bytes


def _rows(
    session: Session, uploads: Sequence[Upload], slots: dict[str, str], busy: set[str], held: bool
) -> list[UploadRow]:
    """Rows with the newest files of uploads, or only with what is served."""
    files = variants_of_uploads(session, [upload.id for upload in uploads], newest=held)
    rows = []
    for upload in uploads:
        sent = sent_to_large_screens(files[upload.id])
        bytes, slot = sent.bytes if sent else None, slots[upload.slot_id]
        if held:
            revision = files[upload.id][0].job_id if files[upload.id] else ""
            rows.append(UploadRow(upload, slot, upload.id in busy, bytes, revision))
        else:
            rows.append(UploadRow(public_view(upload), slot, False, bytes))
    return rows


@router.get("")
@needs(Permission.LOOK)
def index(request: Request, given: ServicesOf, wanted: Annotated[FeedQuery, Query()]) -> Response:
    """Uploads, newest first, searched and filtered; held ones are the review queue."""
    held = _sees_held(request)
    with given.store.reading() as session:
        found = feed(session, wanted, SHOWN, held=held)
        slots = {slot.id: slot.name for slot in all_slots(session)}
        busy = busy_uploads(session) if held else set()
        rows = _rows(session, found.uploads, slots, busy, held)
        tags = all_tags(session, held=held)
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
        states=STATES if held else STATES_FOR_ALL,
        moving=len(busy),
    )


@dataclass
class UploadView:
    """The screen of an upload. ``pending`` says that its newest files are not served yet."""

    upload: Upload
    revision: str
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


def _sees_held(request: Request) -> bool:
    visitor: Visitor = request.state.visitor
    return visitor.sees_held


def _seen(session: Session, upload_id: str, held: bool) -> Upload:
    """The upload as the person may see it: all of it, or what is served."""
    upload = session.get(Upload, upload_id)
    if upload is None:
        raise HTTPException(404, "There is no such upload any more.")
    if held:
        return upload
    seen = public_view(upload)
    if seen.state is not UploadState.LIVE or upload.removed is not None:
        raise HTTPException(404, "There is no such upload, or it is held back.")
    return seen


def _view(session: Session, upload_id: str, held: bool) -> UploadView:
    """An upload with its newest files; for people who may not see ``held`` ones, with the served
    files."""
    upload = _seen(session, upload_id, held)
    slot = session.get_one(Slot, upload.slot_id)
    settings = shown_settings(session, slot)
    newest = newest_variants if held else variants_of_upload
    variants = list(newest(session, upload.id))
    focus = seen_focus(upload)
    size = Size(upload.width or 1, upload.height or 1)
    return UploadView(
        upload,
        (newest_revision(session, upload.id) or "") if held else "",
        slot,
        settings,
        focus,
        focus_of(upload) is not None,
        held and is_busy(session, upload.id),
        Crops.of([(crop, place_of(crop, size, focus)) for crop in settings.crops], variants),
        [LeftOut.model_validate(one) for one in upload.said.get("left_out", [])],
        upload.said.get("warnings", []),
        upload.state is UploadState.HELD or any(variant.waiting for variant in variants),
        bool(variants_of_upload(session, upload.id)) and upload.removed is None,
    )


@router.get("/{upload_id}")
@needs(Permission.LOOK)
def show(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """One upload: the picture with its crops, and its files."""
    with given.store.reading() as session:
        view = _view(session, upload_id, _sees_held(request))
    return page(request, "uploads/index.html", view=view)


@router.get("/{upload_id}/files")
@needs(Permission.LOOK)
def files(request: Request, upload_id: str, given: ServicesOf, seen: str | None = None) -> Response:
    """The current files of an upload. The whole page if the upload is in progress and its picture
    is not the ``seen`` one (the beginning of its preview's digest)."""
    with given.store.reading() as session:
        view = _view(session, upload_id, _sees_held(request))
    if seen is not None and not view.making and not (seen and view.upload.preview.startswith(seen)):
        return Response(headers={"HX-Refresh": "true"})
    answer = page(request, "uploads/_answer.html", view=view)
    if not view.making:
        # The markup asks anew when it hears of it.
        answer.headers["HX-Trigger-After-Swap"] = "remade"
    return answer


@router.get("/{upload_id}/markup")
@needs(Permission.LOOK)
def markup(
    request: Request, upload_id: str, given: ServicesOf, asked: Annotated[AskedMarkup, Query()]
) -> Response:
    """Markup by the form's options, in all forms."""
    with given.store.reading() as session:
        view = _view(session, upload_id, _sees_held(request))
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
@needs(Permission.LOOK)
def preview(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """The preview of the picture, in any state for people who may see it."""
    with given.store.reading() as session:
        upload = _seen(session, upload_id, _sees_held(request))
    if not upload.preview:
        raise HTTPException(404)
    return send_blob(given.store.blobs, upload.preview, "image/webp", "private, no-cache")


@router.get("/{upload_id}/file/{variant_id}")
@needs(Permission.LOOK)
def file(request: Request, upload_id: str, variant_id: str, given: ServicesOf) -> Response:
    """One of its files; held ones only for people who may see them."""
    held = _sees_held(request)
    with given.store.reading() as session:
        _seen(session, upload_id, held)
        variant = session.get(Variant, variant_id)
    if variant is None or variant.upload_id != upload_id or (variant.waiting and not held):
        raise HTTPException(404)
    return send_made(given.store.blobs, variant.sha256, variant.format, "private")


@router.post("/to/{slot}")
@needs(Permission.EDIT)
async def send(request: Request, slot: str, given: ServicesOf) -> Response:
    """Upload pictures to a slot by hand, as a website would with a key. A bad one costs
    no other."""

    def opened() -> OpenSlot:
        with given.store.reading() as session:
            found = slot_named(session, slot)
            if found is None:
                raise HTTPException(404, f"There is no slot {slot!r}.")
            return OpenSlot(found, settings_of(session, found))

    to = await anyio.to_thread.run_sync(opened)
    form = await receive_form(request, given, SlotIntake(to.settings))
    refused = await anyio.to_thread.run_sync(_taken, given, to, form.files)
    given.foreman.wake()
    if refused:
        title = "Some pictures were not accepted" if len(form.files) > 1 else "Not accepted"
        raise Problem(422, title, " ".join(refused))
    target = f"/uploads?slot={slot}"
    if request.headers.get("HX-Request"):
        return Response(status_code=204, headers={"HX-Redirect": target})
    return RedirectResponse(target, 303)


def _taken(given: Services, to: OpenSlot, files: list[Received]) -> list[str]:
    """Accept files; returns the reasons for those that were refused."""
    refused = []
    for file in files:
        try:
            take_in(given, to, as_sent(file), Described())
        except Problem as problem:
            refused.append(problem.detail)
    return refused


# -- changing it ------------------------------------------------------------------------------


def _do(given: Services, upload_id: str, do: Callable[[Session, Upload, Slot], object]) -> None:
    with given.store.changing() as session:
        upload = session.get(Upload, upload_id)
        if upload is None:
            raise HTTPException(404, "There is no such upload any more.")
        try:
            do(session, upload, session.get_one(Slot, upload.slot_id))
        except ChangedMeanwhile as error:
            raise Problem(409, "Changed meanwhile", str(error)) from error
        except GefaError as error:
            raise Problem(422, "Not possible now", str(error)) from error
    given.foreman.wake()


def _done(request: Request, given: Services, upload_id: str, back: str) -> Response:
    """The upload's files, or the page that the form was on."""
    if not request.headers.get("HX-Request"):
        # Only to a page of the feed: never to wherever a form says.
        query = back if back.startswith("?") else ""
        return RedirectResponse(f"/uploads{query}" if query else f"/uploads/{upload_id}", 303)
    return files(request, upload_id, given)


Back = Annotated[str, Form()]
Seen = Annotated[str, Form()]
"""the revision of the files that the page shows"""


@router.post("/{upload_id}/describe")
@needs(Permission.EDIT)
def describe_it(
    request: Request,
    upload_id: str,
    given: ServicesOf,
    form: FormOf,
) -> Response:
    """Change an upload's alt text, tags, focal point and zoom."""
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
@needs(Permission.EDIT)
def suggest(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """Return to the suggested focal point."""
    _do(given, upload_id, forget_focus)
    return _done(request, given, upload_id, "")


@router.post("/{upload_id}/approve")
@needs(Permission.REVIEW)
def approve_it(
    request: Request, upload_id: str, given: ServicesOf, seen: Seen = "", back: Back = ""
) -> Response:
    """Approve the files that the page shows, which makes them live."""
    _do(given, upload_id, lambda session, upload, slot: approve(session, upload, slot, seen))
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/reject")
@needs(Permission.REVIEW)
def reject_it(
    request: Request,
    upload_id: str,
    given: ServicesOf,
    reason: Annotated[str, Form()] = "",
    seen: Seen = "",
    back: Back = "",
) -> Response:
    """Reject the files that the page shows, with a reason."""
    _do(given, upload_id, lambda session, upload, _: reject(session, upload, reason, seen))
    if request.headers.get("HX-Request"):
        return Response(headers={"HX-Refresh": "true"})  # another picture may be in its place again
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/remove")
@needs(Permission.EDIT)
def remove_it(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Stop serving the upload; it can be restored."""
    _do(given, upload_id, lambda session, upload, _: remove(session, upload))
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/restore")
@needs(Permission.EDIT)
def restore_it(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Restore the upload."""
    _do(given, upload_id, lambda session, upload, _: restore(session, upload))
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/again")
@needs(Permission.EDIT)
def again(request: Request, upload_id: str, given: ServicesOf, back: Back = "") -> Response:
    """Make its files again, with the slot's current settings."""
    _do(given, upload_id, treat)
    return _done(request, given, upload_id, back)


@router.post("/{upload_id}/replace")
@needs(Permission.EDIT)
async def replace_it(request: Request, upload_id: str, given: ServicesOf) -> Response:
    """Replace the file."""

    def taken() -> SlotSettings:
        with given.store.reading() as session:
            return _view(session, upload_id, True).settings

    settings = await anyio.to_thread.run_sync(taken)
    (received, *_) = (await receive_form(request, given, SlotIntake(settings))).files
    put = as_sent(received)

    def do(session: Session, upload: Upload, slot: Slot) -> None:
        replace(session, upload, slot, put)

    await anyio.to_thread.run_sync(_do, given, upload_id, do)
    if request.headers.get("HX-Request"):
        return Response(status_code=204, headers={"HX-Redirect": f"/uploads/{upload_id}"})
    return RedirectResponse(f"/uploads/{upload_id}", 303)

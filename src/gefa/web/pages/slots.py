"""Slots: what each takes and makes, tried with a picture before anything is saved; its keys."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import anyio.to_thread
from fastapi import Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse
from sqlmodel import Session

from gefa.core.errors import GefaError
from gefa.core.read.sniff import FLAT_KINDS, LABELS
from gefa.core.slots.settings import SlotSettings, limits_in_words
from gefa.core.treat.recipe_sentence import ratio_words
from gefa.store.contracts import UploadReport
from gefa.store.feed import counts, latest_live, uploads_of
from gefa.store.keys import Right, keys_of, new_key, revoke
from gefa.store.models import Notification, Site, Slot, Task, TaskState, UploadState
from gefa.store.notices import notices_of, tell_again
from gefa.store.recipes import shelf_of_recipes
from gefa.store.roles import Permission
from gefa.store.slots import (
    add_slot,
    all_slots,
    can_undo_settings,
    change_settings,
    defaults_of,
    remove_slot,
    settings_of,
    site_of,
    slot_named,
    undo_settings,
)
from gefa.store.task_kinds import TaskKind
from gefa.store.uploads import count_outdated, make_all_again
from gefa.web.api.slot_intake import SlotIntake
from gefa.web.fields import FormOf
from gefa.web.file_form import receive_form
from gefa.web.pages.slot_form import ROWS, CropLine, changes_from, crop_lines, settings_in
from gefa.web.pages.slot_trial import SlotTrial, TestPicture, test_pictures, tried_with
from gefa.web.problems import Problem
from gefa.web.sending import send_blob, send_from
from gefa.web.services import Services, ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import Visitor, guarded_router, needs

LATEST = 4
"""uploads of a slot shown in its row"""
router = guarded_router(prefix="/slots")

SITE = "-"
"""stands for the shared settings in place of a slot's name; no slot can have this name"""
FORMATS = [(kind.value, LABELS[kind]) for kind in sorted(FLAT_KINDS)]


@dataclass
class SlotView:
    """The screen of a slot, or of the shared settings."""

    name: str
    settings: SlotSettings
    own: set[str]
    undo: str
    recipes: list[str]
    crops: list[CropLine]
    outdated: int = 0
    uploads: int = 0
    gone: int = 0
    """removed uploads that can still be restored"""

    @property
    def site(self) -> bool:
        return self.name == SITE

    def has_own(self, row: str) -> bool:
        """Whether any setting of the row is the slot's own."""
        return not self.own.isdisjoint(ROWS[row])

    @staticmethod
    def ratio(value: float | None) -> str:
        return ratio_words(value) if value else ""


def _found(session: Session, name: str) -> Slot | Site:
    if name == SITE:
        return site_of(session)
    slot = slot_named(session, name)
    if slot is None:
        raise HTTPException(404, f"There is no slot {name!r}.")
    return slot


def _slot(session: Session, name: str) -> Slot:
    found = _found(session, name)
    if isinstance(found, Site):
        raise HTTPException(404, "There is no slot of that name.")
    return found


def _view(session: Session, name: str) -> SlotView:
    of = _found(session, name)
    settings = defaults_of(session) if isinstance(of, Site) else settings_of(session, of)
    return SlotView(
        name,
        settings,
        set(of.defaults if isinstance(of, Site) else of.own),
        can_undo_settings(session, of),
        sorted({*shelf_of_recipes(session), settings.recipe}),
        crop_lines(settings),
        *((0, 0, 0) if isinstance(of, Site) else _counted(session, of)),
    )


def _counted(session: Session, slot: Slot) -> tuple[int, int, int]:
    """Uploads that are outdated, present, and removed."""
    there, gone = uploads_of(session, slot)
    return _count_outdated(session, slot), there, gone


def _count_outdated(session: Session, slot: Slot) -> int:
    try:
        return count_outdated(session, slot)
    except GefaError:  # its recipe is gone, which its row says
        return 0


@router.get("")
@needs(Permission.LOOK)
def index(request: Request, given: ServicesOf) -> Response:
    """All slots: their limits, crops and uploads."""
    visitor: Visitor = request.state.visitor
    with given.store.reading() as session:
        number = counts(session)
        shown = list(UploadState) if visitor.sees_held else [UploadState.LIVE]
        rows = []
        for slot in all_slots(session):
            settings = settings_of(session, slot)
            states = {state: number.get((slot.id, state), 0) for state in shown}
            rows.append(
                {
                    "slot": slot,
                    "settings": settings,
                    "takes": limits_in_words(settings),
                    "states": {state.value: n for state, n in states.items() if n},
                    "held": states.get(UploadState.HELD, 0),
                    "latest": latest_live(session, slot.id, LATEST),
                }
            )
        return page(request, "slots/list.html", rows=rows, ratio_words=ratio_words)


@router.post("")
@needs(Permission.DEVELOP)
def add(
    given: ServicesOf, name: Annotated[str, Form()] = "", like: Annotated[str, Form()] = ""
) -> Any:
    """Add a slot, a copy of another or with the shared settings."""
    with given.store.changing() as session:
        other = slot_named(session, like) if like else None
        try:
            add_slot(session, name.strip(), other.own if other else {})
        except GefaError as error:
            raise Problem(422, "Invalid slot name", str(error)) from error
    return RedirectResponse(f"/slots/{name.strip()}", 303)


@router.get("/{name}")
@needs(Permission.LOOK)
def show(
    request: Request, name: str, given: ServicesOf, trial: str = "", called: str = ""
) -> Response:
    """A slot's settings, and the files it would make of a picture."""
    with given.store.reading() as session:
        view = _view(session, name)
    tried = SlotTrial(name, trial, called)
    tests = [] if view.site else test_pictures(given.store.folder)
    return page(request, "slots/index.html", view=view, tried=tried, tests=tests, formats=FORMATS)


@router.post("/{name}/settings/{row}")
@needs(Permission.DEVELOP)
def change(
    request: Request,
    name: str,
    row: str,
    given: ServicesOf,
    form: FormOf,
    trial: str = "",
    called: str = "",
) -> Response:
    """Store a row as it reads now."""
    with given.store.changing() as session:
        of = _found(session, name)
        try:
            above = SlotSettings() if isinstance(of, Site) else defaults_of(session)
            own = set(of.defaults if isinstance(of, Site) else of.own)
            change_settings(session, of, changes_from(form, row, above, own))
        except GefaError as error:
            raise Problem(422, "Invalid settings", str(error)) from error
    return _changed(request, name, given, SlotTrial(name, trial, called))


@router.post("/{name}/settings/{row}/back")
@needs(Permission.DEVELOP)
def back(
    request: Request, name: str, row: str, given: ServicesOf, trial: str = "", called: str = ""
) -> Response:
    """Return a row to the shared settings."""
    with given.store.changing() as session:
        try:
            change_settings(session, _found(session, name), {}, back=settings_in(row))
        except GefaError as error:
            raise Problem(422, "Invalid settings", str(error)) from error
    return _changed(request, name, given, SlotTrial(name, trial, called))


@router.post("/{name}/remove")
@needs(Permission.DEVELOP)
def remove(name: str, given: ServicesOf) -> Response:
    """Delete a slot without uploads."""
    with given.store.changing() as session:
        try:
            remove_slot(session, _slot(session, name))
        except GefaError as error:
            raise Problem(409, "Slot in use", f"{name} cannot be removed: {error}") from error
    return RedirectResponse("/slots", 303)


@router.post("/{name}/undo")
@needs(Permission.DEVELOP)
def undo(
    request: Request, name: str, given: ServicesOf, trial: str = "", called: str = ""
) -> Response:
    """Undo the last change of settings."""
    with given.store.changing() as session:
        undo_settings(session, _found(session, name))
    return _changed(request, name, given, SlotTrial(name, trial, called))


def _changed(request: Request, name: str, given: Services, tried: SlotTrial) -> Response:
    if not request.headers.get("HX-Request"):
        return RedirectResponse(f"/slots/{name}?{tried.query}", 303)
    with given.store.reading() as session:
        view = _view(session, name)
    return page(request, "slots/_changed.html", view=view, tried=tried, formats=FORMATS)


@router.post("/{name}/effect")
@needs(Permission.DEVELOP)
def effect(
    request: Request, name: str, given: ServicesOf, trial: str = "", called: str = ""
) -> Response:
    """The files that the slot would make of the trial picture, as far as they are made; requests
    the rest."""
    tried = SlotTrial(name, trial, called)
    with given.store.session() as session:
        found = tried_with(session, given, _slot(session, name), tried)
    given.foreman.wake()
    return page(request, "slots/_trial.html", effect=found, tried=tried)


@router.post("/{name}/trial")
@needs(Permission.DEVELOP)
async def begin_trial(
    request: Request, name: str, given: ServicesOf, test: int | None = None
) -> Response:
    """Try the slot on a dropped picture, or on a test picture."""

    def settings() -> SlotSettings:
        with given.store.reading() as session:
            return settings_of(session, _slot(session, name))

    if test is not None:
        picture = _test_picture(given, test)
        blob = await anyio.to_thread.run_sync(given.store.blobs.put_file, picture.file)
        tried = SlotTrial(name, blob.sha256, picture.file.name)
    else:
        taken = await anyio.to_thread.run_sync(settings)
        (received, *_) = (await receive_form(request, given, SlotIntake(taken))).files
        tried = SlotTrial(name, received.stored.sha256, received.name)
    target = f"/slots/{name}?{tried.query}"
    if request.headers.get("HX-Request"):
        return Response(status_code=204, headers={"HX-Redirect": target})
    return RedirectResponse(target, 303)


def _test_picture(given: Services, number: int) -> TestPicture:
    found = [one for one in test_pictures(given.store.folder) if one.number == number]
    if not found:
        raise HTTPException(404, "There is no such test picture.")
    return found[0]


@router.get("/{name}/trial/{job_id}/{path:path}")
@needs(Permission.DEVELOP)
def trial_file(name: str, job_id: str, path: str, given: ServicesOf) -> Response:
    """A file of a trial, or the picture itself as ``preview``."""
    with given.store.reading() as session:
        job = session.get(Task, job_id)
    if job is None or job.kind is not TaskKind.TRIAL or job.state is not TaskState.DONE:
        raise HTTPException(404)
    report = UploadReport.model_validate(job.report)
    if path == "preview":
        return send_blob(given.store.blobs, report.preview, "image/webp")
    files = [file for made in report.made for file in made.files]
    return send_from(given.store.blobs, files, path)


@router.post("/{name}/again")
@needs(Permission.DEVELOP)
def make_again(name: str, given: ServicesOf) -> Response:
    """Make all outdated uploads again."""
    with given.store.changing() as session:
        try:
            make_all_again(session, _slot(session, name))
        except GefaError as error:
            raise Problem(409, "Invalid settings", str(error)) from error
    given.foreman.wake()
    return RedirectResponse(f"/uploads?slot={name}", 303)


# -- keys and notices -------------------------------------------------------------------------


@router.get("/{name}/keys")
@needs(Permission.OWN)
def keys(request: Request, name: str, given: ServicesOf) -> Response:
    """The keys of the slot, and its webhook."""
    return _keys(request, given, name)


def _keys(request: Request, given: Services, name: str, made: str = "") -> Response:
    with given.store.reading() as session:
        slot = _slot(session, name)
        return page(
            request,
            "slots/keys.html",
            slot=slot,
            settings=settings_of(session, slot),
            keys=keys_of(session, slot),
            notices=notices_of(session, slot),
            rights=[right.value for right in Right],
            made=made,
        )


@router.post("/{name}/keys")
@needs(Permission.OWN)
def add_key(
    request: Request,
    name: str,
    given: ServicesOf,
    called: Annotated[str, Form()] = "",
    rights: Annotated[list[Right] | None, Form()] = None,
) -> Response:
    """Create a key. It is shown this once."""
    with given.store.changing() as session:
        try:
            made = new_key(session, _slot(session, name), called, rights or [])
        except GefaError as error:
            raise Problem(422, "Invalid key", str(error)) from error
    return _keys(request, given, name, made)


@router.post("/{name}/keys/{key_id}/revoke")
@needs(Permission.OWN)
def revoke_key(name: str, key_id: str, given: ServicesOf) -> Response:
    """Revoke a key, with immediate effect."""
    with given.store.changing() as session:
        revoke(session, _slot(session, name), key_id)
    return RedirectResponse(f"/slots/{name}/keys", 303)


@router.post("/{name}/notices/{notice_id}")
@needs(Permission.OWN)
def notice_again(name: str, notice_id: str, given: ServicesOf) -> Response:
    """Send a notice again."""
    with given.store.changing() as session:
        notice = session.get(Notification, notice_id)
        if notice is not None and notice.slot_id == _slot(session, name).id:
            tell_again(session, notice)
    return RedirectResponse(f"/slots/{name}/keys", 303)

"""Slots: settings of the whole site, settings of each slot, and their history."""

from __future__ import annotations

import secrets
from base64 import b64encode
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import delete
from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.core.plan.plan import Plan
from gefa.core.slots.settings import SLOT_NAME, SlotSettings, settings_from
from gefa.core.treat.recipe import Recipe
from gefa.store import history
from gefa.store.models import Notification, Resumable, Site, Slot, SlotKey, Upload
from gefa.store.plans import marks_for
from gefa.store.recipes import shelf_of_recipes
from gefa.store.sweep import forget_upload
from gefa.store.trail import Deed, note


def all_slots(session: Session) -> Sequence[Slot]:
    return session.exec(select(Slot).order_by(col(Slot.name))).all()


def slot_named(session: Session, name: str) -> Slot | None:
    return session.exec(select(Slot).where(Slot.name == name)).first()


def add_slot(session: Session, name: str, own: Mapping[str, Any] | None = None) -> Slot:
    """Add a slot; PlanError if the name or its settings are not valid."""
    if not SLOT_NAME.fullmatch(name):
        raise PlanError(
            f"{name!r} is not a name for a slot.",
            advice="Use lower-case letters, digits and -; at most 60.",
        )
    if slot_named(session, name) is not None:
        raise PlanError(f"a slot is already named {name!r}.", advice="Choose another name.")
    slot = Slot(name=name, secret=new_secret())
    session.add(slot)
    session.flush()
    _keep(session, slot, dict(own or {}))
    note(session, Deed.SLOT_ADDED, name)
    history.begin(session, _subject(slot), slot.own)
    return slot


def remove_slot(session: Session, slot: Slot) -> None:
    """Delete a slot with its keys, notices and removed uploads; PlanError while it has uploads."""
    uploads = session.exec(select(Upload).where(Upload.slot_id == slot.id)).all()
    if any(upload.removed is None for upload in uploads):
        raise PlanError("it has uploads.", advice="Remove them first.")
    for upload in uploads:
        forget_upload(session, upload)
    session.flush()
    for table in (SlotKey, Notification, Resumable):
        session.execute(delete(table).where(col(table.slot_id) == slot.id))
    history.forget(session, _subject(slot))
    note(session, Deed.SLOT_REMOVED, slot.name)
    session.delete(slot)
    session.flush()


def new_secret() -> str:
    """The secret that signs notices: 24 random bytes, in the notation of Standard Webhooks."""
    return f"whsec_{b64encode(secrets.token_bytes(24)).decode()}"


def site_of(session: Session) -> Site:
    """The settings shared by all slots."""
    return session.get(Site, "site") or Site()


def defaults_of(session: Session) -> SlotSettings:
    return settings_from(site_of(session).defaults)


def settings_of(session: Session, slot: Slot) -> SlotSettings:
    """The slot's settings: its own over the shared ones."""
    return settings_from(site_of(session).defaults, slot.own)


def recipe_of(session: Session, settings: SlotSettings) -> Recipe:
    """The current recipe that the settings name; PlanError if it does not exist."""
    recipe = shelf_of_recipes(session).get(settings.recipe)
    if recipe is None:
        raise PlanError(
            f"its recipe {settings.recipe!r} is not there any more.",
            advice="Choose another for the slot, or restore it on Recipes.",
        )
    return recipe


def slots_with(session: Session, recipe: str) -> list[str]:
    """Names of the slots that use the recipe."""
    return [s.name for s in all_slots(session) if settings_of(session, s).recipe == recipe]


def marks_of(session: Session, settings: SlotSettings, recipe: Recipe) -> dict[str, str]:
    """The blobs of pictures that the recipe lays over corners, by name."""
    return marks_for(session, Plan(recipes={settings.recipe: recipe}))


def change_settings(
    session: Session, of: Slot | Site, changes: Mapping[str, Any], back: Collection[str] = ()
) -> SlotSettings:
    """Change some settings, and inherit those in ``back`` again. PlanError if the result is not
    valid, also for a slot that inherits it."""
    before = of.defaults if isinstance(of, Site) else of.own
    own = {name: value for name, value in before.items() if name not in back}
    return _keep(session, of, {**own, **changes})


def undo_settings(session: Session, of: Slot | Site) -> str:
    """Undo the last change of settings; returns its description, empty if there was none."""
    undone = history.undo(session, _subject(of))
    if undone:
        step = history.current(session, _subject(of))
        _set(session, of, step.content if step else {})
        note(session, Deed.SETTINGS_CHANGED, _name(of), f"Undone: {undone}")
    return undone


def can_undo_settings(session: Session, of: Slot | Site) -> str:
    return history.ways(session, _subject(of)).undo


def _subject(of: Slot | Site) -> str:
    return "site" if isinstance(of, Site) else f"slot {of.id}"


def _name(of: Slot | Site) -> str:
    return "all slots" if isinstance(of, Site) else of.name


def _keep(session: Session, of: Slot | Site, own: dict[str, Any]) -> SlotSettings:
    site = of.defaults if isinstance(of, Site) else site_of(session).defaults
    checked = settings_from(own) if isinstance(of, Site) else settings_from(site, own)
    recipe_of(session, checked)
    # What is kept are plain values, as the settings themselves write them.
    plain = checked.model_dump(mode="json", include=set(own))
    before = of.defaults if isinstance(of, Site) else of.own
    if plain == before:
        return checked
    if isinstance(of, Site):
        _check_heirs(session, plain)
    said = ", ".join(sorted(name for name in {*plain, *before} if _differs(name, plain, before)))
    history.change(session, _subject(of), plain, said)
    note(session, Deed.SETTINGS_CHANGED, _name(of), said)
    _set(session, of, plain)
    return checked


def _differs(name: str, one: Mapping[str, Any], other: Mapping[str, Any]) -> bool:
    return one.get(name) != other.get(name) or (name in one) != (name in other)


def _check_heirs(session: Session, defaults: dict[str, Any]) -> None:
    for slot in all_slots(session):
        try:
            settings_from(defaults, slot.own)
        except PlanError as error:
            raise PlanError(f"this does not fit the slot {slot.name}: {error.reason}") from error


def _set(session: Session, of: Slot | Site, own: dict[str, Any]) -> None:
    if isinstance(of, Site):
        of.defaults = own
    else:
        of.own = own
    session.add(of)
    session.flush()

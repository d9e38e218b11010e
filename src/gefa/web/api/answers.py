"""Uploads as the API tells of them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from pydantic import BaseModel
from sqlmodel import Session

from gefa.core.deliver.markup import MediaCase, Offer, default_sizes, directed
from gefa.core.geometry import Size
from gefa.core.slots.settings import SlotSettings
from gefa.core.slots.upload import CropPlace, LeftOut
from gefa.core.treat.formats import Format
from gefa.store.models import Slot, Upload, UploadState, Variant, as_utc
from gefa.store.slots import settings_of
from gefa.store.upload_addresses import served_at
from gefa.store.uploads import busy_among, focus_of, seen_focus
from gefa.store.variants import variants_of_uploads


class OriginalAnswer(BaseModel):
    """The picture as it was uploaded; sizes in px, null until it was read. ``kept`` is false once
    the original was deleted."""

    name: str
    format: str
    bytes: int
    width: int | None
    height: int | None
    kept: bool


class ServedVariant(BaseModel):
    """A served variant; sizes in px. ``moves`` is true for animations."""

    url: str
    crop: str
    format: Format
    width: int
    height: int
    bytes: int
    moves: bool


class FocalPoint(BaseModel):
    """The focal point of the crops, 0..1 each way; ``suggested`` if nobody chose it."""

    x: float
    y: float
    zoom: float
    suggested: bool


class UploadAnswer(BaseModel):
    """An upload. ``problem`` says why it was rejected or failed, or what was not made; ``markup``
    is ready to use, ``markups`` has that of each crop. While ``making`` is true, files are being
    made; those in ``variants`` are served meanwhile."""

    id: str
    slot: str
    state: UploadState
    revision: str
    making: bool
    problem: str
    alt: str
    decorative: bool
    tags: list[str]
    focal: FocalPoint | None
    created: datetime
    original: OriginalAnswer
    crops: list[CropPlace]
    variants: list[ServedVariant]
    left_out: list[LeftOut]
    warnings: list[str]
    markup: str
    markups: dict[str, str]
    placeholder: str
    tiny: str


def described(
    session: Session, upload: Upload, slot: Slot, *, sizes: str = "", held: bool = False
) -> UploadAnswer:
    """The answer about an upload, or about a ``public_view`` of one; with ``held``, also files that
    wait for review."""
    return described_all(session, [upload], slot, sizes=sizes, held=held)[0]


def described_all(
    session: Session,
    uploads: Sequence[Upload],
    slot: Slot,
    *,
    sizes: str = "",
    held: bool = False,
) -> list[UploadAnswer]:
    """The same about a page of uploads of a slot, with as few queries as about one."""
    settings, ids = settings_of(session, slot), [upload.id for upload in uploads]
    files = variants_of_uploads(session, ids, newest=held)
    busy = busy_among(session, ids)
    order = [crop.name for crop in settings.crops]

    def place(variant: Variant) -> int:
        return order.index(variant.cut) if variant.cut in order else len(order)

    return [
        _answer(
            upload,
            slot.name,
            settings,
            sorted(files[upload.id], key=place),
            sizes=sizes or settings.sizes,
            making=upload.id in busy,
            held=held,
        )
        for upload in uploads
    ]


def _answer(
    upload: Upload,
    slot: str,
    settings: SlotSettings,
    variants: Sequence[Variant],
    *,
    sizes: str,
    making: bool,
    held: bool,
) -> UploadAnswer:
    crops = [CropPlace.model_validate(crop) for crop in _crops(upload)]
    markups = markups_of(upload, settings, variants, sizes)
    return UploadAnswer(
        id=upload.id,
        slot=slot,
        state=upload.state,
        revision=variants[0].job_id if held and variants else "",
        making=making,
        problem=upload.reason or upload.problem,
        alt=upload.alt,
        decorative=upload.decorative,
        tags=upload.tags,
        focal=_focal(upload),
        created=as_utc(upload.created),
        original=_original(upload),
        crops=crops,
        variants=[_served(variant) for variant in variants],
        left_out=[LeftOut.model_validate(one) for one in upload.said.get("left_out", [])],
        warnings=upload.said.get("warnings", []),
        markup=next(iter(markups.values()), ""),
        markups=markups,
        placeholder=upload.placeholder,
        tiny=upload.tiny,
    )


def _original(upload: Upload) -> OriginalAnswer:
    return OriginalAnswer(
        name=upload.name,
        format=upload.format,
        bytes=upload.bytes,
        width=upload.width,
        height=upload.height,
        kept=not upload.original_gone,
    )


def _focal(upload: Upload) -> FocalPoint | None:
    seen = seen_focus(upload)
    if seen is None:
        return None
    return FocalPoint(x=seen.x, y=seen.y, zoom=seen.zoom, suggested=focus_of(upload) is None)


def _served(variant: Variant) -> ServedVariant:
    return ServedVariant(
        url=served_at(variant),
        crop=variant.cut,
        format=Format(variant.format),
        width=variant.width,
        height=variant.height,
        bytes=variant.bytes,
        moves=variant.moves,
    )


def alt_of(upload: Upload) -> str | None:
    """The alt text; empty for a decorative picture, None where nobody has written one."""
    return "" if upload.decorative else upload.alt or None


def markups_of(
    upload: Upload, settings: SlotSettings, variants: Sequence[Variant], sizes: str
) -> dict[str, str]:
    """The markup of each crop with files, in the slot's order."""
    found = {}
    for crop in settings.crops:
        shown = shown_of(upload, crop.name, variants, sizes)
        if shown is not None:
            found[crop.name] = directed([shown], alt_of(upload))
    return found


def shown_of(
    upload: Upload, crop: str, variants: Sequence[Variant], sizes: str, media: str = ""
) -> MediaCase | None:
    """One crop of an upload for markup; None without files. Its size is that of the widest file, so
    that no browser enlarges it."""
    offers = [
        Offer(served_at(v), Format(v.format), v.width, v.height, v.moves)
        for v in variants
        if v.cut == crop
    ]
    if not offers:
        return None
    widest = max(offers, key=lambda offer: offer.width)
    size = Size(widest.width, widest.height)
    return MediaCase(offers, size, sizes or default_sizes(size), media)


def _crops(upload: Upload) -> list[Any]:
    return list(upload.said.get("crops", []))

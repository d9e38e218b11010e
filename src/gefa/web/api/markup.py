"""``/api/v1``: markup for an upload, in all forms, and what a browser loads of it."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel

from gefa.core.conditions import ConditionError, Viewport, parse_media
from gefa.core.deliver.browser import loaded
from gefa.core.deliver.markup import (
    ImgBehaviour,
    MediaCase,
    as_data,
    directed,
    image_set,
    jinja_macro,
    preload,
)
from gefa.core.deliver.names import safe
from gefa.core.slots.settings import Mask, SlotSettings
from gefa.core.treat.formats import Format
from gefa.store.models import Slot, Upload, Variant
from gefa.store.replacement import public_view
from gefa.store.slots import settings_of
from gefa.store.variants import variants_of_upload
from gefa.web.api.answers import alt_of, shown_of
from gefa.web.api.uploads import check_sizes, problems
from gefa.web.problems import Problem
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, public

router = guarded_router(prefix="/api/v1/uploads/{upload_id}", tags=["markup"])

MAX_ART = 12
"""crops by media condition in one picture: layouts have only a few breakpoints"""
MASKS = {Mask.NONE: "", Mask.ROUNDED: "border-radius: 1rem", Mask.CIRCLE: "border-radius: 50%"}
"""the CSS of each mask; a circle needs a square crop"""


class Placeholder(StrEnum):
    """What shows until the picture has loaded."""

    NONE = "none"
    COLOUR = "colour"
    TINY = "tiny"


class Loaded(BaseModel):
    """The file that a browser loads."""

    url: str
    format: Format
    width: int
    height: int


class MarkupAnswer(BaseModel):
    """The same picture as HTML, as a Jinja macro, as a preload link, as CSS for a background, and
    as data. ``loads`` is the file that a browser loads in the requested viewport."""

    html: str
    jinja: str
    preload: str
    css: str
    data: dict[str, Any]
    loads: Loaded | None


@router.get("/markup", response_model=MarkupAnswer, responses=problems(404, 422))
@public
def markup(
    upload_id: str,
    given: ServicesOf,
    crop: Annotated[str, Query(description="the crop; the slot's first if none is named")] = "",
    sizes: Annotated[str, Query(description="the sizes attribute")] = "",
    art: Annotated[
        list[str] | None,
        Query(
            max_length=MAX_ART,
            description="another crop where a media condition holds: 'crop; media' or"
            " 'crop; media; sizes', the first that holds counts",
        ),
    ] = None,
    lazy: Annotated[bool, Query(description="loaded when it comes near")] = True,
    placeholder: Placeholder = Placeholder.COLOUR,
    width: Annotated[int | None, Query(ge=1, le=10_000, description="CSS px, for css")] = None,
    viewport: Annotated[float | None, Query(gt=0, le=20_000, description="CSS px")] = None,
    density: Annotated[float, Query(gt=0, le=10)] = 1.0,
) -> Any:
    """Markup for a live upload."""
    about = Viewport(viewport, density=density) if viewport else None
    return markup_of(
        upload_id,
        given,
        crop=crop,
        sizes=sizes,
        art=art or [],
        lazy=lazy,
        placeholder=placeholder,
        width=width,
        viewport=about,
    )


def markup_of(
    upload_id: str,
    given: Services,
    *,
    crop: str,
    sizes: str,
    art: Sequence[str],
    lazy: bool,
    placeholder: Placeholder,
    width: int | None = None,
    viewport: Viewport | None = None,
) -> MarkupAnswer:
    """Markup for a live upload; Problem if there is none, or if an option is not possible."""
    with given.store.reading() as session:
        upload = session.get(Upload, upload_id)
        if upload is None or upload.removed is not None:
            raise Problem(404, "No such upload", "It may have been removed.")
        settings = settings_of(session, session.get_one(Slot, upload.slot_id))
        variants = variants_of_upload(session, upload_id)
        upload = public_view(upload)
    check_sizes(sizes)
    shown = [_directed_to(upload, settings, variants, one, sizes) for one in art]
    shown.append(_shown(upload, settings, variants, crop, sizes))
    dress = dress_of(upload, settings, lazy=lazy, placeholder=placeholder)
    alt = alt_of(upload)
    last = shown[-1]
    found = loaded(shown, viewport) if viewport else None
    return MarkupAnswer(
        html=directed(shown, alt, dress),
        jinja=jinja_macro(_identifier(upload.name), shown, alt, dress),
        preload=preload(shown),
        css=image_set(sorted(last.offers, key=lambda o: o.width), width or last.size.width // 2),
        data=as_data(shown, alt, dress),
        loads=Loaded(url=found.url, format=found.format, width=found.width, height=found.height)
        if found
        else None,
    )


def dress_of(
    upload: Upload, settings: SlotSettings, *, lazy: bool, placeholder: Placeholder
) -> ImgBehaviour:
    """The behaviour of the picture, with the upload's placeholders and the slot's mask."""
    return ImgBehaviour(
        lazy=lazy,
        colour="" if placeholder is Placeholder.NONE else upload.placeholder,
        tiny=upload.tiny if placeholder is Placeholder.TINY else "",
        mask=MASKS[settings.mask],
    )


def _directed_to(
    upload: Upload,
    settings: SlotSettings,
    variants: Sequence[Variant],
    asked: str,
    sizes: str,
) -> MediaCase:
    name, _, rest = (part.strip() for part in asked.partition(";"))
    media, _, own = (part.strip() for part in rest.partition(";"))
    try:
        if not media:
            raise ConditionError("it has no media condition: write 'crop; media'.")
        parse_media(media)
    except ConditionError as error:
        raise Problem(422, "Not an art direction", f"art {asked[:80]!r}: {error}") from error
    check_sizes(own)
    return _shown(upload, settings, variants, name, own or sizes, media)


def _shown(
    upload: Upload,
    settings: SlotSettings,
    variants: Sequence[Variant],
    crop: str,
    sizes: str,
    media: str = "",
) -> MediaCase:
    there = [c.name for c in settings.crops if any(v.cut == c.name for v in variants)]
    if not there:
        raise Problem(404, "Not live yet", "The upload is not live. Ask for its state.")
    name = crop or there[0]
    shown = shown_of(upload, name, variants, sizes or settings.sizes, media)
    if shown is None:
        raise Problem(
            404, "No such crop", f"This slot has no crop {name[:60]!r}, but {', '.join(there)}."
        )
    return shown


def _identifier(name: str) -> str:
    """A name that Jinja accepts for a macro."""
    plain = safe(name.rpartition(".")[0] or name).replace("-", "_").lower()
    return plain if not plain[:1].isdigit() else f"picture_{plain}"

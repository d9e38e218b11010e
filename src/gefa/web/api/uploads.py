"""``/api/v1``: pictures uploaded to a slot, and what became of them."""

from __future__ import annotations

from typing import Annotated, Any

import anyio.to_thread
from fastapi import Header, Query, Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, ValidationError
from sqlalchemy.exc import IntegrityError
from sqlmodel import Session

from gefa.core.conditions import ConditionError, parse_sizes
from gefa.core.errors import GefaError
from gefa.core.plan.problems import problems_in_words
from gefa.core.units import weight
from gefa.store.feed import FeedQuery, feed
from gefa.store.keys import Right
from gefa.store.models import Slot, Upload, UploadState
from gefa.store.uploads import Described, Sent, accept, fingerprint, held_by, sent_before
from gefa.web.api.access import Access, OpenSlot, access_if_any, seen_by, slot_opened
from gefa.web.api.answers import UploadAnswer, described, described_all
from gefa.web.api.preferences import until, wait_applied, wait_wanted
from gefa.web.api.slot_intake import SlotIntake, as_sent
from gefa.web.file_form import Form, receive_form
from gefa.web.problems import PROBLEM_JSON, Problem, problem_body
from gefa.web.services import Services, ServicesOf
from gefa.web.visitors import guarded_router, public, with_key

router = guarded_router(prefix="/api/v1", tags=["uploads"])

LISTED = 100
"""uploads on a page of the list"""
MAX_SIZES = 400
"""characters: enough for a dozen conditions"""
_SETTLED = frozenset({UploadState.HELD, UploadState.LIVE, UploadState.REJECTED, UploadState.FAILED})


def problems(*codes: int) -> dict[int | str, dict[str, Any]]:
    """The problem answers of a route, for the API's description."""
    return {code: {"description": _MEANING[code], "content": {PROBLEM_JSON: {}}} for code in codes}


_MEANING = {
    400: "The form cannot be read.",
    401: "No key, or a wrong one.",
    403: "The key is for another slot, or has not that right.",
    404: "No such slot or upload.",
    409: "It is not in a state for that.",
    413: "Larger than the slot takes.",
    415: "Not a picture that the slot takes, or not a form.",
    422: "Not readable, or a field is wrong.",
}

FORM_FIELDS = {
    "alt": {"type": "string"},
    "decorative": {"type": "boolean"},
    "tags": {"type": "string", "description": "separated by commas"},
    "focal_x": {"type": "number", "minimum": 0, "maximum": 1},
    "focal_y": {"type": "number", "minimum": 0, "maximum": 1},
    "zoom": {"type": "number", "minimum": 1},
}


class Result(BaseModel):
    """The result of one of several files: the upload, or the problem (RFC 9457)."""

    name: str
    status: int
    upload: UploadAnswer | None = None
    problem: dict[str, Any] | None = None


class Results(BaseModel):
    """A result for each file, in the order they were sent."""

    results: list[Result]


class UploadList(BaseModel):
    """Uploads, newest first; ``next`` is where the next page starts, null at the end."""

    uploads: list[UploadAnswer]
    next: str | None


@router.post(
    "/slots/{slot}/uploads",
    status_code=202,
    response_model=UploadAnswer,
    responses={
        201: {"model": UploadAnswer, "description": "Live, or held for review."},
        202: {"description": "Accepted: ask at Location how it goes."},
        207: {"model": Results, "description": "Several files, each with its own result."},
        **problems(400, 401, 403, 404, 413, 415, 422),
    },
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                "multipart/form-data": {
                    "schema": {
                        "type": "object",
                        "required": ["file"],
                        "properties": {"file": {"type": "string", "format": "binary"}}
                        | FORM_FIELDS,
                    }
                }
            },
        }
    },
)
@with_key
async def upload(
    request: Request,
    slot: str,
    given: ServicesOf,
    authorization: Annotated[str, Header()] = "",
    prefer: Annotated[str, Header()] = "",
    idempotency_key: Annotated[str, Header(max_length=255)] = "",
) -> JSONResponse:
    """Upload a picture, or several. With ``Prefer: wait=N`` (RFC 7240) the answer waits up to N
    seconds. Sent again with the same ``Idempotency-Key`` it is the same upload."""
    access = await anyio.to_thread.run_sync(slot_opened, given, slot, authorization, Right.UPLOAD)
    form = await receive_form(request, given, SlotIntake(access.settings))
    outcomes = await anyio.to_thread.run_sync(_accepted, given, access, form, idempotency_key)
    given.foreman.wake()
    seconds = wait_wanted(prefer)
    if seconds:
        outcomes = await _settled(given, outcomes, seconds)
    return await anyio.to_thread.run_sync(_answer, given, access, form, outcomes, seconds)


Outcome = Upload | Problem


def _accepted(given: Services, access: Access, form: Form, idempotency_key: str) -> list[Outcome]:
    """The upload of each file, or the reason why there is none."""
    found: list[Outcome] = []
    for index, received in enumerate(form.files):
        try:
            said = described_by(form.values_for(index))
            request = f"{access.key.id} {idempotency_key} {index}" if idempotency_key else None
            found.append(take_in(given, access, as_sent(received), said, request))
        except Problem as problem:
            found.append(problem)
    return found


def take_in(
    given: Services, to: OpenSlot, sent: Sent, said: Described, request: str | None = None
) -> Upload:
    """Accept a file once: a ``request`` that was sent before finds its upload."""
    try:
        with given.store.changing() as session:
            return _once(session, to, sent, said, request)
    except IntegrityError:  # the same request came twice at once, and the other was first
        with given.store.changing() as session:
            return _once(session, to, sent, said, request)
    except GefaError as error:
        raise Problem(409, "The slot is not ready", str(error)) from error


def _once(
    session: Session, to: OpenSlot, sent: Sent, said: Described, request: str | None
) -> Upload:
    before = sent_before(session, request) if request else None
    if session.get(Slot, to.slot.id) is None:
        raise Problem(404, "No such slot any more", "It was removed while the file was sent.")
    if before is None:
        _check_quota(session, to, sent)
        return accept(session, to.slot, sent, said, request=request)
    if before.removed is not None:
        raise Problem(
            409,
            "Removed since",
            "This request made an upload that was removed. Restore that, or send a new key.",
        )
    if before.fingerprint != fingerprint(sent):
        raise Problem(
            422,
            "Another file under the same key",
            "This Idempotency-Key was sent with another file before. Take a new one for each file.",
        )
    return before


def _check_quota(session: Session, to: OpenSlot, sent: Sent) -> None:
    """Problem (507) if the slot is full."""
    settings = to.settings
    if settings.max_uploads is None and settings.max_total_bytes is None:
        return
    count, held = held_by(session, to.slot)
    if settings.max_uploads is not None and count >= settings.max_uploads:
        reason = f"it holds {count:,} uploads, as many as it may"
    elif settings.max_total_bytes is not None and held + sent.blob.bytes > settings.max_total_bytes:
        reason = f"its uploads may weigh {weight(settings.max_total_bytes)} together"
    else:
        return
    detail = f"Slot {to.slot.name!r}: {reason}. Remove some, or raise its quota."
    raise Problem(507, "The slot is full", detail)


def described_by(fields: dict[str, str]) -> Described:
    """The description in a form's fields; Problem with what is wrong."""
    known = {name: value for name, value in fields.items() if name in FORM_FIELDS and value != ""}
    said: dict[str, Any] = dict(known)
    if "zoom" in known and "focal_x" not in known:
        raise Problem(
            422, "A zoom round what?", "Give focal_x and focal_y with it, each from 0 to 1."
        )
    if "tags" in known:
        said["tags"] = known["tags"].split(",")
    return checked_description(said)


def checked_description(said: dict[str, Any]) -> Described:
    """The description, validated; Problem with the field that is wrong."""
    no_point = Problem(
        422, "No such focal point", "Give both focal_x and focal_y, each from 0 to 1."
    )
    if ("focal_x" in said) != ("focal_y" in said):
        raise no_point
    try:
        return Described.model_validate(said)
    except ValidationError as error:
        if any(str(step).startswith("focal_") for e in error.errors() for step in e["loc"]):
            raise no_point from error
        wrong = "; ".join(problems_in_words(error))
        raise Problem(422, "A field is wrong", f"{wrong}.") from error


async def _settled(given: Services, outcomes: list[Outcome], seconds: float) -> list[Outcome]:
    """The uploads once they are finished, or when the time is up."""
    return await until(
        lambda found: not any(isinstance(o, Upload) and o.state not in _SETTLED for o in found),
        lambda: anyio.to_thread.run_sync(_again, given, outcomes),
        seconds,
    )


def _again(given: Services, outcomes: list[Outcome]) -> list[Outcome]:
    with given.store.reading() as session:
        return [
            session.get_one(Upload, one.id) if isinstance(one, Upload) else one for one in outcomes
        ]


def _answer(
    given: Services, access: Access, form: Form, outcomes: list[Outcome], seconds: float
) -> JSONResponse:
    headers = wait_applied(seconds)
    results = [
        _result(given, access, received.name, outcome)
        for received, outcome in zip(form.files, outcomes, strict=True)
    ]
    if len(results) > 1:
        body = Results(results=results).model_dump(mode="json", exclude_none=True)
        return JSONResponse(body, 207, headers=headers)
    result, outcome = results[0], outcomes[0]
    if isinstance(outcome, Upload):
        headers["Location"] = f"/api/v1/uploads/{outcome.id}"
    if result.upload is None:
        return JSONResponse(result.problem, result.status, headers=headers, media_type=PROBLEM_JSON)
    return JSONResponse(result.upload.model_dump(mode="json"), result.status, headers=headers)


def _result(given: Services, access: Access, name: str, outcome: Outcome) -> Result:
    if isinstance(outcome, Problem):
        body = problem_body(outcome.status_code, outcome.title, outcome.detail)
        return Result(name=name, status=outcome.status_code, problem=body)
    if outcome.state in (UploadState.REJECTED, UploadState.FAILED):
        why = outcome.reason or outcome.problem
        location = f"/api/v1/uploads/{outcome.id}"
        body = problem_body(422, "Not usable", why, upload=location)
        return Result(name=name, status=422, problem=body)
    status = 201 if outcome.state in _SETTLED else 202
    held = access.may(Right.REVIEW)
    with given.store.reading() as session:
        now = session.get_one(Upload, outcome.id)
        answer = described(session, seen_by(access, now), access.slot, held=held)
    return Result(name=name, status=status, upload=answer)


def check_sizes(sizes: str) -> None:
    """Problem for a ``sizes`` attribute that a browser would not understand."""
    try:
        if len(sizes) > MAX_SIZES:
            raise ConditionError(f"it has more than {MAX_SIZES} characters.")
        if sizes:
            parse_sizes(sizes)
    except ConditionError as error:
        raise Problem(422, "Not a sizes attribute", f"sizes: {error}") from error


@router.get("/uploads/{upload_id}", response_model=UploadAnswer, responses=problems(404))
@public
def show(
    upload_id: str,
    given: ServicesOf,
    sizes: Annotated[str, Query(description="The sizes attribute for the markup.")] = "",
    authorization: Annotated[str, Header()] = "",
) -> Any:
    """The state of an upload. Without a key, only the public view: nothing while it waits for
    review."""
    with given.store.reading() as session:
        upload = session.get(Upload, upload_id)
        if upload is None or upload.removed is not None:
            raise Problem(404, "No such upload", "It may have been removed.")
        check_sizes(sizes)
        slot = session.get_one(Slot, upload.slot_id)
        access = access_if_any(session, slot, authorization)
        held = access is not None and access.may(Right.REVIEW)
        return described(session, seen_by(access, upload), slot, sizes=sizes, held=held)


@router.get(
    "/slots/{slot}/uploads",
    response_model=UploadList,
    responses=problems(401, 403, 404),
)
@with_key
def listing(
    slot: str,
    given: ServicesOf,
    wanted: Annotated[FeedQuery, Query()],
    authorization: Annotated[str, Header()] = "",
) -> Any:
    """The slot's uploads, newest first. The key needs the right to read."""
    access = slot_opened(given, slot, authorization, Right.READ)
    own = wanted.model_copy(update={"slot": slot})
    with given.store.reading() as session:
        page = feed(session, own, LISTED)
        held = access.may(Right.REVIEW)
        seen = [seen_by(access, one) for one in page.uploads]
        answers = described_all(session, seen, access.slot, held=held)
    return UploadList(uploads=answers, next=page.next)

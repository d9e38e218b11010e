"""From addresses below ``/m/`` to the files of uploads, as visitors get them."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import SplitResult, parse_qs, quote, unquote

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, col, create_engine, select

from gefa.core.deliver.negotiate import pick
from gefa.core.errors import SourceError
from gefa.core.treat.formats import FORMATS, Format
from gefa.core.weigh.addresses import FindUpload, FoundFile
from gefa.store.database import DATABASE
from gefa.store.models import Slot, Upload, Variant
from gefa.store.slots import settings_of
from gefa.store.variants import variants_of_upload

PREFIX = "/m/"
MIN_DIGEST = 8
"""hex digits of an address to compare: 32 bits, among the few files of one path"""
EVERY_FORMAT = ", ".join(row.media_type for row in FORMATS.values())
"""the ``Accept`` of a browser that supports all formats"""


@contextmanager
def uploads_in(folder: Path | None) -> Iterator[FindUpload]:
    """Finds uploads in a data folder, read-only; nothing if there is no folder.

    SourceError if the folder has no readable database.
    """
    if folder is None:
        yield lambda address: None
        return
    database = folder / DATABASE
    if not database.is_file():
        raise SourceError("has no Gefa data.", file=str(folder), advice="Give a server's --data.")
    readable = f"{database.resolve().as_uri()}?mode=ro"
    engine = create_engine("sqlite://", creator=lambda: sqlite3.connect(readable, uri=True))
    try:
        with Session(engine) as session:
            yield lambda address: find_upload(session, address)
    except (SQLAlchemyError, sqlite3.Error) as error:
        raise SourceError(
            "cannot be read.", file=str(database), advice="Start its server once with this Gefa."
        ) from error
    finally:
        engine.dispose()


def find_upload(session: Session, address: SplitResult) -> FoundFile | str | None:
    """The public file at an address below ``/m/``, or why there is none.

    None for other addresses. An address without a file name gives what a browser with all formats
    gets.
    """
    _, prefix, rest = unquote(address.path).partition(PREFIX)
    upload_id, _, rest = rest.partition("/")
    if not prefix or not upload_id:
        return None
    upload = session.get(Upload, upload_id)
    if upload is None:
        return None
    if upload.removed is not None:
        return f"{PREFIX}{upload_id} was removed"
    digest, _, path = rest.partition("/")
    if digest or path:
        found = named_file(session, upload_id, digest, path)
    else:
        found = _negotiated(session, upload, parse_qs(address.query))
    if found is None:
        return f"{PREFIX}{upload_id} has no live file at this address"
    return FoundFile(served_at(found), Format(found.format), found.width, found.height, found.bytes)


def served_at(variant: Variant) -> str:
    """The permanent path of its address."""
    return f"{PREFIX}{variant.upload_id}/{variant.sha256[:12]}/{quote(variant.path)}"


def named_file(session: Session, upload_id: str, digest: str, path: str) -> Variant | None:
    """The public file at ``/m/{upload_id}/{digest}/{path}``."""
    return matching(
        session.exec(
            select(Variant).where(
                Variant.upload_id == upload_id,
                Variant.path == path,
                col(Variant.waiting).is_(False),
            )
        ),
        digest,
    )


def matching(variants: Iterable[Variant], digest: str) -> Variant | None:
    """The variant whose SHA-256 starts with ``digest``, if that is long enough."""
    if len(digest) < MIN_DIGEST:
        return None
    return next((v for v in variants if v.sha256.startswith(digest)), None)


def first_crop(session: Session, upload: Upload, crops: Collection[str]) -> str:
    """The first of the slot's crops among ``crops``, those the upload has."""
    slot = session.get_one(Slot, upload.slot_id)
    names = [crop.name for crop in settings_of(session, slot).crops if crop.name in crops]
    return names[0] if names else min(crops, default="")


def _negotiated(session: Session, upload: Upload, query: dict[str, list[str]]) -> Variant | None:
    files = variants_of_upload(session, upload.id)
    crop = (
        query["crop"][-1]
        if "crop" in query
        else first_crop(session, upload, {f.cut for f in files})
    )
    wish = query.get("w", [""])[-1]
    width = float(wish) if wish.isdecimal() and len(wish) <= 6 else None
    return pick([file for file in files if file.cut == crop], EVERY_FORMAT, width)

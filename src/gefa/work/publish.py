"""Writes a site's live variants as plain files, for a host that only serves files."""

from __future__ import annotations

import json
import os
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import Protocol

from pydantic import BaseModel, ValidationError
from sqlmodel import Session, col, select

from gefa.core.errors import PlanError
from gefa.core.files import write_whole
from gefa.core.treat.formats import FORMATS, Format
from gefa.store.blobs import BlobStore
from gefa.store.bucket import Bucket, BucketBlobs, blob_key
from gefa.store.models import Slot, Upload, Variant
from gefa.store.variants import variants_of_upload

MANIFEST = "manifest.json"
FOREVER = "public, max-age=31536000, immutable"
A_WHILE = "public, max-age=60"


class PublishedFile(BaseModel):
    """A published file: ``path`` is its place, and its address in the site's markup after the first
    slash. Sizes in px."""

    path: str
    crop: str
    format: Format
    width: int
    height: int
    bytes: int
    sha256: str


class PublishedUpload(BaseModel):
    """An upload with all its files."""

    id: str
    slot: str
    name: str
    alt: str | None
    width: int
    height: int
    placeholder: str
    tiny: str
    files: list[PublishedFile]


class SiteManifest(BaseModel):
    """Everything published; ``earlier`` are paths of earlier files that are still there."""

    gefa_site: int = 1
    uploads: list[PublishedUpload] = []
    earlier: list[str] = []

    @property
    def files(self) -> list[PublishedFile]:
        return [file for upload in self.uploads for file in upload.files]

    def without(self, paths: Collection[str]) -> SiteManifest:
        """The same, without the files of those paths."""
        kept = [
            upload.model_copy(
                update={"files": [file for file in upload.files if file.path not in paths]}
            )
            for upload in self.uploads
        ]
        return self.model_copy(update={"uploads": [upload for upload in kept if upload.files]})

    @property
    def paths(self) -> set[str]:
        return {file.path for file in self.files} | set(self.earlier)


class Published(BaseModel):
    """The result of publishing. ``left`` are earlier files that are still there, ``lost`` paths of
    files that cannot be read here, ``taken`` paths at which somebody else's files lie."""

    written: int
    there: int
    bytes: int
    cleared: int
    left: int
    lost: list[str] = []
    taken: list[str] = []


class Place(Protocol):
    """A place to publish to."""

    def has(self, file: PublishedFile) -> bool: ...
    def is_taken(self, path: str) -> bool: ...
    def put(self, file: PublishedFile) -> None: ...
    def clear(self, path: str) -> None: ...
    def before(self) -> bytes: ...
    def finish(self, manifest: bytes) -> None: ...


def _readable(blobs: BlobStore, file: PublishedFile) -> Path:
    """The path of a file's bytes; FileNotFoundError if they are lost or damaged."""
    path = blobs.checked(file.sha256)
    if path is None:
        raise FileNotFoundError(file.path)
    return path


class FolderPlace:
    """A folder on this machine."""

    def __init__(self, folder: Path, blobs: BlobStore) -> None:
        self._folder, self._blobs = folder, blobs

    def has(self, file: PublishedFile) -> bool:
        try:
            return (self._folder / file.path).stat().st_size == file.bytes
        except FileNotFoundError:
            return False

    def is_taken(self, path: str) -> bool:
        return os.path.lexists(self._folder / path)

    def put(self, file: PublishedFile) -> None:
        write_whole(self._folder / file.path, _readable(self._blobs, file).read_bytes())

    def clear(self, path: str) -> None:
        target = (self._folder / path).resolve()
        if not target.is_relative_to(self._folder.resolve()):
            return  # a manifest that somebody wrote by hand
        if not target.is_file():
            return
        target.unlink()
        for folder in target.parents:
            if folder == self._folder.resolve() or any(folder.iterdir()):
                break
            folder.rmdir()

    def before(self) -> bytes:
        try:
            return (self._folder / MANIFEST).read_bytes()
        except FileNotFoundError:
            return b""

    def finish(self, manifest: bytes) -> None:
        write_whole(self._folder / MANIFEST, manifest)


class BucketPlace:
    """A bucket. If the blobs are in the same one, files are copied within it."""

    def __init__(self, bucket: Bucket, blobs: BlobStore) -> None:
        self._bucket, self._blobs = bucket, blobs
        self._inside = isinstance(blobs, BucketBlobs) and blobs.bucket.url == bucket.url

    def has(self, file: PublishedFile) -> bool:
        return self._bucket.age(file.path) is not None

    def is_taken(self, path: str) -> bool:
        return False  # ``has`` has looked: a bucket's files have no other size than their names say

    def put(self, file: PublishedFile) -> None:
        media_type = FORMATS[file.format].media_type
        if self._inside:
            self._bucket.copy(blob_key(file.sha256), file.path, media_type, FOREVER)
        else:
            self._bucket.put(file.path, _readable(self._blobs, file), media_type, FOREVER)

    def clear(self, path: str) -> None:
        self._bucket.delete(path)

    def before(self) -> bytes:
        try:
            return self._bucket.get(MANIFEST)
        except FileNotFoundError:
            return b""

    def finish(self, manifest: bytes) -> None:
        self._bucket.put(MANIFEST, manifest, "application/json", A_WHILE)


def site_manifest(session: Session, slots: Iterable[str] = ()) -> SiteManifest:
    """What is live now, of all slots or the named ones."""
    wanted = set(slots)
    found = session.exec(
        select(Upload, Slot)
        .join(Slot, col(Slot.id) == col(Upload.slot_id))
        .where(col(Upload.removed).is_(None))
        .order_by(col(Upload.id))
    ).all()
    uploads = []
    for upload, slot in found:
        variants = variants_of_upload(session, upload.id)
        if variants and (not wanted or slot.name in wanted):
            uploads.append(_published(upload, slot, variants))
    return SiteManifest(uploads=uploads)


def _published(upload: Upload, slot: Slot, variants: Iterable[Variant]) -> PublishedUpload:
    return PublishedUpload(
        id=upload.id,
        slot=slot.name,
        name=upload.name,
        alt="" if upload.decorative else upload.alt or None,
        width=upload.width or 0,
        height=upload.height or 0,
        placeholder=upload.placeholder,
        tiny=upload.tiny,
        files=[
            PublishedFile(
                path=f"m/{upload.id}/{variant.sha256[:12]}/{variant.path}",
                crop=variant.cut,
                format=Format(variant.format),
                width=variant.width,
                height=variant.height,
                bytes=variant.bytes,
                sha256=variant.sha256,
            )
            for variant in variants
        ],
    )


def publish(
    manifest: SiteManifest, place: Place, *, clear: bool = False, slots: Iterable[str] = ()
) -> Published:
    """Write missing files, then the manifest; ``clear`` deletes files of earlier manifests that
    this one lacks. If only some ``slots`` are published, files of the others stay, in the manifest
    too."""
    before = _manifest_of(place.before())
    only = set(slots)
    if only:
        others = [upload for upload in before.uploads if upload.slot not in only]
        manifest = SiteManifest(uploads=[*others, *manifest.uploads])
    written = there = 0
    lost, taken = [], []
    for file in manifest.files:
        if place.has(file):
            there += 1
            continue
        if file.path not in before.paths and place.is_taken(file.path):
            taken.append(file.path)
            continue
        try:
            place.put(file)
            written += 1
        except FileNotFoundError:
            lost.append(file.path)
    manifest = manifest.without({*lost, *taken})
    # Whatever a manifest names: nothing but uploads is ever cleared.
    published = {path for path in before.paths if path.startswith("m/")}
    gone = published - {file.path for file in manifest.files}
    if not clear:
        # Named on, so that they can be cleared another time.
        manifest = manifest.model_copy(update={"earlier": sorted(gone)})
    told = manifest.model_dump(mode="json", exclude=None if manifest.earlier else {"earlier"})
    place.finish((json.dumps(told, indent=1) + "\n").encode())
    if clear:
        for path in gone:
            place.clear(path)
    return Published(
        written=written,
        there=there,
        bytes=sum(file.bytes for file in manifest.files),
        cleared=len(gone) if clear else 0,
        left=0 if clear else len(gone),
        lost=lost,
        taken=taken,
    )


def _manifest_of(before: bytes) -> SiteManifest:
    """The manifest of the last publishing; an empty one for the first. PlanError if somebody else
    keeps a manifest there."""
    if not before:
        return SiteManifest()
    try:
        if b'"gefa_site"' in before:
            return SiteManifest.model_validate_json(before)
    except ValidationError:
        pass
    raise PlanError(
        f"there is a {MANIFEST} that `gefa publish` did not write.",
        advice="Move it, or publish to another folder.",
    )

"""An S3-compatible bucket: as the blob store of several machines, and to publish to."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import boto3
from botocore.config import Config
from botocore.exceptions import BotoCoreError, ClientError

from gefa.core.errors import GefaError
from gefa.store.blobs import Blob, BlobStore

NOT_THERE = frozenset({"404", "NoSuchKey", "NotFound"})
LOCAL_BYTES = 20_000_000_000
"""of copies on a machine, by default: enough for a batch of 100-megapixel sources"""
RENEWED_AFTER = 3600.0
"""seconds; far less than unreferenced blobs are kept, and long enough that a blob in use is not
rewritten each time"""
IN_USE_SECONDS = 3600.0
"""a copy used this recently may be open: no task takes longer"""


class BucketError(GefaError):
    """A bucket that cannot be used: which one, and its answer."""


class Bucket:
    """``s3://bucket/prefix``; ``endpoint`` is empty for AWS. BucketError if it cannot be used."""

    def __init__(self, url: str, endpoint: str = "") -> None:
        parts = urlsplit(url)
        if parts.scheme != "s3" or not parts.netloc:
            raise BucketError(f"{url!r} is no bucket.", advice="Give it as s3://bucket/prefix.")
        self.url = url
        self._bucket, self._prefix = parts.netloc, parts.path.strip("/")
        config = Config(
            # Other makers' servers do not know the newer checksums.
            request_checksum_calculation="when_required",
            response_checksum_validation="when_required",
            retries={"max_attempts": 5, "mode": "standard"},
            connect_timeout=10,
            read_timeout=60,
            s3={"addressing_style": "path" if endpoint else "auto"},
        )
        self._client = boto3.Session().client("s3", endpoint_url=endpoint or None, config=config)

    def _key(self, path: str) -> str:
        return f"{self._prefix}/{path}" if self._prefix else path

    def _call(self, name: str, path: str, **more: Any) -> Any:
        try:
            where = {"Prefix" if name == "list_objects_v2" else "Key": self._key(path)}
            return getattr(self._client, name)(Bucket=self._bucket, **where, **more)
        except ClientError as error:
            if error.response["Error"]["Code"] in NOT_THERE:
                raise FileNotFoundError(path) from error
            raise self._trouble(error) from error
        except BotoCoreError as error:
            raise self._trouble(error) from error

    def _trouble(self, error: Exception) -> BucketError:
        return BucketError(
            f"the bucket {self.url} cannot be used: {error}.",
            advice="Check GEFA_S3_ENDPOINT and the keys in AWS_ACCESS_KEY_ID and"
            " AWS_SECRET_ACCESS_KEY.",
        )

    def put(self, path: str, data: bytes | Path, media_type: str = "", cached: str = "") -> None:
        more = {"ContentType": media_type, "CacheControl": cached}
        given = {name: value for name, value in more.items() if value}
        if isinstance(data, bytes):
            self._call("put_object", path, Body=data, **given)
            return
        with data.open("rb") as file:
            self._call("put_object", path, Body=file, **given)

    def get(self, path: str) -> bytes:
        """FileNotFoundError if there is no such object."""
        return bytes(self._call("get_object", path)["Body"].read())

    def fetch(self, path: str, target: Path) -> None:
        """Download to a file in pieces; FileNotFoundError if there is no such object."""
        body = self._call("get_object", path)["Body"]
        with target.open("wb") as file:
            for piece in body.iter_chunks(1 << 20):
                file.write(piece)

    def age(self, path: str) -> float | None:
        """Seconds since it was put; None if there is no such object."""
        try:
            put = self._call("head_object", path)["LastModified"]
        except FileNotFoundError:
            return None
        return float(time.time() - put.timestamp())

    def delete(self, path: str) -> None:
        self._call("delete_object", path)

    def copy(self, source: str, target: str, media_type: str, cached: str) -> None:
        """Copy within the bucket, without a download."""
        self._call(
            "copy_object",
            target,
            CopySource={"Bucket": self._bucket, "Key": self._key(source)},
            ContentType=media_type,
            CacheControl=cached,
            MetadataDirective="REPLACE",
        )

    def renew(self, path: str) -> None:
        """Reset an object's age; FileNotFoundError if there is no such object."""
        found = self._call("head_object", path)
        self.copy(path, path, found.get("ContentType", ""), found.get("CacheControl", ""))

    def list(self, prefix: str) -> Iterator[tuple[str, float]]:
        """Paths that begin with ``prefix``, each with the seconds since it was put."""
        more: dict[str, str] = {}
        while True:
            page = self._call("list_objects_v2", prefix, **more)
            for found in page.get("Contents", ()):
                path = found["Key"].removeprefix(self._key(""))
                yield path, float(time.time() - found["LastModified"].timestamp())
            if not page.get("IsTruncated"):
                return
            more = {"ContinuationToken": page["NextContinuationToken"]}


def blob_key(sha256: str) -> str:
    """The key of a blob in a bucket."""
    return f"blobs/{sha256[:2]}/{sha256}"


class BucketBlobs(BlobStore):
    """Blobs in a bucket, which is authoritative. Each machine caches those it used last in its own
    folder, about ``local_bytes`` in all."""

    def __init__(self, root: Path, bucket: Bucket, local_bytes: int = LOCAL_BYTES) -> None:
        super().__init__(root)
        self.bucket = bucket
        self._local_bytes = local_bytes
        self._grown = 0

    def path(self, sha256: str) -> Path:
        """The local path of the blob, downloaded if needed."""
        local = super().path(sha256)
        try:
            # Not each time: what was checked to be whole is known by when it was written.
            if time.time() - local.stat().st_mtime > IN_USE_SECONDS / 4:
                self._touched(local)
            return local
        except FileNotFoundError:
            pass
        draft = self.draft()
        try:
            blob = draft.fill(lambda target: self.bucket.fetch(blob_key(sha256), target))
        except FileNotFoundError:
            return local
        finally:
            draft.drop()
        self._make_room(blob.bytes)
        return local

    def put(self, data: bytes) -> Blob:
        blob = super().put(data)
        self._send(blob)
        return blob

    def _place(self, draft: Path, sha256: str, size: int) -> Blob:
        blob = super()._place(draft, sha256, size)
        self._send(blob)
        return blob

    def _send(self, blob: Blob) -> None:
        if not self._renewed(blob.sha256):
            self.bucket.put(blob_key(blob.sha256), self.local(blob.sha256))
            self._make_room(blob.bytes)

    def _renewed(self, sha256: str) -> bool:
        """Whether the bucket has the blob. Resets the age of an old one, as in ``touch``."""
        age = self.bucket.age(blob_key(sha256))
        if age is not None and age > RENEWED_AFTER:
            try:
                self.bucket.renew(blob_key(sha256))
            except FileNotFoundError:
                return False
        return age is not None

    def touch(self, sha256: str) -> bool:
        if self._renewed(sha256):
            return True
        if not super().touch(sha256):
            return False
        self.bucket.put(
            blob_key(sha256), self.local(sha256)
        )  # the bucket lost it, this machine not
        return True

    def age(self, sha256: str) -> float | None:
        return self.bucket.age(blob_key(sha256))

    def discard(self, sha256: str) -> None:
        self.path(sha256)  # its trash is on this machine
        super().discard(sha256)
        self.bucket.delete(blob_key(sha256))

    def set_aside(self, sha256: str) -> None:
        """Here, and in the bucket if its copy is the same."""
        super().set_aside(sha256)
        if not self.is_whole(sha256):
            super().set_aside(sha256)
            self.bucket.delete(blob_key(sha256))

    def put_aside(self, name: str) -> None:
        """Move all blobs to another prefix, one after another, without downloads."""
        for sha256 in list(self.all()):
            self.bucket.copy(blob_key(sha256), f"{name}/{sha256}", "", "")
            self.bucket.delete(blob_key(sha256))

    def delete(self, sha256: str, older_than: float) -> bool:
        age = self.bucket.age(blob_key(sha256))
        if age is not None and age < older_than:
            return False
        if not super().delete(sha256, older_than):
            return False
        if age is not None:
            self.bucket.delete(blob_key(sha256))
        return True

    def all(self) -> Iterator[str]:
        for path, _ in self.bucket.list("blobs/"):
            yield path.rpartition("/")[2]

    def _make_room(self, more: int) -> None:
        """Delete the copies unused for longest, whenever a tenth of the limit has been
        downloaded."""
        self._grown += more
        if self._grown < self._local_bytes / 10:
            return
        self._grown = 0
        copies = sorted(_copies(self.root / "blobs"), key=lambda copy: copy[1].st_mtime)
        held = sum(found.st_size for _, found in copies)
        in_use = time.time() - IN_USE_SECONDS
        for path, found in copies:
            if held <= self._local_bytes or found.st_mtime > in_use:
                return
            path.unlink(missing_ok=True)
            held -= found.st_size

    # -- notes ---------------------------------------------------------------------------

    def note(self, key: str, value: dict[str, Any]) -> None:
        data = json.dumps(value, separators=(",", ":")).encode()
        self.bucket.put(_note_key(key), data, "application/json")

    def noted(self, key: str) -> dict[str, Any] | None:
        try:
            value = json.loads(self.bucket.get(_note_key(key)))
        except (FileNotFoundError, ValueError):
            return None
        return value if isinstance(value, dict) else None

    def keep_note(self, key: str) -> None:
        """Only if the note is old: each request to a bucket takes time."""
        age = self.bucket.age(_note_key(key))
        if age is not None and age > RENEWED_AFTER:
            self.bucket.renew(_note_key(key))

    def sweep_notes(self, older_than: float) -> int:
        old = [path for path, age in self.bucket.list("made/") if age > older_than]
        for path in old:
            self.bucket.delete(path)
        return len(old)


def _note_key(key: str) -> str:
    return f"made/{key[:2]}/{key}.json"


def _copies(folder: Path) -> Iterator[tuple[Path, os.stat_result]]:
    for path in folder.glob("??/*"):
        try:
            yield path, path.stat()
        except FileNotFoundError:
            continue

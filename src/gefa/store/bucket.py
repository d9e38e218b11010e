"""An S3-compatible bucket: as the blob store of several machines, and to publish to."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import boto3
from botocore.config import Config
from botocore.exceptions import BotoCoreError, ClientError

from gefa.core.errors import GefaError
from gefa.store.blobs import Blob, BlobStore

NOT_THERE = frozenset({"404", "NoSuchKey", "NotFound"})


class BucketError(GefaError):
    """A bucket that cannot be used: which, and what it said."""


class Bucket:
    """``s3://bucket/prefix``; ``endpoint`` is empty for AWS itself. BucketError where it cannot be
    used."""

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
            return getattr(self._client, name)(Bucket=self._bucket, Key=self._key(path), **more)
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
        """FileNotFoundError where there is none."""
        return bytes(self._call("get_object", path)["Body"].read())

    def fetch(self, path: str, target: Path) -> None:
        """Into a file, a piece at a time; FileNotFoundError where there is none."""
        body = self._call("get_object", path)["Body"]
        with target.open("wb") as file:
            for piece in body.iter_chunks(1 << 20):
                file.write(piece)

    def age(self, path: str) -> float | None:
        """Seconds since it was put; None where there is none."""
        try:
            put = self._call("head_object", path)["LastModified"]
        except FileNotFoundError:
            return None
        return float(time.time() - put.timestamp())

    def delete(self, path: str) -> None:
        self._call("delete_object", path)

    def copy(self, source: str, target: str, media_type: str, cached: str) -> None:
        """Within the bucket, without the bytes coming here."""
        self._call(
            "copy_object",
            target,
            CopySource={"Bucket": self._bucket, "Key": self._key(source)},
            ContentType=media_type,
            CacheControl=cached,
            MetadataDirective="REPLACE",
        )


def blob_key(sha256: str) -> str:
    """Where a blob lies in a bucket."""
    return f"blobs/{sha256[:2]}/{sha256}"


class BucketBlobs(BlobStore):
    """Blobs in a bucket. Each machine keeps those that it has used in its own folder, too."""

    def __init__(self, root: Path, bucket: Bucket) -> None:
        super().__init__(root)
        self.bucket = bucket

    def path(self, sha256: str) -> Path:
        """Where the blob lies here; it is fetched if it does not yet."""
        local = super().path(sha256)
        if not local.exists():
            draft = self.draft()
            try:
                draft.fill(lambda target: self.bucket.fetch(blob_key(sha256), target))
            except FileNotFoundError:
                return local
            finally:
                draft.drop()
        return local

    def put(self, data: bytes) -> Blob:
        blob = super().put(data)
        self._send(blob.sha256)
        return blob

    def _place(self, draft: Path, sha256: str, size: int) -> Blob:
        blob = super()._place(draft, sha256, size)
        self._send(sha256)
        return blob

    def _send(self, sha256: str) -> None:
        if self.bucket.age(blob_key(sha256)) is None:
            self.bucket.put(blob_key(sha256), self.local(sha256))

    def touch(self, sha256: str) -> bool:
        return super().touch(sha256) or self.bucket.age(blob_key(sha256)) is not None

    def delete(self, sha256: str, older_than: float) -> bool:
        age = self.bucket.age(blob_key(sha256))
        if not super().delete(sha256, older_than) or (age is not None and age < older_than):
            return False
        if age is not None:
            self.bucket.delete(blob_key(sha256))
        return True

    def note(self, key: str, value: dict[str, Any]) -> None:
        data = json.dumps(value, separators=(",", ":")).encode()
        self.bucket.put(f"made/{key[:2]}/{key}.json", data, "application/json")

    def noted(self, key: str) -> dict[str, Any] | None:
        try:
            value = json.loads(self.bucket.get(f"made/{key[:2]}/{key}.json"))
        except (FileNotFoundError, ValueError):
            return None
        return value if isinstance(value, dict) else None

"""Where blobs and the queue are: in the data folder, unless the environment says otherwise."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from pydantic import ValidationError, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

from gefa.core.errors import GefaError
from gefa.store.blobs import BlobStore


class Places(BaseSettings):
    """``GEFA_BLOBS`` is a folder that all machines see, or ``s3://bucket/prefix``; ``GEFA_QUEUE``
    is ``redis://host:port/number``; ``GEFA_S3_ENDPOINT`` is where a bucket is, if not at AWS;
    ``GEFA_LOCAL_COPIES`` is how many MB of a bucket a machine keeps copies of. A bucket's keys are
    taken from where AWS programs look for them."""

    model_config = SettingsConfigDict(env_prefix="GEFA_", frozen=True)

    blobs: str = ""
    queue: str = ""
    s3_endpoint: str = ""
    local_copies: int = 20_000

    @field_validator("queue")
    @classmethod
    def _redis(cls, url: str) -> str:
        if url and not url.startswith(("redis://", "rediss://", "unix://")):
            raise ValueError("a queue is redis://host:port/number")
        return url


def places() -> Places:
    """The places for blobs and queue, from the environment; GefaError if a setting is wrong."""
    try:
        return Places()
    except ValidationError as error:
        wrong = error.errors()[0]
        reason = wrong["msg"].removeprefix("Value error, ")
        raise GefaError(f"GEFA_{str(wrong['loc'][0]).upper()}: {reason}.") from error


def blobs_for(folder: Path) -> BlobStore:
    """The blob store of a data folder."""
    told = places()
    return _opened(folder, told)


@lru_cache(maxsize=4)
def _opened(folder: Path, told: Places) -> BlobStore:
    if told.blobs.startswith("s3://"):
        from gefa.store.bucket import Bucket, BucketBlobs

        return BucketBlobs(
            folder, Bucket(told.blobs, told.s3_endpoint), told.local_copies * 1_000_000
        )
    return BlobStore(Path(told.blobs) if told.blobs else folder)

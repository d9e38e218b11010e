"""The tables that the feed is searched and counted by. Triggers of the database keep them."""

from __future__ import annotations

from sqlmodel import Field, SQLModel

from gefa.store.models import UploadState


class UploadTag(SQLModel, table=True):
    """A tag of an upload."""

    __tablename__ = "upload_tag"

    tag: str = Field(primary_key=True)
    upload_id: str = Field(primary_key=True, index=True)


class UploadCount(SQLModel, table=True):
    """How many uploads of a slot are in a state, without removed ones."""

    __tablename__ = "upload_count"

    slot_id: str = Field(primary_key=True)
    state: UploadState = Field(primary_key=True)
    number: int = 0


class UploadNumber(SQLModel, table=True):
    """The number by which the full-text table ``upload_words`` knows an upload."""

    __tablename__ = "upload_number"

    number: int = Field(primary_key=True)
    upload_id: str = Field(unique=True)

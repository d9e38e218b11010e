"""The tables of an out folder: which files were placed there, and the files of its sources."""

from __future__ import annotations

from typing import Any

from sqlalchemy import BigInteger, Column
from sqlmodel import Field, SQLModel

from gefa.store.models import json_field


class PlacedFile(SQLModel, table=True):
    """A file in the out folder, made of what ``key`` names. While it was ``saved`` at that time (ns
    since 1970) and has its size, it has its bytes; 0 is not known."""

    __tablename__ = "placed_file"

    path: str = Field(primary_key=True)
    key: str = Field(index=True)
    saved: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))


class SourceFile(SQLModel, table=True):
    """The file of a source as it was read, with its time (ns) and size (bytes). ``asked`` is a
    digest of what was measured; ``elsewhere`` gives new paths of parts that the plan names by an
    older one."""

    __tablename__ = "source_file"

    source_id: str = Field(foreign_key="source.id", primary_key=True)
    saved: int = Field(sa_column=Column(BigInteger, nullable=False))
    bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    asked: str = ""
    elsewhere: dict[str, Any] = json_field(dict)

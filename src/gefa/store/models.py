"""The tables. Times are UTC; ids are random but sort by time of making."""

from __future__ import annotations

import threading
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import JSON, Column, DateTime, Index, UniqueConstraint
from sqlmodel import Field, SQLModel
from uuid6 import uuid7

from gefa.store.task_kinds import TaskKind

_ID_LOCK = threading.Lock()


def new_id() -> str:
    """31 hex digits that sort by when they were given, also within a millisecond and when the
    clock is set back (RFC 9562, version 7, without its first digit, which is 0 until 2527): ids of
    before had 11 digits of milliseconds, too. 62 of their bits are random."""
    with _ID_LOCK:  # the library remembers the last one it gave, and threads would share it
        return uuid7().hex[1:]


def now() -> datetime:
    return datetime.now(UTC)


def as_utc(time: datetime) -> datetime:
    """SQLite returns times without their zone."""
    return time if time.tzinfo else time.replace(tzinfo=UTC)


def time_field() -> Any:
    return Field(default_factory=now, sa_type=DateTime(timezone=True))


def json_field(default: Any) -> Any:
    return Field(default_factory=default, sa_column=Column(JSON, nullable=False))


class RevisionState(StrEnum):
    READING = "reading"
    READY = "ready"
    FAILED = "failed"


class TaskState(StrEnum):
    QUEUED = "queued"
    DONE = "done"
    FAILED = "failed"


class UploadState(StrEnum):
    RECEIVED = "received"
    PROCESSING = "processing"
    HELD = "held"
    LIVE = "live"
    REJECTED = "rejected"
    FAILED = "failed"


class Source(SQLModel, table=True):
    """A file somebody brought in, known by its name, which is its path within the site. ``watched``
    is the folder of the server that it comes from, if that is watched. One that was ``removed`` can
    be restored for a while."""

    __tablename__ = "source"

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str = Field(unique=True, max_length=400)
    created: datetime = time_field()
    watched: str = Field(default="", sa_column_kwargs={"server_default": ""})
    removed: datetime | None = Field(default=None, sa_type=DateTime(timezone=True), index=True)

    @property
    def folder(self) -> str:
        """Empty for the site's top folder."""
        return self.name.rpartition("/")[0]


class WatchedFolder(SQLModel, table=True):
    """A folder of the server, at an absolute path: what lies in it is brought in, called by its
    path from there."""

    __tablename__ = "watched_folder"

    path: str = Field(primary_key=True, max_length=4096)
    created: datetime = time_field()


class Revision(SQLModel, table=True):
    """One content of a source. ``survey`` is what the reader found, once it has; ``changes`` what
    is other than in the revision before."""

    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("source_id", "number"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    source_id: str = Field(foreign_key="source.id", index=True)
    number: int
    blob: str = Field(index=True)
    bytes: int
    format: str
    state: RevisionState = RevisionState.READING
    problem: str = ""
    survey: dict[str, Any] = json_field(dict)
    preview: dict[str, Any] = json_field(dict)
    changes: dict[str, Any] = Field(
        default_factory=dict, sa_column=Column(JSON, nullable=False, server_default="{}")
    )
    created: datetime = time_field()


class Step(SQLModel, table=True):
    """What something was made by a change; ``said`` tells what was done, ``who`` by whom.
    ``subject`` names a plan, a recipe, the settings of a slot or of the site; steps of one
    ``batch`` were made at once. See ``store.history``."""

    __tablename__ = "step"
    __table_args__ = (UniqueConstraint("subject", "number"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    subject: str
    number: int
    content: dict[str, Any] = json_field(dict)
    said: str = ""
    who: str = Field(default="", sa_column_kwargs={"server_default": ""})
    batch: str = Field(default="", index=True, sa_column_kwargs={"server_default": ""})
    created: datetime = time_field()


class History(SQLModel, table=True):
    """Which step of a subject counts; 0 is the empty content."""

    __tablename__ = "history"

    subject: str = Field(primary_key=True)
    number: int = 0


class StoredRecipe(SQLModel, table=True):
    """A recipe that all sources share; an empty ``content`` is none."""

    __tablename__ = "recipe"

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str = Field(unique=True, max_length=60)
    content: dict[str, Any] = json_field(dict)
    changed: datetime = time_field()


class Run(SQLModel, table=True):
    """One batch over one or many sources. ``plan`` has the recipes that they share, ``said`` what
    was left out, failed or warned about before any job, ``totals`` the sums of a finished run;
    ``who`` started it."""

    __tablename__ = "run"

    id: str = Field(default_factory=new_id, primary_key=True)
    plan: dict[str, Any] = json_field(dict)
    said: dict[str, Any] = json_field(dict)
    totals: dict[str, Any] = json_field(dict)
    who: str = Field(default="", sa_column_kwargs={"server_default": ""})
    created: datetime = time_field()
    finished: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))
    stopped: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))


class RunSource(SQLModel, table=True):
    """A source of a run, in the revision that it had, with its own ``plan``, and called as it was
    then. ``basis`` and ``recipes`` are what the run depended on, see ``store.standing``; ``basis``
    is empty where it did not run all that the plan says. The sums are of a finished run: ``served``
    and ``baseline`` as in ``Totals``, in bytes."""

    __tablename__ = "run_source"

    run_id: str = Field(foreign_key="run.id", primary_key=True)
    source_id: str = Field(foreign_key="source.id", primary_key=True, index=True)
    revision_id: str = Field(foreign_key="revision.id")
    name: str = Field(default="", sa_column_kwargs={"server_default": ""})
    plan: dict[str, Any] = json_field(dict)
    basis: str = Field(default="", sa_column_kwargs={"server_default": ""})
    recipes: dict[str, str] = Field(
        default_factory=dict, sa_column=Column(JSON, nullable=False, server_default="{}")
    )
    cuts: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    files: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    bytes: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    served: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    baseline: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    failed: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})


class Outlook(SQLModel, table=True):
    """What a run of a source would make, as it was worked out last; ``basis`` and ``recipes`` are
    what that depended on, see ``store.standing``. ``bytes`` are expected ones, ``paths`` those that
    its files would have if it were alone."""

    __tablename__ = "outlook"

    source_id: str = Field(foreign_key="source.id", primary_key=True)
    basis: str = ""
    recipes: dict[str, str] = json_field(dict)
    cuts: int = 0
    files: int = 0
    bytes: int = 0
    paths: list[str] = json_field(list)
    problem: str = ""


class Task(SQLModel, table=True):
    """Something for a worker. ``task`` is all it needs; ``report`` what it answered.

    ``source_id`` is the source of a job of a run; ``topic`` finds a job that is looked for again
    and again. ``name`` is what people call it, ``planned`` how many files it will make, ``cost``
    how much work that is, in units that only compare; ``sent`` counts how often it went into the
    queue.
    """

    __tablename__ = "job"
    __table_args__ = (
        Index("ix_job_state_sent", "state", "sent"),
        # Each task that ends asks whether others of its run are open.
        Index("ix_job_run_state", "run_id", "state"),
    )

    id: str = Field(default_factory=new_id, primary_key=True)
    kind: TaskKind
    state: TaskState = Field(default=TaskState.QUEUED, index=True)
    run_id: str | None = Field(default=None, foreign_key="run.id")
    revision_id: str | None = Field(default=None, foreign_key="revision.id", index=True)
    upload_id: str | None = Field(default=None, foreign_key="upload.id", index=True)
    source_id: str | None = Field(default=None, index=True)
    topic: str = Field(default="", index=True, sa_column_kwargs={"server_default": ""})
    position: int = 0
    name: str = Field(default="", index=True)
    planned: int = 0
    cost: float = 0.0
    task: dict[str, Any] = json_field(dict)
    report: dict[str, Any] = json_field(dict)
    problem: str = ""
    sent: int = 0
    created: datetime = time_field()


class Variant(SQLModel, table=True):
    """One file made. Its bytes are the blob ``sha256``; sizes in px.

    ``cut`` is the crop of an upload. One that is ``waiting`` is shown to reviewers only; one that
    is ``retired`` was followed by another, and is served on for a while.
    """

    __tablename__ = "variant"
    __table_args__ = (
        UniqueConstraint("run_id", "path"),
        UniqueConstraint("upload_id", "path", "sha256"),
    )

    id: str = Field(default_factory=new_id, primary_key=True)
    job_id: str = Field(foreign_key="job.id", index=True)
    run_id: str | None = Field(default=None, foreign_key="run.id", index=True)
    upload_id: str | None = Field(default=None, foreign_key="upload.id", index=True)
    cut: str
    path: str
    format: str
    width: int
    height: int
    bytes: int
    sha256: str = Field(index=True)
    quality: int | None = None
    score: float | None = None
    moves: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    untouched: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    gzip: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    reused: bool = False
    waiting: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    retired: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))


class MadeEntry(SQLModel, table=True):
    """A variant in the ledger, by the key of what it was made from; see ``MadeVariant``."""

    __tablename__ = "made"

    key: str = Field(primary_key=True)
    sha256: str
    bytes: int
    quality: int | None = None
    score: float | None = None
    limit: str = ""
    short: bool = False
    fits: bool = True
    untouched: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    gzip: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    used: datetime = Field(
        default_factory=now, sa_type=DateTime(timezone=True), index=True, nullable=False
    )


class FactsEntry(SQLModel, table=True):
    """What was measured of a cut's pixels, in the ledger; see ``CutFacts``."""

    __tablename__ = "cut_facts"

    key: str = Field(primary_key=True)
    facts: dict[str, Any] = json_field(dict)
    used: datetime = Field(
        default_factory=now, sa_type=DateTime(timezone=True), index=True, nullable=False
    )


class EstimateEntry(SQLModel, table=True):
    """What a cut's files are expected to weigh, in the ledger; see ``Estimate``."""

    __tablename__ = "cut_estimate"

    key: str = Field(primary_key=True)
    estimate: dict[str, Any] = json_field(dict)
    used: datetime = Field(
        default_factory=now, sa_type=DateTime(timezone=True), index=True, nullable=False
    )


class Installation(SQLModel, table=True):
    """Whose database this is, and when it was last in use: there is one row."""

    __tablename__ = "installation"

    id: str = Field(default_factory=new_id, primary_key=True)
    alive: datetime = time_field()


class Site(SQLModel, table=True):
    """What all slots share: there is one row. ``defaults`` are settings by name."""

    __tablename__ = "site"

    id: str = Field(default="site", primary_key=True)
    defaults: dict[str, Any] = json_field(dict)


class Slot(SQLModel, table=True):
    """A place on a site that takes uploads. ``own`` are the settings in which it is other than the
    site; ``secret`` signs what it tells."""

    __tablename__ = "slot"

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str = Field(unique=True, max_length=60)
    own: dict[str, Any] = json_field(dict)
    secret: str = ""
    created: datetime = time_field()


class SlotKey(SQLModel, table=True):
    """A key to a slot; only its SHA-256 is kept. ``rights`` are Right values."""

    __tablename__ = "slot_key"

    id: str = Field(default_factory=new_id, primary_key=True)
    slot_id: str = Field(foreign_key="slot.id", index=True)
    digest: str = Field(unique=True)
    name: str = Field(default="", max_length=80)
    rights: list[str] = json_field(list)
    created: datetime = time_field()
    used: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))
    revoked: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))


class SiteKey(SQLModel, table=True):
    """A key to the site's sources and runs; only its SHA-256 is kept. ``rights`` are SiteRight
    values."""

    __tablename__ = "site_key"

    id: str = Field(default_factory=new_id, primary_key=True)
    digest: str = Field(unique=True)
    name: str = Field(default="", max_length=80)
    rights: list[str] = json_field(list)
    created: datetime = time_field()
    used: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))
    revoked: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))


class Upload(SQLModel, table=True):
    """A picture somebody uploaded to a slot.

    ``who`` is the name of the key or of the person. The focal point is 0..1 each way;
    ``suggested`` is where it is until somebody chooses. ``treatment`` names what its files were
    made by, ``slot_treatment`` the slot's part of that: without the file and its focal point; empty
    where it is not known yet. ``said`` is what there is to tell of them. ``preview`` is the blob of
    a picture to look at, ``tiny`` a data URI to stand in. ``request`` finds it again when it is
    sent twice; ``fingerprint`` then tells whether it is the same. ``earlier`` is what it was before
    its file was replaced, while that is what is served.
    """

    __tablename__ = "upload"
    __table_args__ = (
        Index("ix_upload_feed", "removed", "id"),
        Index("ix_upload_feed_of_state", "state", "removed", "id"),
        # It also holds all that is asked for to count a slot's uploads.
        Index(
            "ix_upload_feed_of_slot",
            *("slot_id", "removed", "id", "state", "original_gone", "slot_treatment"),
        ),
    )

    id: str = Field(default_factory=new_id, primary_key=True)
    slot_id: str = Field(foreign_key="slot.id")
    who: str = Field(default="", sa_column_kwargs={"server_default": ""})
    name: str
    alt: str = ""
    decorative: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    tags: list[str] = Field(
        default_factory=list, sa_column=Column(JSON, nullable=False, server_default="[]")
    )
    focal_x: float | None = None
    focal_y: float | None = None
    zoom: float = Field(default=1.0, sa_column_kwargs={"server_default": "1"})
    suggested_x: float | None = None
    suggested_y: float | None = None
    blob: str = Field(index=True)
    bytes: int
    format: str
    width: int | None = None
    height: int | None = None
    placeholder: str = ""
    tiny: str = Field(default="", sa_column_kwargs={"server_default": ""})
    preview: str = Field(default="", sa_column_kwargs={"server_default": ""})
    state: UploadState = UploadState.RECEIVED
    problem: str = ""
    reason: str = Field(default="", sa_column_kwargs={"server_default": ""})
    said: dict[str, Any] = Field(
        default_factory=dict, sa_column=Column(JSON, nullable=False, server_default="{}")
    )
    treatment: str = Field(default="", sa_column_kwargs={"server_default": ""})
    slot_treatment: str = Field(default="", sa_column_kwargs={"server_default": ""})
    approved: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    original_gone: bool = Field(default=False, sa_column_kwargs={"server_default": "0"})
    request: str | None = Field(default=None, unique=True, index=True)
    fingerprint: str = Field(default="", sa_column_kwargs={"server_default": ""})
    earlier: dict[str, Any] = Field(
        default_factory=dict, sa_column=Column(JSON, nullable=False, server_default="{}")
    )
    created: datetime = time_field()
    removed: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))


class Resumable(SQLModel, table=True):
    """A file that arrives in pieces, ``length`` bytes in all. ``upload_id`` names its upload once
    it is complete."""

    __tablename__ = "resumable"

    id: str = Field(default_factory=new_id, primary_key=True)
    slot_id: str = Field(foreign_key="slot.id", index=True)
    key_id: str
    who: str = ""
    length: int
    described: dict[str, Any] = json_field(dict)
    upload_id: str | None = None
    created: datetime = time_field()


class Notification(SQLModel, table=True):
    """A webhook notice to ``url``. ``due`` is the time of the next try; None once the address
    accepted it, or Gefa gave up."""

    __tablename__ = "notice"

    id: str = Field(default_factory=new_id, primary_key=True)
    slot_id: str = Field(foreign_key="slot.id", index=True)
    upload_id: str
    url: str
    kind: str
    tries: int = 0
    due: datetime | None = Field(default_factory=now, sa_type=DateTime(timezone=True), index=True)
    told: datetime | None = Field(default=None, sa_type=DateTime(timezone=True))
    problem: str = ""
    created: datetime = time_field()

"""The tables of 0.1.0. Data from before is refused (``gefa.store.store``)."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "cut_estimate",
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("estimate", sa.JSON(), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index("ix_cut_estimate_used", "cut_estimate", ["used"], unique=False)
    op.create_table(
        "cut_facts",
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("facts", sa.JSON(), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index("ix_cut_facts_used", "cut_facts", ["used"], unique=False)
    op.create_table(
        "history",
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("subject"),
    )
    op.create_table(
        "installation",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("alive", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "made",
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("quality", sa.Integer(), nullable=True),
        sa.Column("score", sa.Float(), nullable=True),
        sa.Column("limit", sa.String(), nullable=False),
        sa.Column("short", sa.Boolean(), nullable=False),
        sa.Column("fits", sa.Boolean(), nullable=False),
        sa.Column("untouched", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("gzip", sa.Integer(), server_default="0", nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index("ix_made_used", "made", ["used"], unique=False)
    op.create_table(
        "person",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("name_key", sa.String(length=320), nullable=False),
        sa.Column("roles", sa.JSON(), nullable=False),
        sa.Column("passphrase", sa.String(), nullable=False),
        sa.Column("account", sa.String(), nullable=True),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("account"),
        sa.UniqueConstraint("name_key"),
    )
    op.create_table(
        "recipe",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("changed", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "run",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
        sa.Column("said", sa.JSON(), nullable=False),
        sa.Column("totals", sa.JSON(), nullable=False),
        sa.Column("who", sa.String(), server_default="", nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("finished", sa.DateTime(timezone=True), nullable=True),
        sa.Column("stopped", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "site",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("defaults", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "site_key",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("rights", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=True),
        sa.Column("revoked", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "slot",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("own", sa.JSON(), nullable=False),
        sa.Column("secret", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "source",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=400), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("watched", sa.String(), server_default="", nullable=False),
        sa.Column("removed", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_index("ix_source_removed", "source", ["removed"], unique=False)
    op.create_table(
        "step",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("said", sa.String(), nullable=False),
        sa.Column("who", sa.String(), server_default="", nullable=False),
        sa.Column("batch", sa.String(), server_default="", nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("subject", "number"),
    )
    op.create_index("ix_step_batch", "step", ["batch"], unique=False)
    op.create_table(
        "trail",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("time", sa.DateTime(timezone=True), nullable=False),
        sa.Column("who", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("detail", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_trail_kind", "trail", ["kind"], unique=False)
    op.create_table(
        "watched_folder",
        sa.Column("path", sa.String(length=4096), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("path"),
    )
    op.create_table(
        "notice",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("slot_id", sa.String(), nullable=False),
        sa.Column("upload_id", sa.String(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("due", sa.DateTime(timezone=True), nullable=True),
        sa.Column("told", sa.DateTime(timezone=True), nullable=True),
        sa.Column("problem", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["slot_id"],
            ["slot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_notice_due", "notice", ["due"], unique=False)
    op.create_index("ix_notice_slot_id", "notice", ["slot_id"], unique=False)
    op.create_table(
        "outlook",
        sa.Column("source_id", sa.String(), nullable=False),
        sa.Column("basis", sa.String(), nullable=False),
        sa.Column("recipes", sa.JSON(), nullable=False),
        sa.Column("cuts", sa.Integer(), nullable=False),
        sa.Column("files", sa.Integer(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("paths", sa.JSON(), nullable=False),
        sa.Column("problem", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["source_id"],
            ["source.id"],
        ),
        sa.PrimaryKeyConstraint("source_id"),
    )
    op.create_table(
        "person_link",
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), nullable=False),
        sa.Column("ends", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"],
            ["person.id"],
        ),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_person_link_person_id", "person_link", ["person_id"], unique=False)
    op.create_table(
        "resumable",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("slot_id", sa.String(), nullable=False),
        sa.Column("key_id", sa.String(), nullable=False),
        sa.Column("who", sa.String(), nullable=False),
        sa.Column("length", sa.Integer(), nullable=False),
        sa.Column("described", sa.JSON(), nullable=False),
        sa.Column("upload_id", sa.String(), nullable=True),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["slot_id"],
            ["slot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_resumable_slot_id", "resumable", ["slot_id"], unique=False)
    op.create_table(
        "revision",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("source_id", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("blob", sa.String(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column(
            "state", sa.Enum("READING", "READY", "FAILED", name="revisionstate"), nullable=False
        ),
        sa.Column("problem", sa.String(), nullable=False),
        sa.Column("survey", sa.JSON(), nullable=False),
        sa.Column("preview", sa.JSON(), nullable=False),
        sa.Column("changes", sa.JSON(), server_default="{}", nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["source_id"],
            ["source.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("source_id", "number"),
    )
    op.create_index("ix_revision_source_id", "revision", ["source_id"], unique=False)
    op.create_table(
        "sign_in",
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), nullable=False),
        sa.Column("device", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ends", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"],
            ["person.id"],
        ),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index("ix_sign_in_ends", "sign_in", ["ends"], unique=False)
    op.create_index("ix_sign_in_person_id", "sign_in", ["person_id"], unique=False)
    op.create_table(
        "slot_key",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("slot_id", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("rights", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=True),
        sa.Column("revoked", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["slot_id"],
            ["slot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )
    op.create_index("ix_slot_key_slot_id", "slot_key", ["slot_id"], unique=False)
    op.create_table(
        "upload",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("slot_id", sa.String(), nullable=False),
        sa.Column("who", sa.String(), server_default="", nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("alt", sa.String(), nullable=False),
        sa.Column("decorative", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("tags", sa.JSON(), server_default="[]", nullable=False),
        sa.Column("focal_x", sa.Float(), nullable=True),
        sa.Column("focal_y", sa.Float(), nullable=True),
        sa.Column("zoom", sa.Float(), server_default="1", nullable=False),
        sa.Column("suggested_x", sa.Float(), nullable=True),
        sa.Column("suggested_y", sa.Float(), nullable=True),
        sa.Column("blob", sa.String(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("width", sa.Integer(), nullable=True),
        sa.Column("height", sa.Integer(), nullable=True),
        sa.Column("placeholder", sa.String(), nullable=False),
        sa.Column("tiny", sa.String(), server_default="", nullable=False),
        sa.Column("preview", sa.String(), server_default="", nullable=False),
        sa.Column(
            "state",
            sa.Enum(
                "RECEIVED", "PROCESSING", "HELD", "LIVE", "REJECTED", "FAILED", name="uploadstate"
            ),
            nullable=False,
        ),
        sa.Column("problem", sa.String(), nullable=False),
        sa.Column("reason", sa.String(), server_default="", nullable=False),
        sa.Column("said", sa.JSON(), server_default="{}", nullable=False),
        sa.Column("treatment", sa.String(), server_default="", nullable=False),
        sa.Column("approved", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("original_gone", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("request", sa.String(), nullable=True),
        sa.Column("fingerprint", sa.String(), server_default="", nullable=False),
        sa.Column("earlier", sa.JSON(), server_default="{}", nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.Column("removed", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["slot_id"],
            ["slot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_upload_removed", "upload", ["removed"], unique=False)
    op.create_index("ix_upload_request", "upload", ["request"], unique=True)
    op.create_index("ix_upload_slot_id", "upload", ["slot_id"], unique=False)
    op.create_index("ix_upload_state", "upload", ["state"], unique=False)
    op.create_table(
        "job",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column(
            "kind",
            sa.Enum(
                "READ",
                "SHOW",
                "TAKE",
                "PDF",
                "CUT",
                "UPLOAD",
                "TRY",
                "PROOF",
                "CURVE",
                "SCORE",
                "TRIAL",
                "ESTIMATE",
                name="taskkind",
            ),
            nullable=False,
        ),
        sa.Column("state", sa.Enum("QUEUED", "DONE", "FAILED", name="taskstate"), nullable=False),
        sa.Column("run_id", sa.String(), nullable=True),
        sa.Column("revision_id", sa.String(), nullable=True),
        sa.Column("upload_id", sa.String(), nullable=True),
        sa.Column("source_id", sa.String(), nullable=True),
        sa.Column("topic", sa.String(), server_default="", nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("planned", sa.Integer(), nullable=False),
        sa.Column("cost", sa.Float(), nullable=False),
        sa.Column("task", sa.JSON(), nullable=False),
        sa.Column("report", sa.JSON(), nullable=False),
        sa.Column("problem", sa.String(), nullable=False),
        sa.Column("sent", sa.Integer(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["revision_id"],
            ["revision.id"],
        ),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["run.id"],
        ),
        sa.ForeignKeyConstraint(
            ["upload_id"],
            ["upload.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_job_name", "job", ["name"], unique=False)
    op.create_index("ix_job_revision_id", "job", ["revision_id"], unique=False)
    op.create_index("ix_job_run_id", "job", ["run_id"], unique=False)
    op.create_index("ix_job_source_id", "job", ["source_id"], unique=False)
    op.create_index("ix_job_state", "job", ["state"], unique=False)
    op.create_index("ix_job_state_sent", "job", ["state", "sent"], unique=False)
    op.create_index("ix_job_topic", "job", ["topic"], unique=False)
    op.create_index("ix_job_upload_id", "job", ["upload_id"], unique=False)
    op.create_table(
        "run_source",
        sa.Column("run_id", sa.String(), nullable=False),
        sa.Column("source_id", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), server_default="", nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
        sa.Column("basis", sa.String(), server_default="", nullable=False),
        sa.Column("recipes", sa.JSON(), server_default="{}", nullable=False),
        sa.Column("cuts", sa.Integer(), server_default="0", nullable=False),
        sa.Column("files", sa.Integer(), server_default="0", nullable=False),
        sa.Column("bytes", sa.Integer(), server_default="0", nullable=False),
        sa.Column("served", sa.Integer(), server_default="0", nullable=False),
        sa.Column("baseline", sa.Integer(), server_default="0", nullable=False),
        sa.Column("failed", sa.Boolean(), server_default="0", nullable=False),
        sa.ForeignKeyConstraint(
            ["revision_id"],
            ["revision.id"],
        ),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["run.id"],
        ),
        sa.ForeignKeyConstraint(
            ["source_id"],
            ["source.id"],
        ),
        sa.PrimaryKeyConstraint("run_id", "source_id"),
    )
    op.create_index("ix_run_source_source_id", "run_source", ["source_id"], unique=False)
    op.create_table(
        "variant",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("job_id", sa.String(), nullable=False),
        sa.Column("run_id", sa.String(), nullable=True),
        sa.Column("upload_id", sa.String(), nullable=True),
        sa.Column("cut", sa.String(), nullable=False),
        sa.Column("path", sa.String(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("quality", sa.Integer(), nullable=True),
        sa.Column("score", sa.Float(), nullable=True),
        sa.Column("moves", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("untouched", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("gzip", sa.Integer(), server_default="0", nullable=False),
        sa.Column("reused", sa.Boolean(), nullable=False),
        sa.Column("waiting", sa.Boolean(), server_default="0", nullable=False),
        sa.Column("retired", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["job_id"],
            ["job.id"],
        ),
        sa.ForeignKeyConstraint(
            ["run_id"],
            ["run.id"],
        ),
        sa.ForeignKeyConstraint(
            ["upload_id"],
            ["upload.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("run_id", "path"),
        sa.UniqueConstraint("upload_id", "path", "sha256"),
    )
    op.create_index("ix_variant_job_id", "variant", ["job_id"], unique=False)
    op.create_index("ix_variant_run_id", "variant", ["run_id"], unique=False)
    op.create_index("ix_variant_upload_id", "variant", ["upload_id"], unique=False)

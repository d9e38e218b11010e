"""An out folder remembers what was made in tables, as a server does; an index finds the open tasks of
a run."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "placed_file",
        sa.Column("path", sa.String(), primary_key=True),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("saved", sa.BigInteger(), nullable=False),
    )
    op.create_index("ix_placed_file_key", "placed_file", ["key"])
    op.drop_index("ix_job_run_id", "job")
    op.create_index("ix_job_run_state", "job", ["run_id", "state"])
    op.create_table(
        "source_file",
        sa.Column("source_id", sa.String(), sa.ForeignKey("source.id"), primary_key=True),
        sa.Column("saved", sa.BigInteger(), nullable=False),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
        sa.Column("asked", sa.String(), nullable=False),
        sa.Column("elsewhere", sa.JSON(), nullable=False),
    )

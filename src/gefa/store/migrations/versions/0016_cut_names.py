"""Jobs are found by the names of their cuts."""

from __future__ import annotations

from alembic import op


revision = '0016'
down_revision = '0015'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index('ix_job_name', 'job', ['name'])

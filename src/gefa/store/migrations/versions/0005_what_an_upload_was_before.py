"""What an upload was before its file was replaced"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0005'
down_revision = '0004'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('upload', sa.Column('earlier', sa.JSON(), server_default='{}', nullable=False))

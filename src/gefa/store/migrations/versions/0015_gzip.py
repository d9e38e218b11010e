"""What is sent of SVG files that were made is known."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0015'
down_revision = '0014'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('made', sa.Column('gzip', sa.Integer(), nullable=False, server_default='0'))
    op.add_column('variant', sa.Column('gzip', sa.Integer(), nullable=False, server_default='0'))

"""Whose database this is, and when it was last in use"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0008'
down_revision = '0007'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'installation',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('alive', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('id'),
    )


def downgrade() -> None:
    op.drop_table('installation')

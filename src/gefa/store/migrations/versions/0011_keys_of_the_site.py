"""Keys to the site's sources and runs"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0011'
down_revision = '0010'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'site_key',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('digest', sa.String(), nullable=False),
        sa.Column('name', sa.String(length=80), nullable=False),
        sa.Column('rights', sa.JSON(), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.Column('used', sa.DateTime(timezone=True), nullable=True),
        sa.Column('revoked', sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('digest'),
    )


def downgrade() -> None:
    op.drop_table('site_key')

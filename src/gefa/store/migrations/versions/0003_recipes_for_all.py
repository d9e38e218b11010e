"""Recipes that all sources share"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0003'
down_revision = '0002'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('recipe',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('name', sa.String(length=60), nullable=False),
    sa.Column('content', sa.JSON(), nullable=False),
    sa.Column('earlier', sa.JSON(), nullable=False),
    sa.Column('changed', sa.DateTime(timezone=True), nullable=False),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('name')
    )
    op.add_column('job', sa.Column('topic', sa.String(), server_default='', nullable=False))
    op.create_index('ix_job_topic', 'job', ['topic'], unique=False)


def downgrade() -> None:
    op.drop_index('ix_job_topic', 'job')
    op.drop_column('job', 'topic')
    op.drop_table('recipe')

"""The ledger of what was made; files that move; tasks found by state and number of sendings"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0006'
down_revision = '0005'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'made',
        sa.Column('key', sa.String(), nullable=False),
        sa.Column('sha256', sa.String(), nullable=False),
        sa.Column('bytes', sa.Integer(), nullable=False),
        sa.Column('quality', sa.Integer(), nullable=True),
        sa.Column('score', sa.Float(), nullable=True),
        sa.Column('limit', sa.String(), nullable=False),
        sa.Column('short', sa.Boolean(), nullable=False),
        sa.Column('fits', sa.Boolean(), nullable=False),
        sa.Column('used', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('key'),
    )
    op.create_index('ix_made_used', 'made', ['used'])
    op.create_table(
        'cut_facts',
        sa.Column('key', sa.String(), nullable=False),
        sa.Column('facts', sa.JSON(), nullable=False),
        sa.Column('used', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('key'),
    )
    op.create_index('ix_cut_facts_used', 'cut_facts', ['used'])
    op.add_column('variant', sa.Column('moves', sa.Boolean(), server_default='0', nullable=False))
    op.create_index('ix_job_state_sent', 'job', ['state', 'sent'])

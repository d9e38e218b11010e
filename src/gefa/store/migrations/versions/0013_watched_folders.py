"""Folders are watched, not single sources; outlooks know the paths that their files want, and what
they are estimated to weigh"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0013'
down_revision = '0012'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'watched_folder',
        sa.Column('path', sa.String(length=4096), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('path'),
    )
    op.execute(
        "INSERT INTO watched_folder (path, created)"
        " SELECT DISTINCT watched, CURRENT_TIMESTAMP FROM source WHERE watched != ''"
    )
    op.create_table(
        'cut_estimate',
        sa.Column('key', sa.String(), nullable=False),
        sa.Column('estimate', sa.JSON(), nullable=False),
        sa.Column('used', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('key'),
    )
    with op.batch_alter_table('job') as table:
        table.alter_column('kind', type_=sa.Enum('READ', 'SHOW', 'TAKE', 'PDF', 'CUT', 'UPLOAD', 'TRY', 'PROOF', 'CURVE', 'SCORE', 'TRIAL', 'ESTIMATE', name='taskkind'))
    op.create_index(op.f('ix_cut_estimate_used'), 'cut_estimate', ['used'])
    # They are worked out again, now with the paths.
    op.execute('DELETE FROM outlook')
    op.add_column('outlook', sa.Column('paths', sa.JSON(), nullable=False, server_default='[]'))


def downgrade() -> None:
    op.drop_column('outlook', 'paths')
    op.drop_table('cut_estimate')
    op.drop_table('watched_folder')

"""Folders are watched, not single sources; outlooks know the paths that their files want"""

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
    # They are worked out again, now with the paths.
    op.execute('DELETE FROM outlook')
    op.add_column('outlook', sa.Column('paths', sa.JSON(), nullable=False, server_default='[]'))


def downgrade() -> None:
    op.drop_column('outlook', 'paths')
    op.drop_table('watched_folder')

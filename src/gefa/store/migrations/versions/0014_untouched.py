"""Of what was made it is known whether it is the picture's own file."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0014'
down_revision = '0013'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        'made', sa.Column('untouched', sa.Boolean(), nullable=False, server_default='0')
    )
    op.add_column(
        'variant', sa.Column('untouched', sa.Boolean(), nullable=False, server_default='0')
    )

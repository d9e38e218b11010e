"""Runs of many sources"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0010'
down_revision = '0009'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'run_source',
        sa.Column('run_id', sa.String(), nullable=False),
        sa.Column('source_id', sa.String(), nullable=False),
        sa.Column('revision_id', sa.String(), nullable=False),
        sa.Column('plan', sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(['run_id'], ['run.id']),
        sa.ForeignKeyConstraint(['source_id'], ['source.id']),
        sa.ForeignKeyConstraint(['revision_id'], ['revision.id']),
        sa.PrimaryKeyConstraint('run_id', 'source_id'),
    )
    op.create_index(op.f('ix_run_source_source_id'), 'run_source', ['source_id'])
    op.execute(
        "INSERT INTO run_source (run_id, source_id, revision_id, plan)"
        " SELECT id, source_id, revision_id, '{}' FROM run"
    )
    op.add_column('job', sa.Column('source_id', sa.String(), nullable=True))
    op.create_index(op.f('ix_job_source_id'), 'job', ['source_id'])
    op.execute('UPDATE job SET source_id = (SELECT source_id FROM run WHERE run.id = job.run_id)')
    # What they were asked has another form now, and they are asked for again with a click.
    op.execute("DELETE FROM job WHERE kind = 'PDF'")
    op.drop_index('ix_run_source_id', 'run')
    with op.batch_alter_table('run') as run:
        run.add_column(sa.Column('stopped', sa.DateTime(timezone=True), nullable=True))
        run.drop_column('source_id')
        run.drop_column('revision_id')


def downgrade() -> None:
    raise NotImplementedError('runs of many sources do not fit into what was before')

"""The first tables"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0001'
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('slot',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('name', sa.String(length=60), nullable=False),
    sa.Column('recipe', sa.String(), nullable=False),
    sa.Column('max_bytes', sa.Integer(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('name')
    )
    op.create_table('source',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('name', sa.String(length=400), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('name')
    )
    op.create_table('choice',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('source_id', sa.String(), nullable=False),
    sa.Column('part', sa.String(), nullable=False),
    sa.Column('name', sa.String(), nullable=True),
    sa.Column('recipe', sa.String(), nullable=True),
    sa.Column('leave_out', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('source_id', 'part')
    )
    with op.batch_alter_table('choice', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_choice_source_id'), ['source_id'], unique=False)

    op.create_table('revision',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('source_id', sa.String(), nullable=False),
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('blob', sa.String(), nullable=False),
    sa.Column('bytes', sa.Integer(), nullable=False),
    sa.Column('format', sa.String(), nullable=False),
    sa.Column('state', sa.Enum('READING', 'READY', 'FAILED', name='revisionstate'), nullable=False),
    sa.Column('problem', sa.String(), nullable=False),
    sa.Column('survey', sa.JSON(), nullable=False),
    sa.Column('preview', sa.JSON(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('source_id', 'number')
    )
    with op.batch_alter_table('revision', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_revision_source_id'), ['source_id'], unique=False)

    op.create_table('slot_key',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('slot_id', sa.String(), nullable=False),
    sa.Column('digest', sa.String(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['slot_id'], ['slot.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('digest')
    )
    with op.batch_alter_table('slot_key', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_slot_key_slot_id'), ['slot_id'], unique=False)

    op.create_table('upload',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('slot_id', sa.String(), nullable=False),
    sa.Column('name', sa.String(), nullable=False),
    sa.Column('alt', sa.String(), nullable=False),
    sa.Column('focal_x', sa.Float(), nullable=True),
    sa.Column('focal_y', sa.Float(), nullable=True),
    sa.Column('blob', sa.String(), nullable=False),
    sa.Column('bytes', sa.Integer(), nullable=False),
    sa.Column('format', sa.String(), nullable=False),
    sa.Column('width', sa.Integer(), nullable=True),
    sa.Column('height', sa.Integer(), nullable=True),
    sa.Column('placeholder', sa.String(), nullable=False),
    sa.Column('state', sa.Enum('RECEIVED', 'PROCESSING', 'HELD', 'LIVE', 'REJECTED', 'FAILED', name='uploadstate'), nullable=False),
    sa.Column('problem', sa.String(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['slot_id'], ['slot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    with op.batch_alter_table('upload', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_upload_slot_id'), ['slot_id'], unique=False)

    op.create_table('run',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('source_id', sa.String(), nullable=False),
    sa.Column('revision_id', sa.String(), nullable=False),
    sa.Column('plan', sa.JSON(), nullable=False),
    sa.Column('said', sa.JSON(), nullable=False),
    sa.Column('totals', sa.JSON(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.Column('finished', sa.DateTime(timezone=True), nullable=True),
    sa.ForeignKeyConstraint(['revision_id'], ['revision.id'], ),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    with op.batch_alter_table('run', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_run_source_id'), ['source_id'], unique=False)

    op.create_table('job',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('kind', sa.Enum('READ', 'CUT', 'UPLOAD', name='jobkind'), nullable=False),
    sa.Column('state', sa.Enum('QUEUED', 'DONE', 'FAILED', name='jobstate'), nullable=False),
    sa.Column('run_id', sa.String(), nullable=True),
    sa.Column('revision_id', sa.String(), nullable=True),
    sa.Column('upload_id', sa.String(), nullable=True),
    sa.Column('position', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(), nullable=False),
    sa.Column('planned', sa.Integer(), nullable=False),
    sa.Column('cost', sa.Float(), nullable=False),
    sa.Column('task', sa.JSON(), nullable=False),
    sa.Column('report', sa.JSON(), nullable=False),
    sa.Column('problem', sa.String(), nullable=False),
    sa.Column('sent', sa.Integer(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['revision_id'], ['revision.id'], ),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], ),
    sa.ForeignKeyConstraint(['upload_id'], ['upload.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    with op.batch_alter_table('job', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_job_revision_id'), ['revision_id'], unique=False)
        batch_op.create_index(batch_op.f('ix_job_run_id'), ['run_id'], unique=False)
        batch_op.create_index(batch_op.f('ix_job_state'), ['state'], unique=False)
        batch_op.create_index(batch_op.f('ix_job_upload_id'), ['upload_id'], unique=False)

    op.create_table('variant',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('job_id', sa.String(), nullable=False),
    sa.Column('run_id', sa.String(), nullable=True),
    sa.Column('upload_id', sa.String(), nullable=True),
    sa.Column('cut', sa.String(), nullable=False),
    sa.Column('path', sa.String(), nullable=False),
    sa.Column('format', sa.String(), nullable=False),
    sa.Column('width', sa.Integer(), nullable=False),
    sa.Column('height', sa.Integer(), nullable=False),
    sa.Column('bytes', sa.Integer(), nullable=False),
    sa.Column('sha256', sa.String(), nullable=False),
    sa.Column('quality', sa.Integer(), nullable=True),
    sa.Column('score', sa.Float(), nullable=True),
    sa.Column('reused', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['job_id'], ['job.id'], ),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], ),
    sa.ForeignKeyConstraint(['upload_id'], ['upload.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('run_id', 'path'),
    sa.UniqueConstraint('upload_id', 'path')
    )
    with op.batch_alter_table('variant', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_variant_job_id'), ['job_id'], unique=False)
        batch_op.create_index(batch_op.f('ix_variant_run_id'), ['run_id'], unique=False)
        batch_op.create_index(batch_op.f('ix_variant_upload_id'), ['upload_id'], unique=False)



def downgrade() -> None:
    with op.batch_alter_table('variant', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_variant_upload_id'))
        batch_op.drop_index(batch_op.f('ix_variant_run_id'))
        batch_op.drop_index(batch_op.f('ix_variant_job_id'))

    op.drop_table('variant')
    with op.batch_alter_table('job', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_job_upload_id'))
        batch_op.drop_index(batch_op.f('ix_job_state'))
        batch_op.drop_index(batch_op.f('ix_job_run_id'))
        batch_op.drop_index(batch_op.f('ix_job_revision_id'))

    op.drop_table('job')
    with op.batch_alter_table('run', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_run_source_id'))

    op.drop_table('run')
    with op.batch_alter_table('upload', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_upload_slot_id'))

    op.drop_table('upload')
    with op.batch_alter_table('slot_key', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_slot_key_slot_id'))

    op.drop_table('slot_key')
    with op.batch_alter_table('revision', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_revision_source_id'))

    op.drop_table('revision')
    with op.batch_alter_table('choice', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_choice_source_id'))

    op.drop_table('choice')
    op.drop_table('source')
    op.drop_table('slot')

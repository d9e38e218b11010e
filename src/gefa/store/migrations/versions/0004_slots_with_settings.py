"""Slots with settings of their own, rights of keys, review, notices"""

from __future__ import annotations

import json
import secrets
from base64 import b64encode

import sqlalchemy as sa
from alembic import op


revision = '0004'
down_revision = '0003'
branch_labels = None
depends_on = None


def upgrade() -> None:
    _slots()
    _keys()
    _uploads()
    _variants()
    _new_tables()


def _slots() -> None:
    op.create_table('site',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('defaults', sa.JSON(), nullable=False),
    sa.Column('earlier', sa.JSON(), nullable=False),
    sa.PrimaryKeyConstraint('id')
    )
    op.add_column('slot', sa.Column('own', sa.JSON(), server_default='{}', nullable=False))
    op.add_column('slot', sa.Column('earlier', sa.JSON(), server_default='[]', nullable=False))
    op.add_column('slot', sa.Column('secret', sa.String(), server_default='', nullable=False))
    connection = op.get_bind()
    # Files keep the names and places that they had.
    plain = {'folders': 'flat', 'name': '{source}-{width}.{ext}'}
    for id, recipe, most in connection.execute(sa.text('SELECT id, recipe, max_bytes FROM slot')).all():
        own = json.dumps({'recipe': recipe, 'max_bytes': most, **plain})
        secret = 'whsec_' + b64encode(secrets.token_bytes(24)).decode()
        connection.execute(
            sa.text('UPDATE slot SET own = :own, secret = :secret WHERE id = :id'),
            {'own': own, 'id': id, 'secret': secret},
        )
    op.drop_column('slot', 'recipe')
    op.drop_column('slot', 'max_bytes')


def _keys() -> None:
    everything = '["upload", "read", "review"]'
    op.add_column('slot_key', sa.Column('name', sa.String(length=80), server_default='', nullable=False))
    op.add_column('slot_key', sa.Column('rights', sa.JSON(), server_default=everything, nullable=False))
    op.add_column('slot_key', sa.Column('used', sa.DateTime(timezone=True), nullable=True))
    op.add_column('slot_key', sa.Column('revoked', sa.DateTime(timezone=True), nullable=True))


def _uploads() -> None:
    for name, kind, default in (
        ('who', sa.String(), ''),
        ('decorative', sa.Boolean(), '0'),
        ('tags', sa.JSON(), '[]'),
        ('zoom', sa.Float(), '1'),
        ('tiny', sa.String(), ''),
        ('preview', sa.String(), ''),
        ('reason', sa.String(), ''),
        ('said', sa.JSON(), '{}'),
        ('treatment', sa.String(), ''),
        ('fingerprint', sa.String(), ''),
        ('approved', sa.Boolean(), '0'),
        ('original_gone', sa.Boolean(), '0'),
    ):
        op.add_column('upload', sa.Column(name, kind, server_default=default, nullable=False))
    for name, kind in (
        ('suggested_x', sa.Float()),
        ('suggested_y', sa.Float()),
        ('request', sa.String()),
        ('removed', sa.DateTime(timezone=True)),
    ):
        op.add_column('upload', sa.Column(name, kind, nullable=True))
    op.create_index('ix_upload_state', 'upload', ['state'], unique=False)
    op.create_index('ix_upload_removed', 'upload', ['removed'], unique=False)
    op.create_index('ix_upload_request', 'upload', ['request'], unique=True)


def _variants() -> None:
    """SQLite cannot change a constraint, so the table is copied; nothing refers to it."""
    columns = (
        'id, job_id, run_id, upload_id, cut, path, format, width, height, bytes, sha256, quality,'
        ' score, reused'
    )
    for name in ('job_id', 'run_id', 'upload_id'):
        op.drop_index(f'ix_variant_{name}', 'variant')
    op.rename_table('variant', 'variant_before')
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
    sa.Column('waiting', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('retired', sa.DateTime(timezone=True), nullable=True),
    sa.ForeignKeyConstraint(['job_id'], ['job.id'], ),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], ),
    sa.ForeignKeyConstraint(['upload_id'], ['upload.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('run_id', 'path'),
    sa.UniqueConstraint('upload_id', 'path', 'sha256')
    )
    op.execute(f'INSERT INTO variant ({columns}) SELECT {columns} FROM variant_before')
    # A slot's one crop has a name now.
    op.execute("UPDATE variant SET cut = 'whole' WHERE upload_id IS NOT NULL")
    op.drop_table('variant_before')
    for name in ('job_id', 'run_id', 'upload_id'):
        op.create_index(f'ix_variant_{name}', 'variant', [name], unique=False)


def _new_tables() -> None:
    op.create_table('resumable',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('slot_id', sa.String(), nullable=False),
    sa.Column('key_id', sa.String(), nullable=False),
    sa.Column('who', sa.String(), nullable=False),
    sa.Column('length', sa.Integer(), nullable=False),
    sa.Column('described', sa.JSON(), nullable=False),
    sa.Column('upload_id', sa.String(), nullable=True),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['slot_id'], ['slot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index('ix_resumable_slot_id', 'resumable', ['slot_id'], unique=False)
    op.create_table('notice',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('slot_id', sa.String(), nullable=False),
    sa.Column('upload_id', sa.String(), nullable=False),
    sa.Column('url', sa.String(), nullable=False),
    sa.Column('kind', sa.String(), nullable=False),
    sa.Column('tries', sa.Integer(), nullable=False),
    sa.Column('due', sa.DateTime(timezone=True), nullable=True),
    sa.Column('told', sa.DateTime(timezone=True), nullable=True),
    sa.Column('problem', sa.String(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['slot_id'], ['slot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index('ix_notice_slot_id', 'notice', ['slot_id'], unique=False)
    op.create_index('ix_notice_due', 'notice', ['due'], unique=False)


def downgrade() -> None:
    raise NotImplementedError("settings of slots do not fit into what was there before")
